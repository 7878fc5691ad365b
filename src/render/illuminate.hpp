#pragma once

#include "light/gloss.hpp"
#include "photonlane/lane/tally.hpp"
#include "render/job.hpp"

namespace photonlane {

/// Which pixels a batch is of, for numbers drawn at random: pixel i is (x + i % width, y + i /
/// width).
struct PixelPlace {
  int x = 0, y = 0;
  int width = 1;
  int sample = 0;
  std::uint64_t pixel(std::size_t i) const {
    return static_cast<std::uint64_t>(y + static_cast<int>(i) / width) << 32 |
           static_cast<std::uint32_t>(x + static_cast<int>(i) % width);
  }
};

/// What lanes see, and how it throws light back.
struct LookedAt {
  const Surfaces& surfaces;
  const LaneRays& rays;
  const Gloss* gloss;  ///< null: nothing does
};

/// Multiplies the colors of surfaces by the light that falls on them, by the tricks or the rays the
/// budget asks for, and adds what they throw back of it.
void illuminate(const RenderJob& job, const LightBudget& budget, const PixelPlace& place,
                const LookedAt& seen, Colors& colors, Tally& tally);

}  // namespace photonlane
