#pragma once

///   for (const std::string& warning : check(scene, camera, budget).warnings)
///   puts(warning.c_str());

#include <optional>
#include <string>
#include <vector>

#include "photonlane/frame/frame.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// What is in a scene, and what would look wrong.
struct SceneReport {
  int rooms = 0;
  int map_width = 0;
  int map_height = 0;
  double cell_size = 0;
  bool repeat = false;
  double wall_share = 0;       ///< of the cells
  std::int64_t openings = 0;   ///< empty cells at the edge of a map that does not repeat
  double reachable_share = 0;  ///< of the empty cells, walking from the eye
  int fields = 0;
  std::vector<std::string> solids;     ///< a line for each that is neither cells nor field
  std::size_t field_operations = 0;    ///< to evaluate all of them once
  std::vector<std::string> estimates;  ///< of distances, and how far they are trusted
  int portals = 0;                     ///< but for the ways back
  int swells = 0;
  std::optional<PlaneReport> plane;  ///< of planes, as one frame was made
  std::vector<std::string> loops;    ///< what going round by portals comes to, and which nest
  std::size_t memory_bytes = 0;      ///< of the compiled world
  double compile_ms = 0;
  std::vector<std::string> warnings;
};

/// What is wrong with where a camera's eye is: outside the map, inside a wall or a field. Cheap, so
/// that it can be said beside every frame. Throws Error (input) for a room that is not there.
std::vector<std::string> find_eye_faults(const Scene& scene, const World& world,
                                         const Camera& camera);

/// Looks at a scene from a camera: throws what compile() throws, warns of what can be traced but
/// would look wrong (an eye in a wall or a field, openings that cannot be reached, no wall at all,
/// steps longer than a cell, materials that nothing is made of, fields that change by more than
/// they say, openings that do not match, lie in one another or come out in a wall, rooms that
/// cannot be reached or left).
SceneReport check(const Scene& scene, const Camera& camera, const Budget& budget);

}  // namespace photonlane
