#pragma once

#include "photonlane/base/vector.hpp"

namespace photonlane {

/// A rigid motion with a uniform scale: x becomes scale * turn * x + shift. `turn` has no mirror.
struct Similarity {
  Eigen::Matrix3d turn = Eigen::Matrix3d::Identity();
  double scale = 1;
  Vec3d shift{0, 0, 0};

  Vec3d place(const Vec3d& x) const { return scale * (turn * x) + shift; }
  /// Of unit length as the direction given.
  Vec3d direction(const Vec3d& way) const { return turn * way; }
  /// First `first`, then this one.
  Similarity after(const Similarity& first) const {
    return {turn * first.turn, scale * first.scale, place(first.shift)};
  }
  Similarity inverse() const {
    const Eigen::Matrix3d back = turn.transpose();
    return {back, 1 / scale, -(back * shift) / scale};
  }
};

/// A place and the way it faces, as a camera's: heading counterclockwise from east, pitch above the
/// horizon, roll clockwise as one looks that way; radians.
struct Stance {
  Vec3d at{0, 0, 0};
  double heading = 0;
  double pitch = 0;
  double roll = 0;

  /// From its own axes (x ahead, y to the left, z up) to the room's.
  Similarity frame() const;
};

}  // namespace photonlane
