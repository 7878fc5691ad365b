// Per-target include: walking by equal steps.

#if defined(PHOTONLANE_INCREMENT_WALK_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_INCREMENT_WALK_INL_H_
#undef PHOTONLANE_INCREMENT_WALK_INL_H_
#else
#define PHOTONLANE_INCREMENT_WALK_INL_H_
#endif

#include <hwy/highway.h>

#include "grid/cell_job-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Equal steps of `increment` cells; looks only where each one lands.
template <bool kRepeat, class D>
HWY_NOINLINE void WalkIncrements(D d, const Job<D>& job, hn::TFromD<D> increment,
                                 const LaneBatch<hn::TFromD<D>>& lanes, std::int64_t limit,
                                 HitBatch<hn::TFromD<D>>& hits) {
  using V = hn::Vec<D>;
  const hn::RebindToSigned<D> di;
  const V zero = hn::Zero(d);
  const V one = hn::Set(d, 1);
  const V step = hn::Set(d, increment);
  const V width = ToNumber(d, job.width);
  const V height = ToNumber(d, job.height);
  for (std::size_t i = 0; i < lanes.size; i += hn::Lanes(d)) {
    const V from_x = InCells(job, hn::Load(d, lanes.x + i));
    const V from_y = InCells(job, hn::Load(d, lanes.y + i));
    const V direction_x = hn::Load(d, lanes.direction_x + i);
    const V direction_y = hn::Load(d, lanes.direction_y + i);
    auto active = hn::FirstN(d, HWY_MIN(hn::Lanes(d), lanes.size - i));
    V taken = zero;
    const V level = LevelAt(d, job, lanes, i);
    const V limit_t = InCells(job, hn::Min(job.far, level));
    V last = limit_t;  // where nothing more can be met
    if constexpr (!kRepeat) {
      // Steps before the map is entered and after it is left find nothing: skip them.
      V enter = zero;
      const auto clip = [&](V from, V direction, V side) {
        const V a = hn::Div(hn::Neg(from), direction);
        const V b = hn::Div(hn::Sub(side, from), direction);
        const auto along = hn::Eq(direction, zero);
        const auto off = hn::Or(hn::Lt(from, zero), hn::Ge(from, side));
        enter = hn::IfThenElse(along, enter, hn::Max(enter, hn::Min(a, b)));
        last = hn::IfThenElse(along, hn::IfThenElse(off, hn::Neg(one), last),
                              hn::Min(last, hn::Max(a, b)));
      };
      clip(from_x, direction_x, width);
      clip(from_y, direction_y, height);
      taken = hn::Max(hn::Floor(hn::Div(hn::Min(enter, limit_t), step)), zero);
    }
    typename Job<D>::VI steps = hn::Zero(di);
    auto by_x = hn::Lt(one, zero);
    auto moved = by_x;
    auto found = by_x;
    V t = hn::Mul(taken, step);
    V cell_x = hn::Floor(from_x);
    V cell_y = hn::Floor(from_y);
    V before_x = cell_x;
    for (std::int64_t n = 0;; ++n) {
      active = hn::And(active, hn::Le(t, last));
      const V at_x = hn::Floor(hn::Add(from_x, hn::Mul(direction_x, t)));
      const V at_y = hn::Floor(hn::Add(from_y, hn::Mul(direction_y, t)));
      V in_x = at_x;
      V in_y = at_y;
      auto inside = active;
      if constexpr (kRepeat) {
        in_x = hn::Sub(at_x, hn::Mul(hn::Floor(hn::Div(at_x, width)), width));
        in_y = hn::Sub(at_y, hn::Mul(hn::Floor(hn::Div(at_y, height)), height));
      } else {
        const auto within = [&](V cell, V side) {
          return hn::And(hn::Ge(cell, zero), hn::Lt(cell, side));
        };
        inside = hn::And(active, hn::And(within(at_x, width), within(at_y, height)));
      }
      by_x = hn::Or(hn::And(active, hn::Ne(at_x, before_x)), hn::AndNot(active, by_x));
      before_x = hn::IfThenElse(active, at_x, before_x);
      const auto index = hn::IfThenElseZero(
          hn::RebindMask(di, inside),
          hn::Add(hn::Mul(hn::Add(ToInteger(d, in_y), hn::Set(di, 1)), job.stride),
                  hn::Add(ToInteger(d, in_x), hn::Set(di, 1))));
      const auto walled = hn::Eq(DistanceAt(job, index), hn::Zero(di));
      const auto met = hn::And(inside, hn::RebindMask(d, walled));
      found = hn::Or(found, met);
      cell_x = hn::IfThenElse(inside, in_x, cell_x);
      cell_y = hn::IfThenElse(inside, in_y, cell_y);
      active = hn::AndNot(met, active);
      if (n >= limit || hn::AllFalse(d, active)) break;
      const auto moving = hn::RebindMask(di, active);
      steps = hn::Add(steps, hn::IfThenElseZero(moving, hn::Set(di, 1)));
      taken = hn::Add(taken, hn::IfThenElseZero(active, one));
      moved = hn::Or(moved, active);
      t = hn::IfThenElse(active, hn::Mul(taken, step), t);
    }
    Outcome<D> end;
    end.met = hn::RebindMask(di, found);
    end.spent = hn::RebindMask(di, active);
    end.t = t;
    end.level = level;
    end.cell_x = ToInteger(d, cell_x);
    end.cell_y = ToInteger(d, cell_y);
    end.steps = steps;
    end.by_x = hn::RebindMask(di, by_x);
    end.at_start = hn::RebindMask(di, hn::Not(hn::Or(moved, hn::Gt(t, zero))));
    Report(d, job, end, lanes, hits, i);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif  // include guard
