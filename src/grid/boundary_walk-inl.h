// Per-target include: walking from cell boundary to cell boundary, one at a time or in leaps.

#if defined(PHOTONLANE_BOUNDARY_WALK_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_BOUNDARY_WALK_INL_H_
#undef PHOTONLANE_BOUNDARY_WALK_INL_H_
#else
#define PHOTONLANE_BOUNDARY_WALK_INL_H_
#endif

#include <hwy/highway.h>

#include "grid/cell_job-inl.h"
#include "grid/cell_kernel.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// A vector of lanes on their way through the cells.
///
/// Along each axis the lane's crossings are numbered k = 0, 1, 2, ... and lie at
/// t(k) = (k + offset) * inverse, never added up, so that rounding does not grow with the way
/// (the boundary walk of Amanatides and Woo, "A Fast Voxel Traversal Algorithm for Ray Tracing",
/// 1987, without its running sums). Where both axes cross at the same t, x goes first.
template <class D>
struct Walk {
  using V = hn::Vec<D>;
  using DI = hn::RebindToSigned<D>;
  using VI = hn::Vec<DI>;
  using M = hn::Mask<D>;
  V crossed_x, crossed_y;  // crossings done
  V offset_x, offset_y;
  V inverse_x, inverse_y;    // 1 / |direction|
  V absolute_x, absolute_y;  // |direction|
  V start_x, start_y;        // the cell it starts in
  V t;
  V level;            // meters to the floor or the ceiling
  V far;              // cells to walk: to the far limit, the floor or the ceiling
  VI index;           // into the distance bytes
  VI row_y;           // sign_y rows of the distance map
  VI sign_x, sign_y;  // +-1
  VI cell_x, cell_y;  // kept up only where the map repeats
  VI steps;
  M by_x;
  M active;
};

/// How many crossings of an axis lie before the moment `t`, or at it where `inclusive`: exactly
/// the count that stepping from crossing to crossing would have reached. The estimate is off by
/// at most one, and the crossings beside it settle it.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V CrossingsBefore(D d, V t, hn::Mask<D> inclusive, V offset, V inverse, V absolute,
                             V at_least) {
  const hn::RebindToSigned<D> di;
  // "At or before t" is "before the next number after t".
  const auto bits = hn::BitCast(di, t);
  t = hn::IfThenElse(inclusive, hn::BitCast(d, hn::Add(bits, hn::Set(di, 1))), t);
  const V one = hn::Set(d, 1);
  V count = hn::Ceil(hn::Sub(hn::Mul(t, absolute), offset));
  const V below = hn::Sub(count, one);
  const auto too_many = hn::Ge(hn::Mul(hn::Add(below, offset), inverse), t);
  const auto too_few = hn::Lt(hn::Mul(hn::Add(count, offset), inverse), t);
  count = hn::IfThenElse(too_many, below, hn::IfThenElse(too_few, hn::Add(count, one), count));
  return hn::Max(count, at_least);
}

/// A whole number of cells wrapped into [0, side) after a move of less than one side.
template <class DI, class VI>
HWY_INLINE VI Wrap(DI di, VI cell, VI side) {
  cell = hn::IfThenElse(hn::Lt(cell, hn::Zero(di)), hn::Add(cell, side), cell);
  return hn::IfThenElse(hn::Lt(cell, side), cell, hn::Sub(cell, side));
}

/// Where lanes go in one step.
template <class D>
struct Step {
  hn::Vec<D> t;                                   // when they get there
  hn::Mask<D> by_x;                               // across which axis last
  hn::Vec<D> crossed_x, crossed_y;                // crossings done by then
  hn::Vec<hn::RebindToSigned<D>> move_x, move_y;  // cells, signed
  hn::Vec<hn::RebindToSigned<D>> move;            // the same in the distance map
};

