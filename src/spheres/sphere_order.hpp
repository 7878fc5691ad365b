#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace photonlane {

/// A sphere's center in whole steps of a lattice, and which one it is.
struct alignas(16) SphereKey {
  std::uint32_t at[3];
  std::uint32_t index;
};

/// Puts spheres in the order of a tree whose nodes have no pointers: every node's range is parted
/// three times in two along the axis in which its pieces are longest, in front of a whole number of
/// children (medians, but for what is left over at the end). Equal places go by index, so that the
/// order depends on nothing but what is given.
class SphereOrder {
 public:
  /// `levels` of nodes, 8^levels blocks of so many at most. `axes[level]` gets the axes of each
  /// node.
  void order(std::span<SphereKey> keys, int levels, std::size_t block,
             std::vector<std::uint8_t>* axes);

 private:
  void order_node(SphereKey* keys, std::size_t count, int level, std::size_t node,
                  std::vector<std::uint8_t>* axes);
  /// The `left` ones that are least along an axis come first; all lie from low to high there.
  void part(SphereKey* keys, std::size_t count, std::size_t left, int axis, std::uint32_t low,
            std::uint32_t high);

  std::size_t block_ = 8;
  std::vector<SphereKey> kept_;
  std::vector<std::uint32_t> counts_;
};

}  // namespace photonlane
