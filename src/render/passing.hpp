#pragma once

#include "render/job.hpp"
#include "render/onward.hpp"

namespace photonlane {

/// Whether a lane may still cross a face of a portal or a swell, or has spent what it had for that.
bool may_pass(const RenderJob& job, const RoomView& here, std::uint32_t face, const Onward& lane);

/// Takes a lane through the face it has come to, or on from where its chord in that swell ends: it
/// is at a place of this room and goes a way, of unit length.
void pass(const RenderJob& job, const RoomView& here, std::uint32_t face, const Vec3d& at,
          const Vec3d& way, Onward& lane, Tally& tally);

}  // namespace photonlane
