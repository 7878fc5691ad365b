#pragma once

#include "follow/onward.hpp"
#include "photonlane/lane/tally.hpp"
#include "trace/scene_view.hpp"

namespace photonlane {

/// Whether a lane may still cross a face of a portal or a swell, or has spent what it had for that.
bool may_pass(const SceneView& view, const RoomView& here, std::uint32_t face, const Onward& lane);

/// Takes a lane through the face it has come to, or on from where its chord in that swell ends: it
/// is at a place of this room and goes a way, of unit length.
void pass(const SceneView& view, const RoomView& here, std::uint32_t face, const Vec3d& at,
          const Vec3d& way, Onward& lane, Tally& tally);

/// What is left of light behind the fog that a lane has passed in all rooms but one; `travelled`
/// has its meters in each.
float past_other_fog(const SceneView& view, const float* travelled, std::uint32_t but, float light);

}  // namespace photonlane
