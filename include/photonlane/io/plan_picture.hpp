#pragma once

///   io::write_plan("plan.png", file, {.rays = 64});

#include <string>
#include <vector>

#include "photonlane/follow/lane_log.hpp"
#include "photonlane/frame/render.hpp"
#include "photonlane/io/picture.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// A place that somebody walked to, in a room; `anew`: not by a straight way from the one before.
struct PlanStep {
  Vec2d place{0, 0};
  std::size_t room = 0;
  bool anew = false;
};

/// What is drawn over a plan.
struct PlanOptions {
  int rays = 80;                  ///< level rays of the frame, evenly over its columns; 0: none
  std::vector<PlanStep> path;     ///< where somebody walked
  const LaneLog* lane = nullptr;  ///< what the lanes of a pixel did
  bool legend = true;
};

/// A scene's map, or a level cut through its fields, seen from above, north on top, with the eye,
/// its field of view and the rays of a frame: what each met, by its color. Several rooms lie side
/// by side, with their portals, their names and where they lead; with a lane, those on its way. A
/// line of a round number of meters gives the scale. Start and goal are marked. `size` is that of
/// the plan without its legend. Throws what render() throws for the camera.
Picture plan_picture(const Scene& scene, const World& world, const Camera& camera,
                     const Budget& budget, Size size, const PlanOptions& options = {});

/// Writes the plan of a scene, of its frame's size, as a PNG. Throws Error (usage) for other
/// endings.
void write_plan(const std::string& path, const SceneFile& file, const PlanOptions& options = {});

/// A map as a drawing that draw_cells() reads back: '#' for walls, '<' start, '>' goal.
std::string map_drawing(const CellMap& map);

/// A map as a picture of one pixel a cell: walls #2c3a34, empty #f2eee2, start #7fb069, goal
/// #d96c8a.
Picture map_pixels(const CellMap& map);

/// Writes a map to a file: ".txt" as a drawing, ".png" as pixels, ".yaml" as a scene of its own,
/// seen from its start. Throws Error (usage) for other endings.
void write_map(const std::string& path, const CellMap& map, const std::string& title);

}  // namespace photonlane::io
