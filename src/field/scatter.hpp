#pragma once

#include <vector>

#include "photonlane/base/random.hpp"
#include "photonlane/field/source.hpp"

namespace photonlane {

/// Places drawn evenly from a box, the same each time.
inline std::vector<Vec3d> places_in(const Bounds& box, std::size_t count, std::uint64_t seed) {
  std::vector<Vec3d> places;
  places.reserve(count);
  for (std::size_t i = 0; i < count; ++i) {
    Vec3d place;
    for (int axis = 0; axis < 3; ++axis) {
      place[axis] = box.low[axis] + (box.high[axis] - box.low[axis]) *
                                        random_uniform({.seed = seed, .pixel = i},
                                                       static_cast<std::uint32_t>(axis));
    }
    places.push_back(place);
  }
  return places;
}

}  // namespace photonlane
