#pragma once

#include "follow/leg.hpp"
#include "shade/illuminate.hpp"
#include "trace/sight.hpp"

namespace photonlane {

class Outbox;

/// The first surfaces that lanes see rather than look through.
struct Seen {
  Surfaces surfaces;
  bool kept[Surfaces::capacity];  ///< false: nothing yet, the lane goes on elsewhere
};

/// A batch of lanes that look from where they start, in one room.
struct Glance {
  const SceneView& view;
  const RoomView& here;
  Sight& sight;
  const PixelPlace& place;
  float share = 1;           ///< of their pixels' light that is theirs; 0: colors are not asked for
  const Leg* leg = nullptr;  ///< how they look where they do not come straight from the eye
  Seen* seen = nullptr;      ///< gets the first surface of each, where not null
  Outbox* outbox = nullptr;  ///< takes what goes on from them; without one it is not seen
};

/// Follows lanes through all that lets light through, and adds their share of the light they see
/// to the sums, or starts those where `first`. Lanes of a leg show no wet floors.
void look(const Glance& glance, bool first, Colors& sums, Tally& tally);

}  // namespace photonlane
