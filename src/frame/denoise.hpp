#pragma once

#include <vector>

#include "photonlane/frame/frame.hpp"

namespace photonlane {

/// The layers that denoise() goes by.
LayerSet denoise_guides();

/// Evens out noise of radiance in rounds of a filter with holes that stops at edges (Dammertz and
/// others, "Edge-Avoiding A-Trous Wavelet Transform for Fast Global Illumination Filtering", 2010):
/// of normals, of depth, and of brightness by as much as the variance of a pixel explains. Albedo
/// is taken out before and put back, so that textures stay sharp.
void denoise(const Frame& guides, const std::vector<Color>& albedo,
             const std::vector<float>& variance, int rounds, int threads,
             std::vector<Color>& light);

}  // namespace photonlane
