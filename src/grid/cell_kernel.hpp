#pragma once

#include "grid/distance_map.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// How many boundaries of x and of y each lane of a batch has crossed: where in the map it stands,
/// without rounding.
template <class Number>
struct CellStates {
  alignas(64) Number x[LaneBatch<Number>::capacity];
  alignas(64) Number y[LaneBatch<Number>::capacity];
};

/// Walks a batch of lanes through the cells of a map, by the budget's method, and tells what they
/// met: a cell that is not empty, the floor, the ceiling. The material of a hit is left to the
/// caller. With `states` lanes start where these say, each in an empty cell (`resume`), and tell
/// where they stopped; the increment method knows no states.
HitBatch<float> walk_cells(const DistanceMap& map, const CellMap& cells,
                           const LaneBatch<float>& lanes, const CellBudget& budget,
                           CellStates<float>* states = nullptr, bool resume = false);
HitBatch<double> walk_cells(const DistanceMap& map, const CellMap& cells,
                            const LaneBatch<double>& lanes, const CellBudget& budget,
                            CellStates<double>* states = nullptr, bool resume = false);

}  // namespace photonlane
