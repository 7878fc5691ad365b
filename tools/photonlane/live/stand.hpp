#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "live/sitting.hpp"

namespace photonlane::live {

/// All that a picture is made of, as it stood at one moment.
struct Sitting::Stand {
  std::shared_ptr<const OpenScene> scene;
  Settings settings;
  Size size;
  Layer layer = Layer::color;
  double frame_ms = 33;
  int quality = 80;
  bool measuring = true;
  Drive drive;
  bool flying = false;
  double speed = 1.5, body_scale = 1;
  std::uint64_t version = 0;

  /// The settings' budget, of a size.
  Budget budget(Size of) const {
    Budget sized = settings.budget;
    sized.frame.width = of.width;
    sized.frame.height = of.height;
    return sized;
  }
  Budget budget() const { return budget(size); }
  bool grows() const {
    return settings.budget.light.transport == Transport::paths && scene->world.plane() == nullptr;
  }
};

/// Some settings turned from others. Throws what set_by_name() throws.
Settings with_changes(Settings settings, const Changes& changed);

/// The budget of a picture by which lanes go their ways one by one, and the pixel at a place from 0
/// to 1 over it: lanes of paths are told as they go where light is direct.
struct DirectLane {
  Budget budget;
  int x = 0, y = 0;
};
DirectLane direct_lane(const Sitting::Stand& stand, double x, double y);

/// What all that was tried is held against: the file's settings, and those knobs at their best that
/// were turned.
Budget best_of(const Budget& file, const std::vector<Tried>& tried);

/// All knobs of a camera and its window, to tell cameras apart.
std::string camera_words(const Camera& camera);

inline double seconds_since(Clock::time_point then) {
  return std::chrono::duration<double>(Clock::now() - then).count();
}

/// A value of a knob as it stands in a scene file.
std::string yaml_value(const KnobInfo& info, const std::string& value);

}  // namespace photonlane::live
