#pragma once

///   const WalkScript script = io::read_walk_script("nave.yaml", file);
///   io::play_walk(file, script, "walk", {});

#include <string>
#include <vector>

#include "photonlane/io/scene_file.hpp"
#include "photonlane/walk/walk.hpp"

namespace photonlane::io {

/// Reads a walk script (YAML):
///
///   radius: 0.25
///   rate: 25
///   moves:
///     - {forward: 4, over: 2}
///     - {turn: 90, over: 1}
///     - {forward: 3, turn: -45, over: 2.5}
///     - {over: 1, cells: [{at: [16, 22], opening: 1}]}
///     - {over: 2, numbers: {lean: 30}}
///
/// Numbers are the scene's, which come to these evenly. Cells are changed by their column and row
/// from the south-west: doors are opened, others become of a material of the scene, or empty.
/// Throws Error with file, line and column for what is not one.
WalkScript read_walk_script(const std::string& path, const SceneFile& file);

/// A walk that has been played: every step with the cost of its frame.
struct WalkRecord {
  std::vector<WalkStep> steps;
  /// Of every step, the bodies of all rooms in their order.
  std::vector<std::vector<RollingBody>> bodies;
  bool has_goal = false;    ///< whether a map of the scene marks one
  std::vector<Cost> costs;  ///< compile_ms is that of the edits before the frame

  /// Index of the step whose frame took longest; costs must not be empty.
  std::size_t slowest() const;
};

/// The numbers of a scene at a time of a script.
SceneNumbers numbers_at(const SceneFile& file, const WalkScript& script, double time);

/// Plays a script in a scene, its bodies rolling meanwhile and its numbers as the script says (the
/// walker meets what was there at the start), and leaves in a folder: frame-00000.png and so on,
/// path.csv (time, room by its name, place, heading, contacts, cost), bodies.csv where there are
/// some, walk.json (a summary) and plan.png (the way over the plan). Progress and threads as in
/// RenderOptions. Throws what render() and write_png() throw; where the progress callback asks to
/// stop, the tables are written up to there before Error (cancelled) is thrown; with `resume` such
/// a run, or one that was killed, goes on where it was (see RunOptions).
WalkRecord play_walk(const SceneFile& file, const WalkScript& script, const std::string& folder,
                     RenderOptions options, bool resume = false);

/// The summary for people and for programs.
std::string walk_text(const WalkRecord& record);
std::string walk_json(const WalkRecord& record);

}  // namespace photonlane::io
