#pragma once

#include <cstdint>
#include <memory>
#include <unordered_map>
#include <vector>

#include "fractal/escape_kernel.hpp"
#include "fractal/far_number.hpp"
#include "fractal/orbit.hpp"

namespace photonlane {

/// Iterates the points of a window as their distances from an orbit worked out in many digits (K.
/// I. Martin, "SuperFractalThing: Perturbation and Series Approximation", 2013). An orbit nearer
/// to 0 than to the other one goes on from that one's start, and many steps together are taken
/// where they are linear within rounding (both by Zhuoran, "Another solution to perturbation
/// glitches", fractalforums.org, 2021).
class Perturbation {
 public:
  /// `reach`: how far points are from the center at most, in units of 2^power.
  Perturbation(const EscapePlane& plane, const PlaneWindow& window, const EscapeStop& stop,
               double reach, std::int64_t power, bool skips);
  ~Perturbation();

  /// Points are distances from the center, in units of 2^power.
  void iterate(const EscapeRule& rule, const EscapeStop& stop, const EscapeExtras& extras,
               const PlanePoints& points, EscapeEnds& ends) const;

  std::int64_t power() const { return power_; }

 private:
  FarComplex far_reference(std::size_t place) const;
  FarPlace far_parts(std::size_t place) const;

  struct Skips;
  class Walker;

  /// Two orbits, one behind the other: that of the center, and for a Julia set that of 0, which
  /// lanes go on from.
  std::vector<Complex> orbit_;
  std::unordered_map<std::size_t, FarPlace> tiny_;
  std::size_t first_end_ = 0;  ///< last place of the center's
  std::size_t restart_ = 0;    ///< where lanes go on
  std::size_t second_end_ = 0;
  std::int64_t power_ = 0;
  std::unique_ptr<const Skips> skips_;
};

}  // namespace photonlane
