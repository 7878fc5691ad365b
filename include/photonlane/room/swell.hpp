#pragma once

///   scene.room().swells.push_back({.at = {0, 0, 1}, .radius = 1, .axis = {1, 0, 0}, .stretch =
///   3});

#include <span>

#include "photonlane/base/knob.hpp"
#include "photonlane/lane/budget.hpp"

namespace photonlane {

/// A ball in which space is longer, or shorter, along one axis than it looks from outside. How much
/// falls off smoothly toward its rim, where nothing is to be seen: at the share q of the radius
/// from the middle, lengths along the axis are 1 + (stretch - 1) (1 - q^2)^3 times as long. Lanes
/// bend in it; what stands in it stays where it is.
struct Swell {
  Vec3d at{0, 0, 0};
  double radius = 1;    ///< meters
  Vec3d axis{0, 0, 1};  ///< any length but none
  double stretch = 2;   ///< in the middle
};
std::span<const Knob<Swell>> swell_knobs();

/// Throws Error (input) for values out of range and an axis of no length.
void validate(const Swell& swell);

/// Throws Error (input) where the last of some swells reaches into one before it.
void check_apart(std::span<const Swell> swells);

/// A lane in a swell, in the coordinates of its room: where it is, and the covector of its way,
/// whose length by the metric there is 1.
struct BentLane {
  Vec3d place{0, 0, 0};
  Vec3d momentum{1, 0, 0};
};

/// How much longer lengths along the axis are at a place, and how that changes from place to place.
struct SwellFactor {
  double stretch = 1;
  Vec3d slope{0, 0, 0};
};
SwellFactor swell_factor(const Swell& swell, const Vec3d& place);

/// The direction a lane goes, of unit length in the room's coordinates.
Vec3d way_of(const Swell& swell, const BentLane& lane);

/// A lane that goes a way, of unit length in the room's coordinates, from a place.
BentLane bent_lane(const Swell& swell, const Vec3d& place, const Vec3d& way);

/// Twice the energy of a lane, which is 1 all along its way: the square of its covector's length.
double energy(const Swell& swell, const BentLane& lane);

struct BentStep {
  BentLane end;
  double length = 0;  ///< meters by the metric
  double next = 0;    ///< how long to try the next step
};

/// One step of a lane along the shortest way, of at most `length` meters, less where it would be
/// off by more than the tolerance, or its chord would: Hamilton's equations of the ray, by an
/// explicit Runge-Kutta pair.
BentStep bend_on(const Swell& swell, const BentLane& lane, double length, double tolerance,
                 BendMethod method = BendMethod::fifth);

}  // namespace photonlane
