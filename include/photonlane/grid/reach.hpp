#pragma once

#include <vector>

#include "photonlane/grid/cell_map.hpp"

namespace photonlane {

/// Which cells can be walked to from a cell, side by side through empty ones, doors and what is
/// passable; across the edges where the map repeats. One value a cell, 1 where reached; all 0 from
/// a wall or from outside.
std::vector<std::uint8_t> reachable_cells(const CellMap& map, int from_x, int from_y);

/// The cell with the longest shortest way from a place, side by side through empty cells of a map
/// taken as not repeating; of several the first in reading order from the south-west. The place
/// itself where it is a wall or leads nowhere.
CellPlace farthest_cell(const CellMap& map, CellPlace from);

}  // namespace photonlane
