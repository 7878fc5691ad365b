#pragma once

/// Names for the vectors the library uses. Right-handed, z up, one unit is one meter.

#include <Eigen/Core>
#include <algorithm>

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

/// Some pixels of a picture: a rectangle, from its upper left pixel on.
struct PixelPart {
  int x = 0, y = 0;
  Size size;
  bool operator==(const PixelPart&) const = default;
};

/// What two parts have in common; of no width or height where that is nothing.
inline PixelPart overlap(const PixelPart& one, const PixelPart& two) {
  const int x = std::max(one.x, two.x);
  const int y = std::max(one.y, two.y);
  return {x,
          y,
          {std::min(one.x + one.size.width, two.x + two.size.width) - x,
           std::min(one.y + one.size.height, two.y + two.size.height) - y}};
}

inline constexpr double pi = 3.14159265358979323846;

/// An angle given in degrees, in radians.
constexpr double degrees(double value) { return value * (pi / 180.0); }

}  // namespace photonlane