/// Takes the lanes that are still active to their next cell, unless that lies past where they end.
template <bool kRepeat, class D>
HWY_INLINE void Take(D, const Job<D>& job, Walk<D>& walk, hn::Mask<D> active, const Step<D>& step) {
  const hn::RebindToSigned<D> di;
  active = hn::And(active, hn::Le(step.t, walk.far));
  const auto moving = hn::RebindMask(di, active);
  auto index = hn::Add(walk.index, step.move);
  if constexpr (kRepeat) {
    const auto cell_x = Wrap(di, hn::Add(walk.cell_x, step.move_x), job.width);
    const auto cell_y = Wrap(di, hn::Add(walk.cell_y, step.move_y), job.height);
    const auto inside = hn::Add(hn::Mul(cell_y, job.stride), cell_x);
    index = hn::Add(inside, hn::Add(job.stride, hn::Set(di, 1)));
    walk.cell_x = hn::IfThenElse(moving, cell_x, walk.cell_x);
    walk.cell_y = hn::IfThenElse(moving, cell_y, walk.cell_y);
  }
  walk.index = hn::IfThenElse(moving, index, walk.index);
  walk.crossed_x = hn::IfThenElse(active, step.crossed_x, walk.crossed_x);
  walk.crossed_y = hn::IfThenElse(active, step.crossed_y, walk.crossed_y);
  walk.t = hn::IfThenElse(active, step.t, walk.t);
  walk.by_x = hn::Or(hn::And(active, step.by_x), hn::AndNot(active, walk.by_x));
  walk.steps = hn::Add(walk.steps, hn::IfThenElseZero(moving, hn::Set(di, 1)));
  walk.active = active;
}

/// Moves every active lane across its next boundary, or with kLeap across the last boundary of
/// the empty square around its cell. Ends those that stand in a wall or would pass their limit.
template <bool kLeap, bool kRepeat, class D>
HWY_INLINE void Advance(D d, const Job<D>& job, Walk<D>& walk) {
  using V = hn::Vec<D>;
  const hn::RebindToSigned<D> di;
  const V one = hn::Set(d, 1);
  const auto distance = DistanceAt(job, walk.index);
  const auto active = hn::AndNot(hn::RebindMask(d, hn::Eq(distance, hn::Zero(di))), walk.active);
  V next_x = walk.crossed_x;
  V next_y = walk.crossed_y;
  bool near = true;  // no lane has a square to leave, only its cell
  if constexpr (kLeap) {
    near = hn::AllTrue(di, hn::Lt(distance, hn::Set(di, 2)));
    if (!near) {
      const V empty = ToNumber(d, hn::Sub(distance, hn::Set(di, 1)));
      next_x = hn::Add(next_x, empty);
      next_y = hn::Add(next_y, empty);
    }
  }
  const V t_x = hn::Mul(hn::Add(next_x, walk.offset_x), walk.inverse_x);
  const V t_y = hn::Mul(hn::Add(next_y, walk.offset_y), walk.inverse_y);
  Step<D> step;
  step.by_x = hn::Le(t_x, t_y);
  step.t = hn::IfThenElse(step.by_x, t_x, t_y);
  if (near) {
    const auto by_x = hn::RebindMask(di, step.by_x);
    step.crossed_x = hn::Add(next_x, hn::IfThenElseZero(step.by_x, one));
    step.crossed_y = hn::Add(next_y, hn::IfThenZeroElse(step.by_x, one));
    step.move_x = hn::IfThenElseZero(by_x, walk.sign_x);
    step.move_y = hn::IfThenZeroElse(by_x, walk.sign_y);
    step.move = hn::IfThenElse(by_x, walk.sign_x, walk.row_y);
  } else {
    const V other = CrossingsBefore(d, step.t, hn::Not(step.by_x),
                                    hn::IfThenElse(step.by_x, walk.offset_y, walk.offset_x),
                                    hn::IfThenElse(step.by_x, walk.inverse_y, walk.inverse_x),
                                    hn::IfThenElse(step.by_x, walk.absolute_y, walk.absolute_x),
                                    hn::IfThenElse(step.by_x, walk.crossed_y, walk.crossed_x));
    step.crossed_x = hn::IfThenElse(step.by_x, hn::Add(next_x, one), other);
    step.crossed_y = hn::IfThenElse(step.by_x, other, hn::Add(next_y, one));
    const auto cells_x = ToInteger(d, hn::Sub(step.crossed_x, walk.crossed_x));
    const auto cells_y = ToInteger(d, hn::Sub(step.crossed_y, walk.crossed_y));
    step.move_x = hn::Mul(cells_x, walk.sign_x);
    step.move_y = hn::Mul(cells_y, walk.sign_y);
    step.move = hn::Add(step.move_x, hn::Mul(cells_y, walk.row_y));
  }
  Take<kRepeat>(D(), job, walk, active, step);
}

