#pragma once

#include <bit>
#include <cmath>
#include <cstdint>
#include <limits>

#include "spheres/sphere_lanes.hpp"

namespace photonlane {

/// Lanes as boxes are compared with them, in floats: counted from the tree's origin, or from where
/// they come near it, where that is far.
struct BoxLanes {
  static constexpr std::size_t capacity = SphereLanes::capacity;
  alignas(64) float from[3][capacity];
  alignas(64) float inverse[3][capacity];
  alignas(64) float way[3][capacity];
  alignas(64) float doubt[capacity];     ///< meters: what floats may get wrong of a place
  alignas(64) float slack[3][capacity];  ///< in t: that
  alignas(64) float start[capacity];
  alignas(64) float limit[capacity];     ///< below all numbers: nothing is looked for any more
  alignas(64) float rounding[capacity];  ///< what t may be wrong by, beside
  alignas(64) std::int32_t steps[capacity];
  alignas(64) std::int32_t octant[capacity];
  alignas(64) double offset[capacity];  ///< t of where they are counted from
  alignas(64) double inverse_square[capacity];
  alignas(64) double tiny[capacity];  ///< meters: what doubles may get wrong

  static constexpr float never = std::numeric_limits<float>::infinity();

  /// What floats may get wrong of lane i is so many meters: slack in t, start and limit follow.
  void settle(std::size_t i, float meters, const SphereLanes& lanes) {
    float least = never;
    for (int axis = 0; axis < 3; ++axis) {
      const float length = std::abs(inverse[axis][i]);
      slack[axis][i] = meters * length;
      least = length < least ? length : least;
    }
    doubt[i] = 2 * meters;
    rounding[i] = meters * least;
    const auto from = static_cast<float>(lanes.start[i] - offset[i]);
    start[i] = from - std::abs(from) * 0x1p-22f - rounding[i];
    bound(i, lanes.limit[i]);
  }
  void bound(std::size_t i, double t) {
    // Rounded up.
    const auto near = static_cast<float>(t - offset[i]);
    limit[i] = near + std::abs(near) * 0x1p-22f + rounding[i];
  }
};

inline float power_of_two(std::int8_t exponent) {
  return std::bit_cast<float>(static_cast<std::uint32_t>(127 + exponent) << 23);
}

}  // namespace photonlane
