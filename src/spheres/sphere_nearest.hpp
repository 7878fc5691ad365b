#pragma once

#include "spheres/sphere_tree.hpp"

namespace photonlane {

/// The sphere whose surface is nearest to a place, or that it is deepest in.
struct NearestSphere {
  std::uint64_t slot = 0;
  double distance = 0;  ///< meters, below 0 inside
  Vec3d center{0, 0, 0};
  double radius = 0;
  bool found = false;
};

/// Which spheres count, by slot.
struct SphereFilter {
  const void* of = nullptr;
  bool (*counts)(const void* of, std::uint64_t slot) = nullptr;  ///< null: all do
};

NearestSphere nearest_sphere(const SphereTree& tree, const Vec3d& place,
                             const SphereFilter& filter);

}  // namespace photonlane
