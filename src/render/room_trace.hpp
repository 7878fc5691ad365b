#pragma once

#include <algorithm>

#include "photonlane/render/world.hpp"

namespace photonlane {

/// Takes over what a field met where that is before what was met so far.
template <class Number>
void take_nearer(const HitBatch<Number>& from, std::size_t count, HitBatch<Number>& hits) {
  for (std::size_t i = 0; i < count; ++i) {
    hits.steps[i] += from.steps[i];
    if (from.ending[i] == Ending::escaped) continue;
    if (hits.ending[i] != Ending::escaped && hits.t[i] <= from.t[i]) continue;
    hits.t[i] = hits.exit[i] = from.t[i];
    hits.ending[i] = from.ending[i];
    hits.face[i] = from.face[i];
    hits.item[i] = from.item[i];
    hits.material[i] = from.material[i];
    hits.normal_x[i] = from.normal_x[i];
    hits.normal_y[i] = from.normal_y[i];
    hits.normal_z[i] = from.normal_z[i];
    hits.other[i] = from.other[i];
    hits.share[i] = from.share[i];
  }
}

/// The first surface each lane meets of all that is in a room: its cells, its fields.
template <class Number>
HitBatch<Number> trace_room(const CompiledRoom& room, const LaneBatch<Number>& lanes,
                            const Budget& budget) {
  if (room.fields.empty()) return room.cells->nearest_hit(lanes, budget);
  HitBatch<Number> hits;
  if (room.fields_only) {
    std::fill_n(hits.t, lanes.size, lanes.far_limit);
    std::fill_n(hits.exit, lanes.size, lanes.far_limit);
    std::fill_n(hits.ending, lanes.size, Ending::escaped);
    std::fill_n(hits.face, lanes.size, Face::none);
    std::fill_n(hits.item, lanes.size, no_item);
    std::fill_n(hits.material, lanes.size, 0u);
    std::fill_n(hits.steps, lanes.size, 0u);
  } else {
    hits = room.cells->nearest_hit(lanes, budget);
  }
  LaneBatch<Number> rest = lanes;
  rest.any_limit = true;
  for (const auto& field : room.fields) {
    for (std::size_t i = 0; i < lanes.size; ++i) {
      rest.limit[i] = hits.ending[i] == Ending::escaped ? lanes.far_limit : hits.t[i];
    }
    // Kernels look up to the end of a whole vector.
    std::fill(rest.limit + lanes.size, rest.limit + LaneBatch<Number>::capacity, Number(0));
    take_nearer(field->nearest_hit(rest, budget), lanes.size, hits);
  }
  return hits;
}

}  // namespace photonlane
