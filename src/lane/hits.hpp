#pragma once

#include <algorithm>
#include <limits>

#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// What marching tells beside endings: nothing was evaluated.
template <class Number>
void begin_evaluations(std::size_t size, HitBatch<Number>& hits) {
  hits.shared_evaluations = 0;
  std::fill_n(hits.evaluations, size, 0u);
  std::fill_n(hits.nearest, size, std::numeric_limits<float>::infinity());
  std::fill_n(hits.overstretched, size, 0u);
}

/// Lanes that met nothing up to the far limit.
template <class Number>
void let_escape(const LaneBatch<Number>& lanes, HitBatch<Number>& hits) {
  std::fill_n(hits.t, lanes.size, lanes.far_limit);
  std::fill_n(hits.exit, lanes.size, lanes.far_limit);
  std::fill_n(hits.ending, lanes.size, Ending::escaped);
  std::fill_n(hits.face, lanes.size, Face::none);
  std::fill_n(hits.item, lanes.size, no_item);
  std::fill_n(hits.material, lanes.size, 0u);
  std::fill_n(hits.steps, lanes.size, 0u);
  begin_evaluations(lanes.size, hits);
}

}  // namespace photonlane
