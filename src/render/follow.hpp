#pragma once

#include "render/onward.hpp"
#include "render/pixel_sums.hpp"

namespace photonlane {

/// Follows all lanes of a pool, and those that come from them, until none is left. Lanes that only
/// go through portals are traced on, leg by leg; what the others meet is looked at once enough of
/// them have met something to fill a batch.
void go_on(const RenderJob& job, Pool& pool, PixelSums& pixels, Tally& tally);

}  // namespace photonlane