/// Lanes that start outside a map that does not repeat go to where they enter it, as one step.
/// Those that never do are no longer active.
template <class D>
HWY_INLINE void Enter(D d, const Job<D>& job, Walk<D>& walk) {
  using V = hn::Vec<D>;
  const hn::RebindToSigned<D> di;
  const V zero = hn::Zero(d);
  const V one = hn::Set(d, 1);
  const V last_x = ToNumber(d, hn::Sub(job.width, hn::Set(di, 1)));
  const V last_y = ToNumber(d, hn::Sub(job.height, hn::Set(di, 1)));
  // Crossings until the cell's column (row) is one of the map's; negative distances point away.
  const auto needed = [&](V start, V last, typename Walk<D>::VI sign) {
    const auto forward = hn::RebindMask(d, hn::Gt(sign, hn::Zero(di)));
    return hn::IfThenElse(forward, hn::Neg(start), hn::Sub(start, last));
  };
  const auto off = [&](V cell, V last) { return hn::Or(hn::Lt(cell, zero), hn::Gt(cell, last)); };
  const V need_x = hn::Max(needed(walk.start_x, last_x, walk.sign_x), zero);
  const V need_y = hn::Max(needed(walk.start_y, last_y, walk.sign_y), zero);
  const auto outside = hn::Or(off(walk.start_x, last_x), off(walk.start_y, last_y));
  const auto entry = [&](V need, V offset, V inverse) {
    const V t = hn::Mul(hn::Add(hn::Sub(need, one), offset), inverse);
    return hn::IfThenElse(hn::Gt(need, zero), t, hn::Set(d, -1));
  };
  const V t_x = entry(need_x, walk.offset_x, walk.inverse_x);
  const V t_y = entry(need_y, walk.offset_y, walk.inverse_y);
  const auto by_x = hn::Gt(t_x, t_y);  // the later crossing; x goes first where both are equal
  const V t = hn::IfThenElse(by_x, t_x, t_y);
  const V other =
      CrossingsBefore(d, t, hn::Not(by_x), hn::IfThenElse(by_x, walk.offset_y, walk.offset_x),
                      hn::IfThenElse(by_x, walk.inverse_y, walk.inverse_x),
                      hn::IfThenElse(by_x, walk.absolute_y, walk.absolute_x), zero);
  const V crossed_x = hn::IfThenElse(by_x, need_x, other);
  const V crossed_y = hn::IfThenElse(by_x, other, need_y);
  const V cell_x = hn::Add(walk.start_x, hn::Mul(crossed_x, ToNumber(d, walk.sign_x)));
  const V cell_y = hn::Add(walk.start_y, hn::Mul(crossed_y, ToNumber(d, walk.sign_y)));
  const auto inside = hn::AndNot(hn::Or(off(cell_x, last_x), off(cell_y, last_y)),
                                 hn::And(hn::Ge(t, zero), hn::Le(t, walk.far)));
  const auto entering = hn::And(outside, inside);
  const auto moving = hn::RebindMask(di, entering);
  walk.active = hn::AndNot(hn::AndNot(inside, outside), walk.active);
  walk.crossed_x = hn::IfThenElse(entering, crossed_x, walk.crossed_x);
  walk.crossed_y = hn::IfThenElse(entering, crossed_y, walk.crossed_y);
  walk.t = hn::IfThenElse(entering, t, walk.t);
  walk.by_x = hn::Or(hn::And(entering, by_x), hn::AndNot(entering, walk.by_x));
  walk.steps = hn::Add(walk.steps, hn::IfThenElseZero(moving, hn::Set(di, 1)));
  const V start_x = hn::IfThenElse(entering, cell_x, walk.start_x);
  const V start_y = hn::IfThenElse(entering, cell_y, walk.start_y);
  // Lanes that never enter look at the ring from now on; its bytes can be read.
  const auto ringed = [&](V cell, V last) {
    return ToInteger(d, hn::Max(hn::Min(cell, hn::Add(last, one)), hn::Neg(one)));
  };
  walk.index =
      hn::Add(hn::Add(hn::Mul(ringed(start_y, last_y), job.stride), ringed(start_x, last_x)),
              hn::Add(job.stride, hn::Set(di, 1)));
}

