#pragma once

#include "photonlane/world/scene.hpp"

namespace photonlane {

/// A body where it is.
Field body_field(const RoomBody& body);

}  // namespace photonlane
