#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "photonlane/lane/budget.hpp"
#include "photonlane/world/camera.hpp"
#include "trace/room_view.hpp"

namespace photonlane {

class DeepRecorder;
class LaneRecorder;

struct SceneBefore;

/// A world as one frame looks at it: all that tracing, shading and following lanes ask.
struct SceneView {
  const World& world;
  const Budget& budget;
  Vec3d eye;  ///< the camera's, in its room
  std::vector<RoomView> rooms;
  std::size_t eye_room = 0;

  bool wet = false;        ///< some floor reflects
  bool glossy = false;     ///< some material throws light back or bends it
  bool emits = false;      ///< some material emits light beside its glow
  bool patterned = false;  ///< some material has a pattern
  bool panels = false;     ///< some room has upright pictures
  bool portals = false;    ///< some room has one, or a swell
  bool marches = false;    ///< some room has solids other than cells
  bool gains = false;      ///< some solid gains by company
  bool uncovers = false;   ///< how much of each pixel is backdrop is asked for
  /// Where some solid has its light in its colors: the same with those solids alone, by which light
  /// fell on them before; else null.
  std::shared_ptr<const SceneBefore> before{};
  LaneRecorder* log = nullptr;   ///< of one pixel's lanes, or none
  DeepRecorder* deep = nullptr;  ///< of what lies at which distance, or none

  /// The room the eye is in.
  const RoomView& here() const { return rooms[eye_room]; }
  /// Whether batches are looked at together, so that solids get many lanes at once; a log follows
  /// one batch at a time.
  bool in_company() const { return gains && log == nullptr; }
  /// What a sample counts in its pixel.
  float sample_share() const { return 1.0f / static_cast<float>(budget.frame.samples); }
};

/// Rooms of a world with the solids alone that have their light in their colors.
struct SceneBefore {
  std::vector<CompiledRoom> rooms;
  std::optional<SceneView> view;
};

/// A world as a camera sees it.
SceneView view_scene(const World& world, const Camera& camera, const Budget& budget);

}  // namespace photonlane