template <class D>
HWY_INLINE Walk<D> Start(D d, const Job<D>& job, bool repeat, const LaneBatch<hn::TFromD<D>>& lanes,
                         const CellStates<hn::TFromD<D>>* resume, std::size_t i) {
  using V = hn::Vec<D>;
  const hn::RebindToSigned<D> di;
  Walk<D> walk;
  const V one = hn::Set(d, 1);
  const V zero = hn::Zero(d);
  const auto axis = [&](const hn::TFromD<D>* from, const hn::TFromD<D>* directions, V& start,
                        V& offset, V& inverse, V& absolute, typename Walk<D>::VI& sign) {
    const V position = InCells(job, hn::Load(d, from + i));
    const V direction = hn::Load(d, directions + i);
    start = hn::Floor(position);
    const V fraction = hn::Sub(position, start);
    absolute = hn::Abs(direction);
    inverse = hn::Div(one, absolute);
    const auto backward = hn::Lt(direction, zero);
    offset = hn::IfThenElse(backward, fraction, hn::Sub(one, fraction));
    // A lane along the other axis: (k + 1) * infinity, never 0 * infinity.
    offset = hn::IfThenElse(hn::Eq(absolute, zero), one, offset);
    sign = hn::IfThenElse(hn::RebindMask(di, backward), hn::Set(di, -1), hn::Set(di, 1));
  };
  axis(lanes.x, lanes.direction_x, walk.start_x, walk.offset_x, walk.inverse_x, walk.absolute_x,
       walk.sign_x);
  axis(lanes.y, lanes.direction_y, walk.start_y, walk.offset_y, walk.inverse_y, walk.absolute_y,
       walk.sign_y);
  walk.row_y = hn::Mul(walk.sign_y, job.stride);
  walk.crossed_x = walk.crossed_y = walk.t = zero;
  walk.level = LevelAt(d, job, lanes, i);
  walk.far = InCells(job, hn::Min(job.far, walk.level));
  walk.steps = hn::Zero(di);
  walk.by_x = hn::Lt(one, zero);
  walk.active = hn::FirstN(d, HWY_MIN(hn::Lanes(d), lanes.size - HWY_MIN(i, lanes.size)));
  walk.cell_x = walk.cell_y = hn::Zero(di);
  V at_x = walk.start_x;
  V at_y = walk.start_y;
  if (resume != nullptr) {
    walk.crossed_x = hn::Load(d, resume->x + i);
    walk.crossed_y = hn::Load(d, resume->y + i);
    at_x = hn::Add(at_x, hn::Mul(walk.crossed_x, ToNumber(d, walk.sign_x)));
    at_y = hn::Add(at_y, hn::Mul(walk.crossed_y, ToNumber(d, walk.sign_y)));
    const auto last = [&](V crossed, V offset, V inverse) {
      const V t = hn::Mul(hn::Add(hn::Sub(crossed, one), offset), inverse);
      return hn::IfThenElseZero(hn::Gt(crossed, zero), t);
    };
    const V t_x = last(walk.crossed_x, walk.offset_x, walk.inverse_x);
    const V t_y = last(walk.crossed_y, walk.offset_y, walk.inverse_y);
    walk.by_x = hn::Gt(t_x, t_y);
    walk.t = hn::Max(t_x, t_y);
  }
  if (repeat) {
    const auto wrapped = [&](V start, typename Walk<D>::VI side) {
      const V length = ToNumber(d, side);
      const V rounds = hn::Floor(hn::Div(start, length));
      return Wrap(di, ToInteger(d, hn::Sub(start, hn::Mul(rounds, length))), side);
    };
    walk.cell_x = wrapped(at_x, job.width);
    walk.cell_y = wrapped(at_y, job.height);
    walk.index = hn::Add(hn::Add(hn::Mul(walk.cell_y, job.stride), walk.cell_x),
                         hn::Add(job.stride, hn::Set(di, 1)));
  } else if (resume != nullptr) {
    const auto row = ToInteger(d, at_y);
    walk.index = hn::Add(hn::Add(hn::Mul(row, job.stride), ToInteger(d, at_x)),
                         hn::Add(job.stride, hn::Set(di, 1)));
  } else {
    Enter(d, job, walk);
  }
  // What stands past the last lane may be anything.
  if (resume != nullptr) {
    walk.index = hn::IfThenElseZero(hn::RebindMask(di, walk.active), walk.index);
  }
  return walk;
}

