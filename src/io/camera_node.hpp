#pragma once

#include "io/document.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane::io {

/// Turns a camera toward a point, once its eye is known.
void look_at(const Node& node, const Node& target, Camera& camera);

/// All that a node says of a camera, which has what it does not say already; for a frame of a size.
void read_camera(const Node& node, Size size, Camera& camera);

}  // namespace photonlane::io
