#pragma once

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

/// The outward normal of what a lane met.
struct Normal {
  float x = 0, y = 0, z = 0;
};
Normal normal_of(const Surfaces& surfaces, std::size_t i);

/// Multiplies the colors of surfaces by the light that falls on them, by the tricks or the rays the
/// budget asks for.
void illuminate(const RenderJob& job, const LightBudget& budget, const PixelPlace& place,
                const Surfaces& surfaces, Colors& colors, Tally& tally);

}  // namespace photonlane
