#include "textbook/voxels.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane::textbook {
namespace {

/// From cell to cell: distances to the next faces are added up. `cell` gives a cell's value.
template <class Cell>
std::uint8_t walk(const VoxelRay& ray, int side, float& t, const Cell& cell) {
  const float from[3] = {ray.x, ray.y, ray.z};
  const float way[3] = {ray.way_x, ray.way_y, ray.way_z};
  float in = 0;
  float out = ray.limit;
  for (int axis = 0; axis < 3; ++axis) {
    const float inverse = 1 / way[axis];
    const float one = (0 - from[axis]) * inverse;
    const float other = (static_cast<float>(side) - from[axis]) * inverse;
    in = std::max(in, std::min(one, other));
    out = std::min(out, std::max(one, other));
  }
  if (!(in < out)) return 0;
  int at[3];
  int step[3];
  float next[3];
  float more[3];
  for (int axis = 0; axis < 3; ++axis) {
    at[axis] = std::clamp(static_cast<int>(std::floor(from[axis] + in * way[axis])), 0, side - 1);
    step[axis] = way[axis] < 0 ? -1 : 1;
    more[axis] = std::abs(1 / way[axis]);
    const int face = way[axis] < 0 ? at[axis] : at[axis] + 1;
    next[axis] = (static_cast<float>(face) - from[axis]) / way[axis];
  }
  t = in;
  for (;;) {
    if (const std::uint8_t value = cell(at[0], at[1], at[2])) return value;
    int axis = next[1] < next[0] ? 1 : 0;
    if (next[2] < next[axis]) axis = 2;
    t = next[axis];
    if (t > ray.limit) return 0;
    at[axis] += step[axis];
    if (at[axis] < 0 || at[axis] >= side) return 0;
    next[axis] += more[axis];
  }
}

}  // namespace

std::uint8_t DenseVoxels::first(const VoxelRay& ray, float& t) const {
  const auto side = static_cast<std::size_t>(side_);
  return walk(ray, side_, t, [&](int x, int y, int z) {
    return cells_[(static_cast<std::size_t>(z) * side + static_cast<std::size_t>(y)) * side +
                  static_cast<std::size_t>(x)];
  });
}

struct VoxelOctree::Node {
  std::unique_ptr<Node> children[8];
  std::uint8_t value = 0;
};

VoxelOctree::VoxelOctree(int side) : side_(side), root_(std::make_unique<Node>()) {}
VoxelOctree::~VoxelOctree() = default;

void VoxelOctree::set(int x, int y, int z, std::uint8_t value) {
  Node* node = root_.get();
  for (int half = side_ / 2; half > 0; half /= 2) {
    const int child =
        ((x & half) != 0 ? 1 : 0) | ((y & half) != 0 ? 2 : 0) | ((z & half) != 0 ? 4 : 0);
    if (node->children[child] == nullptr) {
      node->children[child] = std::make_unique<Node>();
      ++nodes_;
    }
    node = node->children[child].get();
  }
  node->value = value;
}

std::uint8_t VoxelOctree::first(const VoxelRay& ray, float& t) const {
  return walk(ray, side_, t, [&](int x, int y, int z) {
    const Node* node = root_.get();
    for (int half = side_ / 2; half > 0; half /= 2) {
      const int child =
          ((x & half) != 0 ? 1 : 0) | ((y & half) != 0 ? 2 : 0) | ((z & half) != 0 ? 4 : 0);
      node = node->children[child].get();
      if (node == nullptr) return std::uint8_t{0};
    }
    return node->value;
  });
}

std::size_t VoxelOctree::bytes() const { return nodes_ * (sizeof(Node) + 8); }

}  // namespace photonlane::textbook
