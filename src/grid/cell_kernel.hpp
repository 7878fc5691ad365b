#pragma once

#include "grid/distance_map.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// Walks a batch of lanes through the cells, by the budget's method, and tells what they met; the
/// material of a hit is left to the caller. Lanes are taken as level: their direction_z is not
/// read. `cell_size` in meters.
HitBatch<float> walk_cells(const DistanceMap& map, bool repeat, double cell_size,
                           const LaneBatch<float>& lanes, const CellBudget& budget);
HitBatch<double> walk_cells(const DistanceMap& map, bool repeat, double cell_size,
                            const LaneBatch<double>& lanes, const CellBudget& budget);

}  // namespace photonlane
