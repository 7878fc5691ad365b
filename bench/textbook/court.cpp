#include "textbook/court.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

namespace textbook {
namespace {

Vec operator+(Vec a, Vec b) { return {a.x + b.x, a.y + b.y, a.z + b.z}; }
Vec operator-(Vec a, Vec b) { return {a.x - b.x, a.y - b.y, a.z - b.z}; }
Vec operator*(Vec a, float b) { return {a.x * b, a.y * b, a.z * b}; }
float dot(Vec a, Vec b) { return a.x * b.x + a.y * b.y + a.z * b.z; }
float length(Vec a) { return std::sqrt(dot(a, a)); }
float length(float x, float y) { return std::sqrt(x * x + y * y); }

float sphere(Vec p, float radius) { return length(p) - radius; }
float box(Vec p, Vec half, float round) {
  const Vec q{std::abs(p.x) - half.x + round, std::abs(p.y) - half.y + round,
              std::abs(p.z) - half.z + round};
  const Vec out{std::max(q.x, 0.0f), std::max(q.y, 0.0f), std::max(q.z, 0.0f)};
  return length(out) + std::min(std::max(q.x, std::max(q.y, q.z)), 0.0f) - round;
}
float cylinder(Vec p, float radius, float half, float round) {
  const float a = length(p.x, p.y) - radius + round;
  const float b = std::abs(p.z) - half + round;
  return std::min(std::max(a, b), 0.0f) + length(std::max(a, 0.0f), std::max(b, 0.0f)) - round;
}
float capsule(Vec p, float half, float radius) {
  p.z -= std::clamp(p.z, -half, half);
  return length(p) - radius;
}
float cone(Vec p, float foot, float top, float half) {
  const float r = length(p.x, p.y);
  const float out = std::max(r - (p.z < 0 ? foot : top), 0.0f);
  const float over = std::abs(p.z) - half;
  const float lean = top - foot;
  const float height = 2 * half;
  const float share = std::clamp(
      ((r - foot) * lean + (p.z + half) * height) / (lean * lean + height * height), 0.0f, 1.0f);
  const float sx = r - foot - share * lean;
  const float sz = p.z + half - share * height;
  const float sign = (sx < 0 && over < 0) ? -1.0f : 1.0f;
  const float ends = out * out + over * over;
  return sign * std::sqrt(std::min(over <= 0 && out <= 0 ? over * over : ends, sx * sx + sz * sz));
}
float torus(Vec p, float radius, float tube) {
  return length(length(p.x, p.y) - radius, p.z) - tube;
}
float blend(float a, float b, float radius) {
  const float near = std::max(radius - std::abs(a - b), 0.0f) / radius;
  return std::min(a, b) - near * near * radius * 0.25f;
}
float carve(float a, float b, float radius) { return -blend(-a, b, radius); }
Vec turned(Vec p, float rate) {
  const float c = std::cos(rate * p.z);
  const float s = std::sin(rate * p.z);
  return {c * p.x + s * p.y, c * p.y - s * p.x, p.z};
}

constexpr float rate = 1.3f;
constexpr Vec columns[4] = {{2.4f, 2.4f, 0}, {-2.4f, 2.4f, 0}, {2.4f, -2.4f, 0}, {-2.4f, -2.4f, 0}};
constexpr Vec planters[4] = {{3.6f, 0, 0}, {-3.6f, 0, 0}, {0, 3.6f, 0}, {0, -3.6f, 0}};

/// By how much turning stretches at the corners of the columns.
float turn_stretch() {
  const float shear = rate * length(0.18f, 0.18f);
  return 0.5f * shear + std::sqrt(1 + 0.25f * shear * shear);
}

template <class Distance>
std::uint64_t draw(const CourtView& view, const Distance& distance, int width, int height,
                   std::vector<Rgb>& pixels) {
  std::uint64_t asked = 0;
  const auto march = [&](Vec from, Vec way, float far) {
    float t = 0;
    while (t < far) {
      const float d = distance(from + way * t);
      ++asked;
      if (d < view.tolerance + view.growth * t) return t;
      t += d;
    }
    return far;
  };
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const float u = (2 * (static_cast<float>(x) + 0.5f)) / static_cast<float>(width) - 1;
      const float v = 1 - (2 * (static_cast<float>(y) + 0.5f)) / static_cast<float>(height);
      Vec way = view.forward + view.right * u + view.up * v;
      way = way * (1 / length(way));
      Rgb& pixel = pixels[static_cast<std::size_t>(y) * width + x];
      const float t = march(view.eye, way, view.far_limit);
      if (t >= view.far_limit) {
        pixel = view.open;
        continue;
      }
      const Vec p = view.eye + way * t;
      const float e = 1e-3f;
      Vec n{distance(p + Vec{e, 0, 0}) - distance(p - Vec{e, 0, 0}),
            distance(p + Vec{0, e, 0}) - distance(p - Vec{0, e, 0}),
            distance(p + Vec{0, 0, e}) - distance(p - Vec{0, 0, e})};
      asked += 6;
      n = n * (1 / length(n));
      float facing = std::max(dot(n, view.sun), 0.0f);
      if (facing > 0 && march(p + n * 4e-3f, view.sun, view.far_limit) < view.far_limit) facing = 0;
      const auto lit = [&](float base, float ambient, float sun) {
        return base * (1 - (1 - ambient) * (1 - sun * facing));
      };
      pixel = {lit(view.base.r, view.ambient.r, view.sunlight.r),
               lit(view.base.g, view.ambient.g, view.sunlight.g),
               lit(view.base.b, view.ambient.b, view.sunlight.b)};
    }
  }
  return asked;
}

