#pragma once

#include <string>

#include "photonlane/follow/lane_log.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// What a log tells, a few lines a leg: where it ran, what it met, what it added to the pixel.
std::string lane_text(const LaneLog& log, const Scene& scene, const World& world);

/// The same as JSON, all of it.
std::string lane_json(const LaneLog& log, const Scene& scene, const World& world);

}  // namespace photonlane::io
