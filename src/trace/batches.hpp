#pragma once

#include <algorithm>

#include "grid/column_events.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"
#include "photonlane/lane/tally.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane {

/// Starts `size` lanes at the camera's eye; directions are left to the caller.
template <class Number>
void start_at_eye(LaneBatch<Number>& lanes, std::size_t size, const Camera& camera,
                  const Budget& budget) {
  lanes.size = size;
  lanes.far_limit = static_cast<Number>(budget.far_limit);
  std::fill_n(lanes.x, size, static_cast<Number>(camera.eye.x()));
  std::fill_n(lanes.y, size, static_cast<Number>(camera.eye.y()));
  std::fill_n(lanes.z, size, static_cast<Number>(camera.eye.z()));
}

/// Counts what the first `size` lanes of a batch spent and how they ended, and `fresh` of them as
/// lanes. Those that have crossed a portal are taken for hits until they end.
template <class Number>
void count(const HitBatch<Number>& hits, std::size_t size, std::size_t fresh, Tally& tally) {
  std::uint64_t steps = 0;
  std::uint32_t escaped = 0;
  std::uint32_t spent = 0;
  for (std::size_t i = 0; i < size; ++i) {
    steps += hits.steps[i];
    escaped += hits.ending[i] == Ending::escaped;
    spent += hits.ending[i] == Ending::spent;
  }
  tally.lanes += fresh;
  tally.steps += steps;
  tally.escaped += escaped;
  tally.spent += spent;
  tally.hits = tally.lanes - tally.escaped - tally.spent;
}

/// Counts what a run of columns spent and how they ended.
inline void count_columns(const ColumnEvents& events, Tally& tally) {
  tally.lanes += events.size;
  for (std::size_t i = 0; i < events.size; ++i) {
    tally.steps += events.steps[i];
    for (const ColumnEvents::Rank& event : events.ranks) {
      tally.escaped += event.ending[i] == Ending::escaped;
      tally.spent += event.ending[i] == Ending::spent;
    }
  }
  tally.hits = tally.lanes - tally.escaped - tally.spent;
}

}  // namespace photonlane
