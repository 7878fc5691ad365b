#pragma once

#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/render/render.hpp"

namespace photonlane {

/// Iterates the points of a plane's window and colors them.
void render_plane(const EscapePlane& plane, const PlaneWindow& window, const Budget& budget,
                  const RenderOptions& options, Frame& frame);

}  // namespace photonlane
