#pragma once

#include <span>
#include <vector>

#include "fractal/escape_kernel.hpp"

namespace photonlane {

/// What a plane's colors tell of points that escaped, as a number a color is looked up by; `pixel`
/// is how wide one is in the plane. Of others 0.
void plane_values(const EscapePlane& plane, const EscapeStop& stop, double pixel,
                  const EscapeEnds& ends, float* values);

/// The share of the steps, or their fraction, by which a smooth count goes on between two whole
/// ones: from 0, where z has just come to the square of the radius to that power, to 1.
double smooth_part(double x, double y, double radius, int power);

/// The colors of a plane.
class PlanePalette {
 public:
  /// `shown`: where colors are to share the pixels evenly, the values of all of them.
  PlanePalette(const EscapePlane& plane, std::span<const float> shown);

  Color of(Ending ending, float value) const;

 private:
  float even(float value) const;

  static constexpr std::size_t fine = 4096;
  std::vector<Color> colors_;  ///< once round, fine
  std::vector<float> ranks_;   ///< values at even shares of the pixels; empty: as they are
  float scale_;                ///< rounds for a unit of value
  float shift_;
  Color inside_;
  Color undecided_;
};

}  // namespace photonlane
