#pragma once

///   const Moved moved = move_body(map, {.place = {1.5, 1.5}, .radius = 0.3}, {4, 0.5});

#include "photonlane/base/vector.hpp"
#include "photonlane/grid/cell_map.hpp"

namespace photonlane {

/// A round body on a map, seen from above. It stands on what is below its center.
struct Body {
  Vec2d place{0, 0};     ///< meters
  double radius = 0.25;  ///< meters
  double step = 0.3;     ///< meters: how much higher than where it stands it steps
};

/// How a move ended.
struct Moved {
  Vec2d place{0, 0};   ///< where the body is now
  int contacts = 0;    ///< how often it met a wall on the way
  Vec2d normal{0, 0};  ///< away from the wall met last; zero where none was
  double level = 0;    ///< height of what it stands on, in meters
};

/// The height of what a point stands on: the top of a low block, or 0.
double standing_level(const CellMap& map, const Vec2d& place);

/// Moves a body by `way` (meters), sliding along what it meets. It is swept along its way, so that
/// no length of a move takes it into a wall, through one, or between two that touch at a corner.
/// Doors and panes are met where they stand: an open door lets through what fits past it, and what
/// is passable is not met. Low blocks are stepped onto. The edge of a map that does not repeat is a
/// wall. A body that starts inside a wall, or is wider than where it stands, moves only where that
/// takes it no deeper. Throws Error (input) for numbers that are not finite, a radius that is not
/// above 0 or over 100 cells (the cost of a move is its square), and places and ways of over 10
/// million cells.
Moved move_body(const CellMap& map, const Body& body, const Vec2d& way);

/// How far a point on the floor is from what a body there meets, in meters, up to `most`; 0 inside.
double wall_distance(const CellMap& map, const Vec2d& place, double most);

}  // namespace photonlane
