#pragma once

#include <vector>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// What the frame before tells of the smooth counts of the next one's pixels.
struct PlaneTold {
  std::vector<float> counts;  ///< row by row
  /// How far those are from straight lines between the nearest pixels of the frame before; no
  /// number or infinite where not all sixteen around escaped.
  std::vector<float> bends;
};

/// Throws Error (usage) where the frame before has no smooth counts, or its window another
/// rotation.
void check_before(const PlaneBefore& before, const PlaneWindow& window);

/// Tells by cubics through four by four pixels (Keys, "Cubic convolution interpolation for digital
/// image processing", 1981), of frames that check_before() lets pass.
PlaneTold told_by(const PlaneBefore& before, const PlaneWindow& window, Size size, int threads);

/// Pixels that bend no more than that, as all around them: by chance, others do here and there.
std::vector<std::size_t> even_pixels(const std::vector<float>& bends, float most, Size size,
                                     int threads);

}  // namespace photonlane
