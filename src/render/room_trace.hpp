#pragma once

#include <algorithm>
#include <limits>

#include "photonlane/render/world.hpp"

namespace photonlane {

/// Takes over what a field met where that is before what was met so far.
template <class Number>
void take_nearer(const HitBatch<Number>& from, std::size_t count, HitBatch<Number>& hits) {
  hits.shared_evaluations += from.shared_evaluations;
  for (std::size_t i = 0; i < count; ++i) {
    hits.steps[i] += from.steps[i];
    hits.evaluations[i] += from.evaluations[i];
    hits.nearest[i] = std::min(hits.nearest[i], from.nearest[i]);
    hits.overstretched[i] |= from.overstretched[i];
    if (from.ending[i] == Ending::escaped) continue;
    if (hits.ending[i] != Ending::escaped && hits.t[i] <= from.t[i]) continue;
    hits.take_curved(from, i, i);
  }
}

/// The first surface each lane meets of all that is in a room: its cells, its fields.
template <class Number>
HitBatch<Number> trace_room(const CompiledRoom& room, const LaneBatch<Number>& lanes,
                            const Budget& budget, Tally& tally) {
  if (!room.has_fields()) return room.cells->nearest_hit(lanes, budget);
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
  hits.shared_evaluations = 0;
  std::fill_n(hits.evaluations, lanes.size, 0u);
  std::fill_n(hits.nearest, lanes.size, std::numeric_limits<float>::infinity());
  std::fill_n(hits.overstretched, lanes.size, 0u);
  LaneBatch<Number> rest = lanes;
  rest.any_limit = true;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Number known = hits.ending[i] == Ending::escaped ? lanes.far_limit : hits.t[i];
    rest.limit[i] = lanes.any_limit ? std::min(known, lanes.limit[i]) : known;
  }
  // Kernels look up to the end of a whole vector.
  std::fill(rest.limit + lanes.size, rest.limit + LaneBatch<Number>::capacity, Number(0));
  for (const CompiledField* field : {room.field.get(), room.clear_field.get()}) {
    if (field == nullptr) continue;
    take_nearer(field->nearest_hit(rest, budget), lanes.size, hits);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (hits.ending[i] != Ending::escaped) rest.limit[i] = std::min(rest.limit[i], hits.t[i]);
    }
  }
  tally.evaluations += hits.shared_evaluations;
  for (std::size_t i = 0; i < lanes.size; ++i) tally.evaluations += hits.evaluations[i];
  return hits;
}

}  // namespace photonlane
