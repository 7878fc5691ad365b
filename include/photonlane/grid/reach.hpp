#pragma once

#include <vector>

#include "photonlane/grid/cell_map.hpp"

namespace photonlane {

/// Which cells can be walked to from a cell, side by side through empty ones; across the edges
/// where the map repeats. One value a cell, 1 where reached; all 0 from a wall or from outside.
std::vector<std::uint8_t> reachable_cells(const CellMap& map, int from_x, int from_y);

}  // namespace photonlane
