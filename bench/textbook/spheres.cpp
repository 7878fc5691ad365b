#include "textbook/spheres.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane::textbook {

struct SphereTree::Node {
  Box box;
  std::unique_ptr<Node> left, right;
  int* first = nullptr;
  int* last = nullptr;
};

SphereTree::SphereTree(const std::vector<Ball>& balls) : balls_(balls), order_(balls.size()) {
  for (std::size_t i = 0; i < order_.size(); ++i) order_[i] = static_cast<int>(i);
  root_ = part(order_.data(), order_.data() + order_.size());
}

SphereTree::~SphereTree() = default;

std::unique_ptr<SphereTree::Node> SphereTree::part(int* first, int* last) {
  auto node = std::make_unique<Node>();
  ++nodes_;
  const auto empty = [] {
    Box box;
    for (int a = 0; a < 3; ++a) {
      box.low[a] = 1e30f;
      box.high[a] = -1e30f;
    }
    return box;
  };
  const auto add = [](Box& box, const Ball& ball) {
    const float at[3] = {ball.x, ball.y, ball.z};
    for (int a = 0; a < 3; ++a) {
      box.low[a] = std::min(box.low[a], at[a] - ball.radius);
      box.high[a] = std::max(box.high[a], at[a] + ball.radius);
    }
  };
  const auto area = [](const Box& box) {
    const float x = box.high[0] - box.low[0];
    const float y = box.high[1] - box.low[1];
    const float z = box.high[2] - box.low[2];
    return x < 0 ? 0.0f : x * y + y * z + z * x;
  };
  const auto place = [](const Ball& ball, int axis) {
    return axis == 0 ? ball.x : axis == 1 ? ball.y : ball.z;
  };
  node->box = empty();
  float low[3] = {1e30f, 1e30f, 1e30f};
  float high[3] = {-1e30f, -1e30f, -1e30f};
  for (int* i = first; i != last; ++i) {
    const Ball& ball = balls_[static_cast<std::size_t>(*i)];
    add(node->box, ball);
    for (int a = 0; a < 3; ++a) {
      low[a] = std::min(low[a], place(ball, a));
      high[a] = std::max(high[a], place(ball, a));
    }
  }
  const auto count = static_cast<float>(last - first);
  if (last - first <= 4) {
    node->first = first;
    node->last = last;
    return node;
  }
  constexpr int bins = 32;
  float best = 1e30f;
  int best_axis = -1;
  int best_bin = 0;
  for (int axis = 0; axis < 3; ++axis) {
    if (!(high[axis] > low[axis])) continue;
    Box boxes[bins];
    int counts[bins] = {};
    for (Box& box : boxes) box = empty();
    const float scale = bins / (high[axis] - low[axis]);
    for (int* i = first; i != last; ++i) {
      const Ball& ball = balls_[static_cast<std::size_t>(*i)];
      const int bin = std::min(bins - 1, static_cast<int>((place(ball, axis) - low[axis]) * scale));
      ++counts[bin];
      add(boxes[bin], ball);
    }
    float below[bins];
    Box box = empty();
    int sum = 0;
    const auto join = [](Box& to, const Box& from) {
      for (int a = 0; a < 3; ++a) {
        to.low[a] = std::min(to.low[a], from.low[a]);
        to.high[a] = std::max(to.high[a], from.high[a]);
      }
    };
    for (int b = 0; b < bins - 1; ++b) {
      join(box, boxes[b]);
      sum += counts[b];
      below[b] = static_cast<float>(sum) * area(box);
    }
    box = empty();
    sum = 0;
    for (int b = bins - 1; b > 0; --b) {
      join(box, boxes[b]);
      sum += counts[b];
      const float cost = below[b - 1] + static_cast<float>(sum) * area(box);
      if (sum > 0 && static_cast<float>(sum) < count && cost < best) {
        best = cost;
        best_axis = axis;
        best_bin = b;
      }
    }
  }
  int* middle = first + (last - first) / 2;
  if (best_axis >= 0) {
    const float scale = bins / (high[best_axis] - low[best_axis]);
    middle = std::partition(first, last, [&](int i) {
      const Ball& ball = balls_[static_cast<std::size_t>(i)];
      return std::min(bins - 1, static_cast<int>((place(ball, best_axis) - low[best_axis]) *
                                                 scale)) < best_bin;
    });
  }
  node->left = part(first, middle);
  node->right = part(middle, last);
  return node;
}

void SphereTree::meet(const Node* node, const Ray& ray, const float* inverse, int& ball, float& t,
                      bool any) const {
  const auto enters = [&](const Node* one) {
    float in = 0;
    float out = t;
    const float from[3] = {ray.x, ray.y, ray.z};
    for (int a = 0; a < 3; ++a) {
      float near = (one->box.low[a] - from[a]) * inverse[a];
      float far = (one->box.high[a] - from[a]) * inverse[a];
      if (near > far) std::swap(near, far);
      in = std::max(in, near);
      out = std::min(out, far);
    }
    return in <= out ? in : 1e30f;
  };
  if (node->left) {
    float left = enters(node->left.get());
    float right = enters(node->right.get());
    const Node* one = node->left.get();
    const Node* two = node->right.get();
    if (right < left) {
      std::swap(left, right);
      std::swap(one, two);
    }
    if (left < 1e30f) meet(one, ray, inverse, ball, t, any);
    if (any && ball >= 0) return;
    if (right < 1e30f && right <= t) meet(two, ray, inverse, ball, t, any);
    return;
  }
  for (int* i = node->first; i != node->last; ++i) {
    const Ball& one = balls_[static_cast<std::size_t>(*i)];
    const float x = ray.x - one.x;
    const float y = ray.y - one.y;
    const float z = ray.z - one.z;
    const float b = x * ray.way_x + y * ray.way_y + z * ray.way_z;
    const float c = x * x + y * y + z * z - one.radius * one.radius;
    const float d = b * b - c;
    if (d < 0) continue;
    const float root = std::sqrt(d);
    float at = -b - root;
    if (at <= 1e-4f) at = -b + root;
    if (at > 1e-4f && at < t) {
      t = at;
      ball = *i;
      if (any) return;
    }
  }
}

int SphereTree::nearest(const Ray& ray, float& t) const {
  const float inverse[3] = {1 / ray.way_x, 1 / ray.way_y, 1 / ray.way_z};
  int ball = -1;
  t = ray.limit;
  meet(root_.get(), ray, inverse, ball, t, false);
  return ball;
}

bool SphereTree::hides(const Ray& ray) const {
  const float inverse[3] = {1 / ray.way_x, 1 / ray.way_y, 1 / ray.way_z};
  int ball = -1;
  float t = ray.limit;
  meet(root_.get(), ray, inverse, ball, t, true);
  return ball >= 0;
}

std::size_t SphereTree::bytes() const {
  // What the allocator adds is not counted.
  return nodes_ * sizeof(Node) + balls_.size() * (sizeof(Ball) + sizeof(int));
}

}  // namespace photonlane::textbook
