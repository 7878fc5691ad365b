#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>

#include "photonlane/base/vector.hpp"

namespace photonlane {

/// Meters: places and radii are no larger.
inline constexpr double farthest_sphere = 1e6;

// How a set of spheres lies in memory and in files. Eight spheres are a block, eight blocks or
// nodes a node (Dammertz, Hanika, Keller, "Shallow Bounding Volume Hierarchies for Fast SIMD Ray
// Tracing of Incoherent Rays", 2008). Up to `most` spheres that lie together are a part, whose
// nodes stand level by level where a formula says, so that none points at another; parts are put
// together by nodes of the same kind.

/// Eight boxes, each side in so many 256ths of the whole.
struct alignas(64) SphereNode {
  float origin[3];
  std::int8_t exponent[3];  ///< boxes reach from origin + low * 2^exponent to origin + high * ...
  /// Along which axes its children were parted, two bits each: first the upper four from the
  /// lower, then pairs, then neighbors. 3 where all are on one side.
  std::uint8_t axes;
  std::uint8_t low[3][8], high[3][8];  ///< low above high along x: there is no such child

  double low_of(int axis, int child) const {
    return double{origin[axis]} + low[axis][child] * step(axis);
  }
  double high_of(int axis, int child) const {
    return double{origin[axis]} + high[axis][child] * step(axis);
  }
  bool has(int child) const { return low[0][child] <= high[0][child]; }
  double step(int axis) const {
    return std::bit_cast<double>(static_cast<std::uint64_t>(1023 + exponent[axis]) << 52);
  }
};
static_assert(sizeof(SphereNode) == 64);

/// Eight spheres: centers in 65536ths of the box that the node above has for them, radii by
/// exponent and mantissa. Where there are fewer, the last one is there several times.
struct alignas(64) SphereLeaf {
  std::uint16_t x[8], y[8], z[8], radius[8];

  /// Of radius[0]: its spheres need more digits, and stand in the wide ones at x[0] + 65536 x[1].
  static constexpr std::uint16_t wide = 0xffff;
};
static_assert(sizeof(SphereLeaf) == 64);

/// Eight spheres in doubles, in meters.
struct alignas(64) SphereEight {
  double x[8], y[8], z[8], radius[8];
};

/// Radii as shares of a unit, in 16 bits: five of exponent, eleven of mantissa.
struct SphereRadius {
  static constexpr std::uint16_t one = 30u << 11;
  /// Rounded down; nothing below the smallest.
  static std::uint16_t code(double share) {
    if (!(share > 0)) return 0;
    const auto bits = std::bit_cast<std::uint32_t>(static_cast<float>(share));
    // What the float was rounded up by is taken away again.
    const std::uint32_t down = static_cast<double>(std::bit_cast<float>(bits)) > share ? 1 : 0;
    const std::int64_t code = (static_cast<std::int64_t>(bits - down) >> 12) - offset;
    return code <= 0 ? 0 : static_cast<std::uint16_t>(code > one ? one : code);
  }
  static double share(std::uint16_t code) {
    return code == 0 ? 0 : double{std::bit_cast<float>((std::uint32_t{code} + offset) << 12)};
  }
  /// 1 is code `one`: exponent 127 of the float.
  static constexpr std::uint32_t offset = (127u << 11) - one;
};

/// A set as kernels read it.
struct SphereTree {
  static constexpr int most_levels = 16;
  static constexpr int most_part_levels = 5;
  static constexpr std::uint64_t block = 8;
  /// Spheres of a part whose nodes have so many levels.
  static constexpr std::uint64_t capacity(int part_levels) { return block << (3 * part_levels); }
  static constexpr std::uint64_t most = block << (3 * most_part_levels);

  int levels = 0;       ///< of nodes; the root stands alone in the last
  int part_levels = 0;  ///< of those, in parts
  const SphereNode* nodes[most_levels] = {};
  /// The first block of each part; with where the last one ends.
  const std::uint32_t* first_block = nullptr;
  const SphereLeaf* leaves = nullptr;  ///< null: all are wide, in order
  const SphereEight* wide = nullptr;
  std::uint64_t wide_count = 0;
  double unit = 1;                          ///< meters: radius of share 1
  const std::uint32_t* original = nullptr;  ///< index a slot's sphere had; null: its slot

  Vec3d origin{0, 0, 0};  ///< nodes count from here
  double reach = 0;       ///< meters from the middle to the farthest end
  Vec3d middle{0, 0, 0};  ///< of all
  Vec3d low{0, 0, 0}, high{0, 0, 0};

  std::uint32_t item_of(std::uint64_t slot) const {
    return original != nullptr ? original[slot] : static_cast<std::uint32_t>(slot);
  }

  /// Which block is child `child` of node `node` of level 0.
  std::uint64_t block_of(std::uint64_t node, int child) const {
    const int shift = 3 * (part_levels - 1);
    const std::uint64_t part = node >> shift;
    const std::uint64_t within = ((node - (part << shift)) << 3) + static_cast<unsigned>(child);
    return first_block[part] + within;
  }
  const SphereEight& wide_of(const SphereLeaf& leaf) const {
    const std::uint64_t at = leaf.x[0] + (std::uint64_t{leaf.x[1]} << 16);
    static constexpr SphereEight none{};
    return at < wide_count ? wide[at] : none;
  }
};

/// The spheres of a block. Compact ones lie where their box and their 65536ths say, in doubles.
SphereEight eight_of(const SphereTree& tree, std::uint64_t node, int child);

/// Calls see(level 0 node, child) for every block.
template <class See>
void for_each_block(const SphereTree& tree, std::uint64_t first_node, std::uint64_t last_node,
                    const See& see) {
  for (std::uint64_t node = first_node; node < last_node; ++node) {
    for (int child = 0; child < 8; ++child) {
      if (tree.nodes[0][node].has(child)) see(node, child);
    }
  }
}

}  // namespace photonlane
