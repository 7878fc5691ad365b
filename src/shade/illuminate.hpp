#pragma once

#include "light/gloss.hpp"
#include "photonlane/lane/tally.hpp"
#include "shade/chance.hpp"
#include "trace/scene_view.hpp"

namespace photonlane {

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
