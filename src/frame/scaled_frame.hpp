#pragma once

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// A frame whose colors are of fewer pixels than it has (Budget::frame.scale below 1), brought up
/// to its size; other layers are made at full size.
Frame render_scaled(const World& world, const Camera& camera, const Budget& budget,
                    RenderOptions options);

}  // namespace photonlane
