#pragma once

#include <cstdint>
#include <unordered_map>
#include <vector>

#include "fractal/escape_kernel.hpp"
#include "fractal/far_number.hpp"

namespace photonlane {

/// A place whose components have a power of two each: real numbers both.
struct FarPlace {
  FarComplex x, y;
};

/// The orbit of one point, worked out in so many bits and kept in doubles.
struct ReferenceOrbit {
  /// z of every step, from the start on. A component is 0 only where it is exactly that.
  std::vector<Complex> z;
  /// Those too near to 0 for doubles to be squared, but for the start; of the folded family those
  /// with a component that is.
  std::unordered_map<std::size_t, FarPlace> tiny;
  bool escaped = false;  ///< the last one is outside
};

/// The orbit of a plane's point, or where `of_zero` is set of z = 0 there. It ends where it is
/// outside, after `limit` steps, or after so many as may be kept.
ReferenceOrbit reference_orbit(const EscapePlane& plane, const DecimalPoint& point, bool of_zero,
                               std::uint64_t limit, double radius, long bits);

}  // namespace photonlane
