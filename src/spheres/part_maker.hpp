#pragma once

#include <cstring>
#include <vector>

#include "spheres/node_box.hpp"
#include "spheres/sphere_order.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane {

/// How spheres of a set are held while it is made: what a record of one has.
struct SphereForm {
  bool exact = false;
  bool own_radius = false;
  std::size_t material_bytes = 0;
  std::size_t color_bytes = 0;

  std::size_t bytes() const {
    return (exact ? 4 * sizeof(double) + sizeof(std::uint32_t) : 9 + (own_radius ? 2 : 0)) +
           material_bytes + color_bytes;
  }
  std::size_t material() const { return bytes() - material_bytes - color_bytes; }
  std::size_t color() const { return bytes() - color_bytes; }
};

/// A sphere's record: in doubles with its index, or three times 24 bits and the radius' code; then
/// its material and color.
struct SphereRecord {
  std::byte* at;

  template <class Value>
  void put(std::size_t offset, Value value) const {
    std::memcpy(at + offset, &value, sizeof(Value));
  }
  template <class Value>
  Value get(std::size_t offset) const {
    Value value;
    std::memcpy(&value, at + offset, sizeof(Value));
    return value;
  }
};

/// A part's spheres while it is made.
struct PartSpheres {
  std::vector<SphereKey> keys;
  std::vector<double> wide[4];
  std::vector<std::uint32_t> original;
  std::vector<std::uint16_t> radius;
  std::vector<std::uint8_t> material, color;
};

/// Blocks of a part that its leaves cannot hold, and how far the others are moved.
struct PartRest {
  std::vector<SphereEight> wide;
  std::vector<std::uint64_t> of;  ///< which blocks
  double moved = 0;
};

/// Each eight of them become one.
void join_boxes(std::vector<NodeBox>& boxes);

/// Makes parts in the arrays of a set.
class PartMaker {
 public:
  PartMaker(const SphereHead& head, const SphereArrays& arrays, const SphereForm& form,
            std::byte* bytes)
      : head_(head), arrays_(arrays), form_(form), bytes_(bytes) {}

  /// Of ordered spheres those from `which` times as many as a part holds on, whose keys count steps
  /// from `low`. Returns what they are within.
  NodeBox make(std::uint32_t part, std::size_t which, const PartSpheres& spheres,
               const std::vector<std::vector<std::uint8_t>>& axes, const Vec3d& low, double step,
               PartRest& rest) const;

 private:
  template <class Value>
  Value* array(std::uint64_t at) const {
    return reinterpret_cast<Value*>(bytes_ + at);
  }
  Vec3d center_of(const PartSpheres& spheres, const SphereKey& key, const Vec3d& low,
                  double step) const;
  double radius_of(const PartSpheres& spheres, std::uint32_t index) const;
  void place_attributes(const PartSpheres& spheres, std::uint32_t index, std::uint64_t slot) const;

  const SphereHead& head_;
  const SphereArrays& arrays_;
  const SphereForm& form_;
  std::byte* bytes_;
};

}  // namespace photonlane
