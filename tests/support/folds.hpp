#pragma once

#include <vector>

#include "photonlane/photonlane.hpp"

namespace photonlane::test {

/// Places drawn evenly from a cube about the origin.
inline std::vector<Vec3d> scattered(std::size_t count, double reach, std::uint64_t seed = 5) {
  std::vector<Vec3d> places;
  for (std::size_t i = 0; i < count; ++i) {
    Vec3d place;
    for (int axis = 0; axis < 3; ++axis) {
      place[axis] =
          reach *
          (2 * random_uniform({.seed = seed, .pixel = i}, static_cast<std::uint32_t>(axis)) - 1);
    }
    places.push_back(place);
  }
  return places;
}

/// A box and a ball folded, all of it twice as large, and the start added, ten times.
inline Field box_ball(FoldDerivative derivative = FoldDerivative::scalar) {
  return field::iterate(
      10, {steps::box(), steps::ball(), steps::place({0, 0, 0}, {0, 0, 0}, 0.5), steps::start()},
      field::sphere(1), FoldKeep::last, derivative);
}

}  // namespace photonlane::test
