#pragma once

#include "photonlane/lane/lanes.hpp"

namespace photonlane::test {

/// Lane `i` of a batch, from a place along a unit way.
template <class Number>
void aim(LaneBatch<Number>& lanes, std::size_t i, const Vec3d& from, const Vec3d& way) {
  lanes.x[i] = static_cast<Number>(from.x());
  lanes.y[i] = static_cast<Number>(from.y());
  lanes.z[i] = static_cast<Number>(from.z());
  lanes.direction_x[i] = static_cast<Number>(way.x());
  lanes.direction_y[i] = static_cast<Number>(way.y());
  lanes.direction_z[i] = static_cast<Number>(way.z());
}

template <class Number>
Vec3d from_of(const LaneBatch<Number>& lanes, std::size_t i) {
  return Vec3d(lanes.x[i], lanes.y[i], lanes.z[i]);
}
template <class Number>
Vec3d way_of(const LaneBatch<Number>& lanes, std::size_t i) {
  return Vec3d(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
}

}  // namespace photonlane::test
