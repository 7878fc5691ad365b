#include "photonlane/plates/plate_field.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <memory>

#include "plates/plate_solid.hpp"

namespace photonlane {
namespace {

/// A flat piece of a surface with four corners in their order round it.
using Patch = std::array<Vec3d, 4>;

double square_to_edge(const Vec3d& place, const Vec3d& from, const Vec3d& to) {
  const Vec3d way = to - from;
  const double length = way.squaredNorm();
  const double t = length > 0 ? std::clamp((place - from).dot(way) / length, 0.0, 1.0) : 0;
  return (from + t * way - place).squaredNorm();
}

/// Squares of distances.
double square_to(const Vec3d& place, const Patch& patch) {
  // By the diagonals: they are not in line where there is any area.
  const Vec3d across = (patch[2] - patch[0]).cross(patch[3] - patch[1]);
  const double area = across.norm();
  if (area > 0) {
    const Vec3d normal = across / area;
    const double away = (place - patch[0]).dot(normal);
    const Vec3d on = place - away * normal;
    bool inside = true;
    for (std::size_t k = 0; k < 4 && inside; ++k) {
      const Vec3d& from = patch[k];
      inside = (patch[(k + 1) % 4] - from).cross(on - from).dot(normal) >= 0;
    }
    if (inside) return away * away;
  }
  double least = std::numeric_limits<double>::infinity();
  for (std::size_t k = 0; k < 4; ++k) {
    least = std::min(least, square_to_edge(place, patch[k], patch[(k + 1) % 4]));
  }
  return least;
}

double square_to_box(const Vec3d& place, const Bounds& box) {
  return (box.low - place).cwiseMax(place - box.high).cwiseMax(0.0).squaredNorm();
}

Bounds bounds_of(const Patch& patch) {
  Bounds box{patch[0], patch[0]};
  for (const Vec3d& corner : patch) {
    box.low = box.low.cwiseMin(corner);
    box.high = box.high.cwiseMax(corner);
  }
  return box;
}

/// Patches in a tree of boxes, halved along the longest side.
class PatchTree {
 public:
  explicit PatchTree(std::vector<Patch> patches) : patches_(std::move(patches)) {
    make(0, patches_.size());
  }

  std::size_t memory_bytes() const {
    return patches_.size() * sizeof(Patch) + nodes_.size() * sizeof(Node);
  }

  /// The least of the squares of distances to all, and of `most`.
  double nearest(const Vec3d& place, double most) const {
    std::size_t waiting[64];
    std::size_t count = 0;
    waiting[count++] = 0;
    while (count > 0) {
      const Node& node = nodes_[waiting[--count]];
      if (square_to_box(place, node.box) >= most) continue;
      if (node.second == 0) {
        for (std::size_t k = node.first; k < node.end; ++k) {
          most = std::min(most, square_to(place, patches_[k]));
        }
        continue;
      }
      // The nearer one is looked at first.
      const std::size_t one = static_cast<std::size_t>(&node - nodes_.data()) + 1;
      const bool swap =
          square_to_box(place, nodes_[one].box) > square_to_box(place, nodes_[node.second].box);
      waiting[count++] = swap ? one : node.second;
      waiting[count++] = swap ? node.second : one;
    }
    return most;
  }

 private:
  static constexpr std::size_t leaf = 4;
  struct Node {
    Bounds box;
    std::size_t first, end;
    std::size_t second = 0;  ///< of the two below; the first one follows; 0: it is a leaf
  };

  void make(std::size_t first, std::size_t end) {
    const std::size_t own = nodes_.size();
    Node node{bounds_of(patches_[first]), first, end};
    for (std::size_t k = first; k < end; ++k) {
      const Bounds box = bounds_of(patches_[k]);
      node.box.low = node.box.low.cwiseMin(box.low);
      node.box.high = node.box.high.cwiseMax(box.high);
    }
    nodes_.push_back(node);
    if (end - first <= leaf) return;
    Eigen::Index axis = 0;
    (node.box.high - node.box.low).maxCoeff(&axis);
    const std::size_t half = first + (end - first) / 2;
    const auto at = [&](std::size_t k) {
      return patches_.begin() + static_cast<std::ptrdiff_t>(k);
    };
    std::nth_element(at(first), at(half), at(end), [&](const Patch& a, const Patch& b) {
      return a[0][axis] + a[2][axis] < b[0][axis] + b[2][axis];
    });
    make(first, half);
    nodes_[own].second = nodes_.size();
    make(half, end);
  }

  std::vector<Patch> patches_;
  std::vector<Node> nodes_;
};

/// Fronts, backs and sides of what stands in a plate, as far as a box and its surroundings have
/// them.
class PatchMaker {
 public:
  PatchMaker(const PlateSolid& solid, const Bounds& near)
      : solid_(solid), lens_(solid.lens()), near_(near), size_(solid.plate().depth.size) {}

