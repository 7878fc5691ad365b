#include "grid/column_events.hpp"

#include <algorithm>
#include <limits>

#include "grid/cell_distances.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

}  // namespace

template <class Number>
void find_events(const CellSolid& cells, const LaneBatch<Number>& lanes, const Number* length,
                 const Budget& budget, const OpenMaterials& open, double eye_height,
                 ColumnEvents& events) {
  if (cells.has_forms()) {
    find_form_events(cells.distances_->forms(cells.map_, cells.surfaces_), lanes, length, budget,
                     open, eye_height, events);
    return;
  }
  const HitBatch<Number> hits = cells.nearest_hit(lanes, budget);
  events.size = lanes.size;
  events.ranks.resize(1);
  ColumnEvents::Rank& event = events.ranks.front();
  for (std::size_t i = 0; i < lanes.size; ++i) {
    event.enter[i] = static_cast<float>(hits.t[i] / length[i]);
    event.exit[i] = infinite;
    event.top[i] = infinite;
    event.side[i] = event.upper[i] = open.of(hits.ending[i], hits.material[i]);
  }
  std::copy_n(hits.face, lanes.size, event.face);
  std::copy_n(hits.ending, lanes.size, event.ending);
  std::copy_n(hits.item, lanes.size, event.item);
  std::copy_n(hits.steps, lanes.size, events.steps);
}

template void find_events(const CellSolid&, const LaneBatch<float>&, const float*, const Budget&,
                          const OpenMaterials&, double, ColumnEvents&);
template void find_events(const CellSolid&, const LaneBatch<double>&, const double*, const Budget&,
                          const OpenMaterials&, double, ColumnEvents&);

}  // namespace photonlane
