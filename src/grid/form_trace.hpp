#pragma once

#include <vector>

#include "grid/cell_kernel.hpp"
#include "grid/column_events.hpp"
#include "grid/distance_map.hpp"
#include "grid/form_walk.hpp"

namespace photonlane {

/// A map whose cells are more than walls from floor to ceiling, ready for walking.
struct FormMap {
  const CellMap& map;
  const DistanceMap& distances;
  const std::vector<PanelBox>& boxes;  ///< one a form
  const CellSurfaces& surfaces;
};

/// The first surface each lane meets: vector kernels cross what is empty, and what stands in the
/// other cells is looked at one lane at a time.
template <class Number>
HitBatch<Number> trace_forms(const FormMap& map, const LaneBatch<Number>& lanes,
                             const Budget& budget);

/// All that level lanes meet, see find_events.
template <class Number>
void find_form_events(const FormMap& map, const LaneBatch<Number>& lanes, const Number* length,
                      const Budget& budget, const OpenMaterials& open, double eye_height,
                      ColumnEvents& events);

}  // namespace photonlane
