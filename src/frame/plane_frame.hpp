#pragma once

#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/frame/render.hpp"

namespace photonlane {

/// Iterates the points of a plane's window and colors them; all of them, or those that the frame
/// before does not tell.
void render_plane(const EscapePlane& plane, const PlaneWindow& window, const Budget& budget,
                  const RenderOptions& options, Frame& frame, const PlaneBefore* before = nullptr);

}  // namespace photonlane
