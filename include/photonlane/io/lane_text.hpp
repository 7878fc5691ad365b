#pragma once

///   const LaneLog log = log_lane(world, camera, budget, 120, 80);
///   fputs(io::lane_summary(log, scene, world, io::frame_steps(world, camera, budget)).c_str(),
///   stdout);

#include <string>

#include "photonlane/follow/lane_log.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// What the lanes of a frame spend, to compare one pixel's with.
struct FrameSteps {
  double median = 0;  ///< steps of a pixel's own lane
  double mean = 0;    ///< steps of all lanes of a pixel, those toward lights among them
};

/// Of the same picture with fewer pixels: no side longer than 96.
FrameSteps frame_steps(const World& world, const Camera& camera, const Budget& budget);

/// What a log tells in five lines: what the pixel's lane met, where its light came from, the ways
/// of its samples (those that went alike together), what that cost beside the rest of the frame,
/// and what most of that went into.
std::string lane_summary(const LaneLog& log, const Scene& scene, const World& world,
                         const FrameSteps& frame);

/// What a log tells, a few lines a leg: where it ran, what it met, what it added to the pixel.
std::string lane_text(const LaneLog& log, const Scene& scene, const World& world);

/// The same as JSON, all of it.
std::string lane_json(const LaneLog& log, const Scene& scene, const World& world);

}  // namespace photonlane::io
