#pragma once

/// Names for the vectors the library uses. Right-handed, z up, one unit is one meter.

#include <Eigen/Core>

namespace photonlane {

using Vec2d = Eigen::Vector2d;
using Vec3d = Eigen::Vector3d;
using Mat3d = Eigen::Matrix3d;

/// Width and height of a frame in pixels.
struct Size {
  int width = 0;
  int height = 0;
  bool operator==(const Size&) const = default;
};

inline constexpr double pi = 3.14159265358979323846;

/// An angle given in degrees, in radians.
constexpr double degrees(double value) { return value * (pi / 180.0); }

}  // namespace photonlane
