#pragma once

#include "io/document.hpp"
#include "photonlane/world/camera_matrices.hpp"

namespace photonlane::io {

/// The matrices of another program's camera.
void read_matrices(const Node& node, CameraMatrices& theirs);

/// What a camera's node says beside its plain values: matrices or a point to look at; once its eye
/// is known.
void finish_camera(const Node& node, Size size, Camera& camera);

/// Turns a camera toward a point, once its eye is known.
void look_at(const Node& node, const Node& target, Camera& camera);

/// All that a node says of a camera, which has what it does not say already; for a frame of a size.
void read_camera(const Node& node, Size size, Camera& camera);

}  // namespace photonlane::io
