#pragma once

#include "follow/leg.hpp"
#include "shade/illuminate.hpp"
#include "trace/sight.hpp"

namespace photonlane {

class Pool;

/// The first surfaces that lanes see rather than look through.
struct Seen {
  Surfaces surfaces;
  bool kept[Surfaces::capacity];  ///< false: nothing yet, the lane goes on elsewhere
};

/// Follows the lanes of some pixels in a room through all that lets light through, and adds
/// `share` of the light they see to the sums, or starts them where these lanes are the `first`.
/// `seen`, where not null, gets the first surface of each. What goes on from there, through
/// portals, thrown back or bent, waits in the pool; without one it is not seen. Lanes of a `leg`
/// look as it says, and see no wet floors.
void look(const SceneView& view, const RoomView& here, Sight& sight, const PixelPlace& place,
          float share, bool first, Colors& sums, Seen* seen, Tally& tally, Pool* pool,
          const Leg* leg = nullptr);

}  // namespace photonlane
