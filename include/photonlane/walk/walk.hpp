#pragma once

///   WalkScript script;
///   script.moves.push_back({.forward = 3, .turn = degrees(30), .over = 2});
///   for (const WalkStep& step : walk(world, camera, script)) {
///     const Frame frame = render(world, camera_at(world, camera, step), budget);
///   }

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "photonlane/frame/render.hpp"
#include "photonlane/grid/body.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// A change of a cell during a move: a door opens or closes evenly over the move's time, anything
/// else happens at its start.
struct WalkEdit {
  CellPlace place;
  std::optional<double> opening;  ///< of the door there
  std::optional<Cell> cell;       ///< what stands there from now on
};

/// One move of a script, spread evenly over its time.
struct WalkMove {
  double forward = 0;   ///< meters along the heading
  double sideways = 0;  ///< meters to the right
  double turn = 0;      ///< radians to the left
  double over = 1;      ///< seconds
  std::vector<WalkEdit> cells;
  std::vector<std::pair<std::string, double>> numbers;  ///< of the scene, at the move's end
};
std::span<const Knob<WalkMove>> walk_move_knobs();

/// Timed moves of a round body.
struct WalkScript {
  double radius = 0.25;  ///< meters
  double step = 0.3;     ///< meters: how much higher than where it stands it steps
  double rate = 25;      ///< frames a second
  std::vector<WalkMove> moves;
};
std::span<const Knob<WalkScript>> walk_script_knobs();

/// Where the body is when a frame is taken.
struct WalkStep {
  double time = 0;  ///< seconds
  Vec2d place{0, 0};
  double heading = 0;  ///< radians
  double level = 0;    ///< meters: how much higher the eye is than the camera's

  int contacts = 0;  ///< walls met since the step before
  bool in_goal = false;
  std::size_t room = 0;  ///< of the world's
  double scale = 1;      ///< how large the body is, of what it was at the start
  int crossings = 0;     ///< portals gone through since the step before

  std::vector<CellEdit> edits;  ///< what changed in the map since the step before
};

/// Plays a script from the camera's eye and heading: a step a frame, the first at time 0, the last
/// at the end of the last move. Throws Error (input) for values out of range and for scripts of
/// more than a million frames. The map changes as the script says, and the body meets it as it is
/// at the time. Throws Error (input) for doors that are not there and cells outside the map.
std::vector<WalkStep> walk(const CellMap& map, const Camera& camera, const WalkScript& script);

/// The same through all that a world's room holds. Between fields the body is an upright capsule
/// from as high as it steps up to its eye; it slides along them, steps up and down what is no
/// higher than a step, and falls where there is more below it. In a room of fields alone `level` is
/// counted from the ground below the camera's eye; without any the body floats. It starts in the
/// camera's room and goes through portals with all it is: place, heading and size follow their map,
/// and what stands beyond an opening is met while it stands half through. In swells it goes as far
/// as the metric says. Moves change cells of the first room.
std::vector<WalkStep> walk(const World& world, const Camera& camera, const WalkScript& script);

/// The camera of a step: the eye at the body's place. Across portals, of a world: in its room.
Camera camera_at(const Camera& camera, const WalkStep& step);
Camera camera_at(const World& world, const Camera& camera, const WalkStep& step);

}  // namespace photonlane
