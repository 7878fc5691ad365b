#pragma once

#include "photonlane/world/camera.hpp"

namespace photonlane {

/// Turns a camera so that it looks forward, with the upper edge of its picture up; both of unit
/// length and across one another.
void turn_camera(const Vec3d& forward, const Vec3d& up, Camera& camera);

}  // namespace photonlane