// Nodes of the tree.

template <class Shape>
struct Leaf final : Node {
  Shape shape;
  explicit Leaf(Shape what) : shape(std::move(what)) {}
  float distance(Vec p) const override { return shape(p); }
};
using Part = std::unique_ptr<Node>;
template <class Shape>
Part leaf(Shape shape) {
  return std::make_unique<Leaf<Shape>>(std::move(shape));
}
struct Joined final : Node {
  std::vector<Part> parts;
  float radius = 0;
  float distance(Vec p) const override {
    float d = parts.front()->distance(p);
    for (std::size_t i = 1; i < parts.size(); ++i) {
      const float other = parts[i]->distance(p);
      d = radius > 0 ? blend(d, other, radius) : std::min(d, other);
    }
    return d;
  }
};
struct Carved final : Node {
  Part from, what;
  float radius = 0;
  float distance(Vec p) const override {
    return carve(from->distance(p), what->distance(p), radius);
  }
};
struct Placed final : Node {
  Vec at;
  Part part;
  float distance(Vec p) const override { return part->distance(p - at); }
};
struct Turned final : Node {
  Part part;
  float distance(Vec p) const override { return part->distance(turned(p, rate)) / turn_stretch(); }
};
struct Tiled final : Node {
  Part part;
  float distance(Vec p) const override {
    return part->distance({p.x - std::round(p.x), p.y - std::round(p.y), p.z});
  }
};
template <class... Parts>
Part joined(float radius, Parts... parts) {
  auto node = std::make_unique<Joined>();
  node->radius = radius;
  (node->parts.push_back(std::move(parts)), ...);
  return node;
}
Part carved(float radius, Part from, Part what) {
  auto node = std::make_unique<Carved>();
  node->radius = radius;
  node->from = std::move(from);
  node->what = std::move(what);
  return node;
}
Part placed(Vec at, Part part) {
  auto node = std::make_unique<Placed>();
  node->at = at;
  node->part = std::move(part);
  return node;
}

}  // namespace

