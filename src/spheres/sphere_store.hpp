#pragma once

#include <memory>
#include <mutex>
#include <vector>

#include "photonlane/base/buffer.hpp"
#include "photonlane/spheres/sphere_set.hpp"
#include "spheres/sphere_tree.hpp"

namespace photonlane {

/// What says all of a set but its arrays; stands at the head of a file.
struct SphereHead {
  std::uint64_t count = 0;
  std::uint64_t parts = 0;
  std::uint64_t blocks = 0;
  std::uint64_t wide = 0;  ///< blocks in doubles
  std::uint32_t part_levels = 1;
  std::uint32_t exact = 0;
  std::uint32_t material_bytes = 0;  ///< of each: 0, 1 or 2
  std::uint32_t color_bytes = 0;     ///< 0 or 3
  double unit = 1;
  double smallest = 0, largest = 0;
  double moved = 0;
  double origin[3] = {};
  double low[3] = {}, high[3] = {};
  double reach = 0;

  int levels() const;
  std::uint64_t nodes(int level) const;
  std::uint64_t slots() const { return blocks * SphereTree::block; }
};

/// A set's arrays, wherever they lie: one behind the other, each on a boundary of 64 bytes.
struct SphereArrays {
  std::uint64_t nodes[SphereTree::most_levels];
  std::uint64_t first_block, held, leaves, wide, original, slot_of, materials, colors;
  std::uint64_t bytes;  ///< of all
};
/// Where they begin. Throws Error (input) for a head that cannot be.
SphereArrays arrays_of(const SphereHead& head);

class SphereStore {
 public:
  /// The number of a sphere that has no material of its own.
  static constexpr std::uint32_t no_number = 0xffff;

  /// Bytes that someone keeps, as arrays_of() has them.
  SphereStore(const SphereHead& head, std::shared_ptr<std::byte> bytes, std::size_t resident);

  /// The same arrays under another head.
  SphereStore(const SphereStore& other, const SphereHead& head)
      : SphereStore(head, other.bytes_, other.resident_) {}

  const SphereHead& head() const { return head_; }
  const SphereTree& tree() const { return tree_; }
  const std::uint32_t* held() const { return held_; }
  const std::byte* bytes() const { return bytes_.get(); }
  std::byte* bytes() { return bytes_.get(); }
  const SphereArrays& arrays() const { return arrays_; }

  std::uint32_t item_of(std::uint64_t slot) const { return tree_.item_of(slot); }
  std::uint64_t slot_of(std::uint64_t item) const {
    return slot_of_ != nullptr ? slot_of_[item] : item;
  }
  /// Throws Error (input) where numbers that say where things lie do not fit together: after it
  /// nothing outside of the arrays is looked at, whatever else they say.
  void check() const;

  /// Whether a slot has a sphere of its own: the last block of a part may be filled up.
  bool taken(std::uint64_t slot) const;
  Sphere sphere_at(std::uint64_t slot) const;
  std::uint32_t material_at(std::uint64_t slot) const {
    if (head_.material_bytes == 1) return materials_[slot];
    std::uint16_t value;
    __builtin_memcpy(&value, materials_ + 2 * slot, 2);
    return value;
  }
  std::uint32_t color_at(std::uint64_t slot) const {
    const std::uint8_t* at = colors_ + 3 * slot;
    return (std::uint32_t{at[0]} << 16) | (std::uint32_t{at[1]} << 8) | at[2];
  }
  /// Numbers of materials that occur, no_number among them; looked for once.
  const std::vector<std::uint32_t>& numbers() const;
  std::size_t memory_bytes() const { return resident_; }

  SphereSetCost cost;

 private:
  SphereHead head_;
  SphereArrays arrays_;
  std::shared_ptr<std::byte> bytes_;
  SphereTree tree_;
  const std::uint32_t* held_ = nullptr;  ///< spheres of each part
  const std::uint32_t* slot_of_ = nullptr;
  const std::uint8_t* materials_ = nullptr;
  const std::uint8_t* colors_ = nullptr;
  std::size_t resident_ = 0;
  mutable std::once_flag looked_;
  mutable std::vector<std::uint32_t> numbers_;
};

}  // namespace photonlane
