#pragma once

#include "grid/distance_map.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// Walks a batch of lanes through the cells of a map, by the budget's method, and tells what they
/// met: a wall, the floor, the ceiling. Walls reach from floor to ceiling. The material of a hit is
/// left to the caller.
HitBatch<float> walk_cells(const DistanceMap& map, const CellMap& cells,
                           const LaneBatch<float>& lanes, const CellBudget& budget);
HitBatch<double> walk_cells(const DistanceMap& map, const CellMap& cells,
                            const LaneBatch<double>& lanes, const CellBudget& budget);

}  // namespace photonlane
