#pragma once

#include "light/gloss.hpp"
#include "photonlane/lane/tally.hpp"
#include "trace/scene_view.hpp"

namespace photonlane {

/// The pixel and the sample that a lane is of.
struct LanePixel {
  std::uint32_t x, y, sample;
};

/// Which pixels a batch is of, for numbers drawn at random: pixel i is (x + i % width, y + i /
/// width), or that of lane i.
struct PixelPlace {
  int x = 0, y = 0;
  int width = 1;
  int first_sample = 0;
  const LanePixel* lanes = nullptr;

  std::uint32_t column(std::size_t i) const;
  std::uint32_t row(std::size_t i) const;
  std::uint32_t sample(std::size_t i) const;
  std::uint64_t pixel(std::size_t i) const {
    return static_cast<std::uint64_t>(row(i)) << 32 | column(i);
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
void illuminate(const SceneView& view, const RoomView& here, const LightBudget& budget,
                const PixelPlace& place, const LookedAt& seen, Colors& colors, Tally& tally);

}  // namespace photonlane
