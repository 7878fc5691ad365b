#pragma once

#include "photonlane/world/scene.hpp"

namespace photonlane {

/// A body where it is.
Field body_field(const RoomBody& body);

/// A solid that knows distances, as a field; with `opaque_only` without what bends light.
Field solid_field(std::shared_ptr<const Solid> solid, bool opaque_only);

}  // namespace photonlane
