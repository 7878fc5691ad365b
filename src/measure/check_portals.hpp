#pragma once

#include "photonlane/measure/check.hpp"

namespace photonlane {

/// What portals of a scene make of its space, and what of it would look wrong or trap somebody.
void check_portals(const Scene& scene, const World& world, const Camera& camera,
                   const Budget& budget, SceneReport& report);

}  // namespace photonlane