float court_distance(Vec p) {
  float d = p.z + 0.03f;
  d = std::min(d, box({p.x - std::round(p.x), p.y - std::round(p.y), p.z + 0.06f},
                      {0.48f, 0.48f, 0.06f}, 0.02f));
  d = std::min(d, carve(cylinder(p - Vec{0, 0, 0.3f}, 1.4f, 0.3f, 0.05f),
                        cylinder(p - Vec{0, 0, 0.5f}, 1.2f, 0.35f, 0), 0.06f));
  const float bowl =
      carve(sphere(p - Vec{0, 0, 1.3f}, 0.6f), sphere(p - Vec{0, 0, 1.55f}, 0.62f), 0.03f);
  float column = blend(cone(p - Vec{0, 0, 0.75f}, 0.28f, 0.12f, 0.55f), bowl, 0.12f);
  column = blend(column, capsule(p - Vec{0, 0, 1.55f}, 0.3f, 0.07f), 0.12f);
  column = blend(column, sphere(p - Vec{0, 0, 2.02f}, 0.17f), 0.12f);
  d = std::min(d, column);
  for (const Vec& at : columns) {
    const Vec q = p - at;
    const float shaft =
        box(turned(q - Vec{0, 0, 1.4f}, rate), {0.18f, 0.18f, 1.3f}, 0.02f) / turn_stretch();
    d = std::min(d, blend(shaft, box(q - Vec{0, 0, 0.12f}, {0.33f, 0.33f, 0.12f}, 0.03f), 0.05f));
  }
  for (const Vec& at : planters) {
    const Vec q = p - at;
    d = std::min(d, carve(cone(q - Vec{0, 0, 0.35f}, 0.34f, 0.48f, 0.35f),
                          cylinder(q - Vec{0, 0, 0.75f}, 0.38f, 0.2f, 0), 0.03f));
    d = std::min(d, sphere(q - Vec{0, 0, 1.1f}, 0.5f));
  }
  return std::min(d, torus(p - Vec{0, 0, 2.8f}, 3.4f, 0.1f));
}

std::unique_ptr<Node> court_tree() {
  auto tile = std::make_unique<Tiled>();
  tile->part = leaf([](Vec p) {
    return box({p.x, p.y, p.z + 0.06f}, {0.48f, 0.48f, 0.06f}, 0.02f);
  });
  auto all = joined(
      0, leaf([](Vec p) { return p.z + 0.03f; }), Part(std::move(tile)),
      carved(0.06f,
             placed({0, 0, 0.3f}, leaf([](Vec p) { return cylinder(p, 1.4f, 0.3f, 0.05f); })),
             placed({0, 0, 0.5f}, leaf([](Vec p) { return cylinder(p, 1.2f, 0.35f, 0); }))),
      joined(0.12f, placed({0, 0, 0.75f}, leaf([](Vec p) { return cone(p, 0.28f, 0.12f, 0.55f); })),
             carved(0.03f, placed({0, 0, 1.3f}, leaf([](Vec p) { return sphere(p, 0.6f); })),
                    placed({0, 0, 1.55f}, leaf([](Vec p) { return sphere(p, 0.62f); }))),
             placed({0, 0, 1.55f}, leaf([](Vec p) { return capsule(p, 0.3f, 0.07f); })),
             placed({0, 0, 2.02f}, leaf([](Vec p) { return sphere(p, 0.17f); }))),
      placed({0, 0, 2.8f}, leaf([](Vec p) { return torus(p, 3.4f, 0.1f); })));
  auto& parts = static_cast<Joined&>(*all).parts;
  for (const Vec& at : columns) {
    auto shaft = std::make_unique<Turned>();
    shaft->part = leaf([](Vec p) { return box(p, {0.18f, 0.18f, 1.3f}, 0.02f); });
    parts.push_back(placed(at, joined(0.05f, placed({0, 0, 1.4f}, Part(std::move(shaft))),
                                      placed({0, 0, 0.12f}, leaf([](Vec p) {
                                               return box(p, {0.33f, 0.33f, 0.12f}, 0.03f);
                                             })))));
  }
  for (const Vec& at : planters) {
    parts.push_back(placed(
        at,
        joined(
            0,
            carved(0.03f,
                   placed({0, 0, 0.35f}, leaf([](Vec p) { return cone(p, 0.34f, 0.48f, 0.35f); })),
                   placed({0, 0, 0.75f}, leaf([](Vec p) { return cylinder(p, 0.38f, 0.2f, 0); }))),
            placed({0, 0, 1.1f}, leaf([](Vec p) { return sphere(p, 0.5f); })))));
  }
  return all;
}

std::uint64_t draw_court(const CourtView& view, int width, int height, std::vector<Rgb>& pixels) {
  return draw(view, court_distance, width, height, pixels);
}

std::uint64_t draw_court_tree(const CourtView& view, const Node& tree, int width, int height,
                              std::vector<Rgb>& pixels) {
  return draw(
      view, [&](Vec p) { return tree.distance(p); }, width, height, pixels);
}

}  // namespace textbook