  std::vector<Patch> make() {
    for (int y = 0; y < size_.height; ++y) {
      for (int x = 0; x < size_.width; ++x) add_pixel(x, y);
    }
    return std::move(patches_);
  }

 private:
  void keep(const Patch& patch) {
    const Bounds box = bounds_of(patch);
    const bool apart = (box.low.array() > near_.high.array()).any() ||
                       (box.high.array() < near_.low.array()).any();
    if (!apart) patches_.push_back(patch);
  }

  Vec3d place(double px, double py, double z) const { return lens_.eye + z * lens_.way(px, py); }

  void add_pixel(int x, int y) {
    const double deep = solid_.plate().thickness;
    double z[4];
    const double px[4] = {x + 0.0, x + 1.0, x + 1.0, x + 0.0};
    const double py[4] = {y + 0.0, y + 0.0, y + 1.0, y + 1.0};
    for (int k = 0; k < 4; ++k) z[k] = solid_.distance_at(x, y, px[k], py[k]);
    if (!std::isfinite(z[0])) return;
    Patch front;
    Patch back;
    for (std::size_t k = 0; k < 4; ++k) {
      front[k] = place(px[k], py[k], z[k]);
      back[k] = place(px[k], py[k], z[k] + deep);
    }
    keep(front);
    keep(back);
    // Where a neighbor stands elsewhere, or nothing: what of this one's side it leaves free.
    const int beside[4][2] = {{0, -1}, {1, 0}, {0, 1}, {-1, 0}};
    for (std::size_t k = 0; k < 4; ++k) {
      const std::size_t j = (k + 1) % 4;
      const int nx = x + beside[k][0];
      const int ny = y + beside[k][1];
      const double one = solid_.distance_at(nx, ny, px[k], py[k]);
      const double two = solid_.distance_at(nx, ny, px[j], py[j]);
      const auto add = [&](double from_k, double to_k, double from_j, double to_j) {
        if (to_k <= from_k && to_j <= from_j) return;
        keep({place(px[k], py[k], from_k), place(px[j], py[j], from_j),
              place(px[j], py[j], std::max(to_j, from_j)),
              place(px[k], py[k], std::max(to_k, from_k))});
      };
      if (!std::isfinite(one)) {
        add(z[k], z[k] + deep, z[j], z[j] + deep);
      } else if (one >= z[k]) {
        add(z[k], std::min(z[k] + deep, one), z[j], std::min(z[j] + deep, std::max(two, z[j])));
      } else {
        add(std::max(z[k], one + deep), z[k] + deep, std::max(z[j], two + deep), z[j] + deep);
      }
    }
  }

  const PlateSolid& solid_;
  const PlateLens& lens_;
  Bounds near_;
  Size size_;
  std::vector<Patch> patches_;
};

/// How far a place is outside of a box, below 0 within.
double from_box(const Vec3d& place, const Bounds& box) {
  const Vec3d off = (box.low - place).cwiseMax(place - box.high);
  return off.maxCoeff() > 0 ? off.cwiseMax(0.0).norm() : off.maxCoeff();
}

}  // namespace

Field plate_field(const Plate& plate, const Bounds& box) {
  const Vec3d extent = box.high - box.low;
  if (!extent.allFinite() || !(extent.minCoeff() > 0)) {
    throw Error(ErrorKind::input, "a box without size, expected a low and a high corner");
  }
  // Materials do not matter here.
  Plate plain = plate;
  plain.material = -1;
  const auto solid = std::static_pointer_cast<const PlateSolid>(plain.compile({}));
  // Nothing farther away than the box is large is nearest to a place in it.
  const double reach = extent.norm();
  const Vec3d around = Vec3d::Constant(reach);
  const auto tree = std::make_shared<const PatchTree>([&] {
    std::vector<Patch> patches = PatchMaker(*solid, {box.low - around, box.high + around}).make();
    const auto meets = [&](const Patch& patch) {
      const Bounds own = bounds_of(patch);
      return !((own.low.array() > box.high.array()).any() ||
               (own.high.array() < box.low.array()).any());
    };
    if (std::none_of(patches.begin(), patches.end(), meets)) {
      throw Error(ErrorKind::input, "a box in which nothing of the plate stands");
    }
    return patches;
  }());
  FieldFunction function;
  function.name = "plate";
  function.bounds = box;
  function.values = [solid, tree, box, reach](const SourceBatch<double>& batch) {
    for (std::size_t i = 0; i < batch.count; ++i) {
      const Vec3d place(batch.x[i], batch.y[i], batch.z[i]);
      const double cut = from_box(place, box);
      // Far out the box alone tells enough.
      if (cut > reach) {
        batch.value[i] = cut;
        continue;
      }
      const double distance = std::sqrt(tree->nearest(place, reach * reach));
      batch.value[i] = std::max(cut, solid->within(place) ? -distance : distance);
    }
  };
  return field::function(std::move(function));
}

}  // namespace photonlane
