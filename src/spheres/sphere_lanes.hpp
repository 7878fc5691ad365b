#pragma once

#include <cmath>
#include <cstdint>
#include <limits>

#include "spheres/sphere_tree.hpp"

namespace photonlane {

/// Lanes as the kernel takes them, and what they meet: one array a quantity. What a lane meets lies
/// beyond `start` and before `limit`.
struct SphereLanes {
  static constexpr std::size_t capacity = 128;
  static constexpr std::uint32_t none = 0xffffffffu;

  std::size_t count = 0;
  bool single = true;     ///< distances are compared as floats, as the lane will be told them
  bool together = false;  ///< neighbors go the same way
  /// Meters for a meter along the lane: nodes smaller than this are not gone into, one sphere that
  /// is drawn by chance stands for all of theirs. 0: every sphere is met.
  double detail = 0;
  alignas(64) double x[capacity];
  alignas(64) double y[capacity];
  alignas(64) double z[capacity];
  alignas(64) double way_x[capacity];
  alignas(64) double way_y[capacity];
  alignas(64) double way_z[capacity];
  alignas(64) double start[capacity];
  alignas(64) double limit[capacity];

  alignas(64) std::uint32_t slot[capacity];   ///< of the sphere that is met; or none
  alignas(64) std::uint32_t steps[capacity];  ///< nodes and blocks that were looked at
  alignas(64) double t[capacity];
  alignas(64) double center_x[capacity];
  alignas(64) double center_y[capacity];
  alignas(64) double center_z[capacity];
};

/// Meets spheres: the nearest of each lane, the one of lower number where two are equally near;
/// with `any`, the first that is found. What is found, and how many steps that takes, does not
/// depend on which lanes are asked about together.
void meet_spheres(const SphereTree& tree, bool any, SphereLanes& lanes);

/// One lane, as spheres are compared with it exactly.
struct SphereLane {
  double x, y, z, way_x, way_y, way_z, start, limit;
  bool single;
};

/// Whether a lane meets a sphere within its limits, and where, in doubles. The distance from the
/// lane's line to the center is taken as a length, not as a difference of large squares (Haines,
/// Günther, Akenine-Möller, "Precision Improvements for Ray/Sphere Intersection", 2019); the root
/// that would cancel is got from the other (Press et al., "Numerical Recipes", 1992, section 5.6).
inline bool meet_exactly(const Vec3d& center, double radius, const SphereLane& lane, double* t) {
  const double x = center.x() - lane.x;
  const double y = center.y() - lane.y;
  const double z = center.z() - lane.z;
  const double square = lane.way_x * lane.way_x + lane.way_y * lane.way_y + lane.way_z * lane.way_z;
  const double along = (x * lane.way_x + y * lane.way_y + z * lane.way_z) / square;
  const double off_x = x - along * lane.way_x;
  const double off_y = y - along * lane.way_y;
  const double off_z = z - along * lane.way_z;
  const double off = std::sqrt(off_x * off_x + off_y * off_y + off_z * off_z);
  if (!(off <= radius)) return false;
  const double half = std::sqrt((radius - off) * (radius + off) / square);
  const double away = std::sqrt(x * x + y * y + z * z);
  const double product = (away - radius) * (away + radius) / square;
  const double near = along > 0 ? product / (along + half) : along - half;
  const double far = along > 0 ? along + half : product / (along - half);
  const auto within = [&](double at) {
    if (lane.single) {
      const auto told = static_cast<float>(at);
      return told > static_cast<float>(lane.start) && told < static_cast<float>(lane.limit);
    }
    return at > lane.start && at < lane.limit;
  };
  *t = near;
  if (within(near)) return true;
  *t = far;
  return within(far);
}

}  // namespace photonlane
