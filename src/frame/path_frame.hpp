#pragma once

#include "frame/cost_sample.hpp"

namespace photonlane {

/// The layers that a growing frame has only where it tells them.
LayerSet told_layers();

/// A frame of path-traced light. Called by render().
Frame render_path_frame(const World& world, const Camera& camera, const Budget& budget,
                        RenderOptions options);

/// Makes some blocks of one, as sample_costs() says.
CostSample sample_paths(const World& world, const Camera& camera, const Budget& budget,
                        std::span<const PixelPart> blocks, int threads,
                        const std::function<bool(double)>& progress);

}  // namespace photonlane
