#pragma once

#include <functional>
#include <span>
#include <vector>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// What some blocks of a frame of rooms take, without the rest.
struct CostSample {
  double setup_ms = 0;  ///< of the frame, once
  double cast_ms = 0;   ///< of threads: casting the columns of the whole frame
  /// Of a thread, for each block: all that its pixels' lanes take, and what goes on from them.
  std::vector<double> block_ms;
};

/// How large such blocks are: as many pixels as are worked at together in the whole frame.
Size cost_block(const World& world, const Camera& camera, const Budget& budget);

/// Makes blocks of that size, which begin at multiples of it, as they are made in the whole frame.
/// `progress` as in RenderOptions.
CostSample sample_costs(const World& world, const Camera& camera, const Budget& budget,
                        std::span<const PixelPart> blocks, int threads,
                        const std::function<bool(double)>& progress);

}  // namespace photonlane
