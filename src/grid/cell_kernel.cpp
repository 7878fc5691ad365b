#include "grid/cell_kernel.hpp"

#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "grid/cell_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "grid/boundary_walk-inl.h"
#include "grid/increment_walk-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

template <class Number>
HWY_INLINE void WalkCells(const DistanceMap& map, const CellMap& cells,
                          const LaneBatch<Number>& lanes, const CellBudget& budget,
                          CellStates<Number>* states, bool resume, HitBatch<Number>& hits) {
  using D = hn::ScalableTag<Number>;
  using DI = hn::RebindToSigned<D>;
  using Integer = hn::TFromD<DI>;
  const D d;
  const DI di;
  Job<D> job;
  job.bytes = map.bytes.data();
  job.cell_size = hn::Set(d, static_cast<Number>(cells.cell_size));
  int exponent = 0;
  job.halves = std::frexp(cells.cell_size, &exponent) == 0.5;
  job.inverse_size = hn::Set(d, static_cast<Number>(1 / cells.cell_size));
  job.ceiling = hn::Set(d, static_cast<Number>(cells.wall_height));
  job.far = hn::Set(d, lanes.far_limit);
  job.stride = hn::Set(di, static_cast<Integer>(map.stride));
  job.width = hn::Set(di, static_cast<Integer>(map.width));
  job.height = hn::Set(di, static_cast<Integer>(map.height));
  const std::int64_t limit = budget.steps;
  const bool repeat = cells.repeat;
  switch (budget.method) {
    case CellMethod::boundary:
      return repeat ? WalkBoundaries<false, true>(d, job, lanes, limit, states, resume, hits)
                    : WalkBoundaries<false, false>(d, job, lanes, limit, states, resume, hits);
    case CellMethod::leap:
      return repeat ? WalkBoundaries<true, true>(d, job, lanes, limit, states, resume, hits)
                    : WalkBoundaries<true, false>(d, job, lanes, limit, states, resume, hits);
    case CellMethod::increment: {
      const auto increment = static_cast<Number>(budget.increment / cells.cell_size);
      return repeat ? WalkIncrements<true>(d, job, increment, lanes, limit, hits)
                    : WalkIncrements<false>(d, job, increment, lanes, limit, hits);
    }
  }
}

void WalkFloat(const DistanceMap& map, const CellMap& cells, const LaneBatch<float>& lanes,
               const CellBudget& budget, CellStates<float>* states, bool resume,
               HitBatch<float>& hits) {
  WalkCells(map, cells, lanes, budget, states, resume, hits);
}
void WalkDouble(const DistanceMap& map, const CellMap& cells, const LaneBatch<double>& lanes,
                const CellBudget& budget, CellStates<double>* states, bool resume,
                HitBatch<double>& hits) {
  WalkCells(map, cells, lanes, budget, states, resume, hits);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(WalkFloat);
HWY_EXPORT(WalkDouble);

HitBatch<float> walk_cells(const DistanceMap& map, const CellMap& cells,
                           const LaneBatch<float>& lanes, const CellBudget& budget,
                           CellStates<float>* states, bool resume) {
  HitBatch<float> hits;
  HWY_DYNAMIC_DISPATCH(WalkFloat)(map, cells, lanes, budget, states, resume, hits);
  return hits;
}

HitBatch<double> walk_cells(const DistanceMap& map, const CellMap& cells,
                            const LaneBatch<double>& lanes, const CellBudget& budget,
                            CellStates<double>* states, bool resume) {
  HitBatch<double> hits;
  HWY_DYNAMIC_DISPATCH(WalkDouble)(map, cells, lanes, budget, states, resume, hits);
  return hits;
}

}  // namespace photonlane
#endif
