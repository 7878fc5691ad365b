#pragma once

#include <vector>

#include "lane/surfaces.hpp"
#include "light/paint.hpp"
#include "photonlane/light/material.hpp"

namespace photonlane {

/// Gives surfaces of materials with a pattern its color at their place, evened out where a pixel is
/// wider than it. `eye` is where places are counted from, `pixel_angle` a pixel's width at 1 m,
/// `reach` how far each surface is from the eye.
void lay_patterns(const Surfaces& surfaces, const std::vector<Material>& materials,
                  const Vec3d& eye, float pixel_angle, const Reach& reach, Colors& colors);

}  // namespace photonlane
