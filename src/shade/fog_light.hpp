#pragma once

#include "shade/illuminate.hpp"

namespace photonlane {

/// How much of the fog before each surface the sun reaches, asked at places along the lanes, more
/// of them where more of what is seen of the fog is: 1 all of it. `distance` is what fog takes for
/// the surfaces' distance.
void light_fog(const SceneView& view, const RoomView& here, const PixelPlace& place,
               const LaneRays& rays, const float* distance, float* lit, Tally& tally);

/// Takes from the sums what the fog between shows less where the sun does not reach it: what
/// add_faded added was of fog that is lit everywhere. The arguments are its.
void shade_fog(const RoomView& here, const float* distance, const float* lit, float share,
               const Through* through, std::size_t count, Colors& sums);

}  // namespace photonlane
