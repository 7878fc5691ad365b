#pragma once

#include <functional>
#include <vector>

#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {

/// What going through a source once finds.
struct SphereSurvey {
  std::uint64_t count = 0;
  std::vector<std::uint64_t> stretches;  ///< how many each of the source's has
  Vec3d low, high;                       ///< of centers
  Vec3d surface_low, surface_high;
  double smallest = 0, largest = 0;  ///< radius
  std::uint32_t materials = 0;       ///< the greatest number of one
  std::vector<Vec3d> samples;        ///< centers, spread evenly over all
};

/// Calls `told` with what share is done. Throws Error (input) for no sphere and for numbers that
/// cannot be.
SphereSurvey survey_spheres(const SphereSource& source, int threads,
                            const std::function<void(double)>& told);

}  // namespace photonlane
