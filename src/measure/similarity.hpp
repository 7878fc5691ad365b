#pragma once

#include <vector>

#include "photonlane/base/vector.hpp"

namespace photonlane {

/// Mean structural similarity of two images in [0, 1], row after row (Wang, Bovik, Sheikh and
/// Simoncelli, "Image Quality Assessment: From Error Visibility to Structural Similarity", 2004:
/// Gaussian window of 11 pixels, sigma 1.5). At the edges the window keeps what lies inside.
double structural_similarity(const std::vector<float>& a, const std::vector<float>& b, Size size);

}  // namespace photonlane
