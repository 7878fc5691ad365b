#pragma once

#include "trace/scene_view.hpp"

namespace photonlane {

/// Colors of surfaces by texture and pattern, evened out over what a pixel covers `reach` meters
/// from the eye, with the second material where a field's seam has one. True where some alpha is
/// below 1.
bool paint_all(const SceneView& view, const RoomView& here, const Surfaces& surfaces,
               const Reach& reach, Colors& colors);

/// Soft bodies hide as much as a lane runs inside them. True where there are any.
bool soften(const PaintTable& paint, const Surfaces& surfaces, Colors& colors);

}  // namespace photonlane
