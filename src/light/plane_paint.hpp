#pragma once

#include <span>
#include <vector>

#include "fractal/escape_kernel.hpp"

namespace photonlane {

/// The steps of each point that escaped and the fraction by which they go on between two whole
/// ones: from 1, where z has just come to the radius, to 0, where it is at the radius to that
/// power. Of others anything.
void smooth_counts(const EscapePlane& plane, const EscapeStop& stop, const EscapeEnds& ends,
                   double* counts);

/// What a plane's colors tell of points that escaped, as a number a color is looked up by; `pixel`
/// is how wide one is in the plane. Of others 0.
void plane_values(const EscapePlane& plane, const EscapeStop& stop, double pixel,
                  const EscapeEnds& ends, std::vector<double>& scratch, float* values);

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