template <class D>
HWY_INLINE void Finish(D d, const Job<D>& job, bool repeat, const Walk<D>& walk,
                       const LaneBatch<hn::TFromD<D>>& lanes, HitBatch<hn::TFromD<D>>& hits,
                       std::size_t i) {
  const hn::RebindToSigned<D> di;
  Outcome<D> end;
  end.cell_x = walk.cell_x;
  end.cell_y = walk.cell_y;
  auto on_map = hn::Eq(hn::Zero(di), hn::Zero(di));
  if (!repeat) {
    const auto cell = [&](auto start, auto crossed, auto sign) {
      return ToInteger(d, hn::Add(start, hn::Mul(crossed, ToNumber(d, sign))));
    };
    end.cell_x = cell(walk.start_x, walk.crossed_x, walk.sign_x);
    end.cell_y = cell(walk.start_y, walk.crossed_y, walk.sign_y);
    // The ring stops lanes as walls do; what stopped there has left the map.
    const auto within = [&](auto place, auto side) {
      return hn::And(hn::Lt(place, side), hn::Not(hn::Lt(place, hn::Zero(di))));
    };
    on_map = hn::And(within(end.cell_x, job.width), within(end.cell_y, job.height));
  }
  const auto stopped = hn::Eq(DistanceAt(job, walk.index), hn::Zero(di));
  end.met = hn::And(on_map, stopped);
  end.spent = hn::AndNot(stopped, hn::RebindMask(di, walk.active));
  end.t = walk.t;
  end.level = walk.level;
  end.steps = walk.steps;
  end.by_x = hn::RebindMask(di, walk.by_x);
  end.at_start = hn::RebindMask(
      di, hn::And(hn::Eq(walk.crossed_x, hn::Zero(d)), hn::Eq(walk.crossed_y, hn::Zero(d))));
  Report(d, job, end, lanes, hits, i);
}

/// Two vectors are kept in flight: one waits for its gather while the other computes.
template <bool kLeap, bool kRepeat, class D>
HWY_NOINLINE void WalkBoundaries(D d, const Job<D>& job, const LaneBatch<hn::TFromD<D>>& lanes,
                                 std::int64_t limit, CellStates<hn::TFromD<D>>* states, bool resume,
                                 HitBatch<hn::TFromD<D>>& hits) {
  const CellStates<hn::TFromD<D>>* from = resume ? states : nullptr;
  const std::size_t width = hn::Lanes(d);
  const std::size_t pair = 2 * width;
  for (std::size_t i = 0; i < lanes.size; i += pair) {
    const std::size_t j = i + width < LaneBatch<hn::TFromD<D>>::capacity ? i + width : i;
    Walk<D> first = Start(d, job, kRepeat, lanes, from, i);
    Walk<D> second = Start(d, job, kRepeat, lanes, from, j);
    for (std::int64_t step = 0; step < limit; ++step) {
      Advance<kLeap, kRepeat>(d, job, first);
      Advance<kLeap, kRepeat>(d, job, second);
      if (hn::AllFalse(d, hn::Or(first.active, second.active))) break;
    }
    Finish(d, job, kRepeat, first, lanes, hits, i);
    Finish(d, job, kRepeat, second, lanes, hits, j);
    if (states != nullptr) {
      hn::Store(first.crossed_x, d, states->x + i);
      hn::Store(first.crossed_y, d, states->y + i);
      hn::Store(second.crossed_x, d, states->x + j);
      hn::Store(second.crossed_y, d, states->y + j);
    }
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif  // include guard
