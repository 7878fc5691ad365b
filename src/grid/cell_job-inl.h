// Per-target include: what both ways of walking through cells share.

#if defined(PHOTONLANE_CELL_JOB_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_CELL_JOB_INL_H_
#undef PHOTONLANE_CELL_JOB_INL_H_
#else
#define PHOTONLANE_CELL_JOB_INL_H_
#endif

#include <hwy/highway.h>

#include "photonlane/lane/lanes.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// What all lanes of a batch have in common.
template <class D>
struct Job {
  using VI = hn::Vec<hn::RebindToSigned<D>>;
  const std::uint8_t* bytes;
  hn::Vec<D> far;        // meters
  hn::Vec<D> cell_size;  // meters
  hn::Vec<D> ceiling;    // meters above the floor at 0
  bool halves;           // cell_size is a power of two: its inverse is exact
  hn::Vec<D> inverse_size;
  VI stride, width, height;
};

/// Whole numbers as a V, and back; both exact below 2^23.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V ToNumber(D d, hn::Vec<hn::RebindToSigned<D>> v) {
  return hn::ConvertTo(d, v);
}
template <class D>
HWY_INLINE hn::Vec<hn::RebindToSigned<D>> ToInteger(D, hn::Vec<D> v) {
  return hn::ConvertTo(hn::RebindToSigned<D>(), v);
}

/// Where the lanes from i on meet the floor or the ceiling, in meters; infinite for level ones.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V LevelAt(D d, const Job<D>& job, const LaneBatch<hn::TFromD<D>>& lanes, std::size_t i) {
  const V z = hn::Load(d, lanes.z + i);
  const V rise = hn::Load(d, lanes.direction_z + i);
  const V zero = hn::Zero(d);
  const V height = hn::IfThenElse(hn::Lt(rise, zero), hn::Neg(z), hn::Sub(job.ceiling, z));
  const V t = hn::Max(hn::Div(height, rise), zero);
  return hn::IfThenElse(hn::Eq(rise, zero), hn::Inf(d), t);
}

/// Meters in cells, the same bits whichever way.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V InCells(const Job<D>& job, V meters) {
  return job.halves ? hn::Mul(meters, job.inverse_size) : hn::Div(meters, job.cell_size);
}

/// The distance map at each index: 0 where a lane has to stop.
template <class D>
HWY_INLINE typename Job<D>::VI DistanceAt(const Job<D>& job, typename Job<D>::VI index) {
  const hn::RebindToSigned<D> di;
  using Integer = hn::TFromD<hn::RebindToSigned<D>>;
  const auto* base = reinterpret_cast<const Integer*>(job.bytes);
  return hn::And(hn::GatherOffset(di, base, index), hn::Set(di, 255));
}

/// Stores whole numbers as 32 bits each, whatever the width of the lanes.
template <class DI, class VI, class Code>
HWY_INLINE void StoreCodes(DI di, VI codes, Code* to) {
  auto* place = reinterpret_cast<std::int32_t*>(to);
  if constexpr (sizeof(hn::TFromD<DI>) == sizeof(std::int32_t)) {
    hn::Store(codes, di, place);
  } else {
    HWY_ALIGN std::int64_t wide[hn::MaxLanes(di)];
    hn::Store(codes, di, wide);
    for (std::size_t i = 0; i < hn::Lanes(di); ++i) place[i] = static_cast<std::int32_t>(wide[i]);
  }
}

/// What became of a vector of lanes.
template <class D>
struct Outcome {
  using V = hn::Vec<D>;
  using VI = hn::Vec<hn::RebindToSigned<D>>;
  using MI = hn::Mask<hn::RebindToSigned<D>>;
  MI met;    // stands in a wall of the map
  MI spent;  // ran out of steps
  V t;       // cells
  V level;   // meters to the floor or the ceiling
  VI cell_x, cell_y;
  VI steps;
  MI by_x;      // came in across a boundary of constant x
  MI at_start;  // never left the cell it started in
};

/// Writes the outcome of the lanes from i on into the batch of hits.
template <class D>
HWY_INLINE void Report(D d, const Job<D>& job, const Outcome<D>& end,
                       const LaneBatch<hn::TFromD<D>>& lanes, HitBatch<hn::TFromD<D>>& hits,
                       std::size_t i) {
  const hn::RebindToSigned<D> di;
  const auto code = [&](auto value) { return hn::Set(di, static_cast<int>(value)); };
  const auto zero = hn::Zero(d);
  const auto backward = [&](const hn::TFromD<D>* directions) {
    return hn::RebindMask(di, hn::Lt(hn::Load(d, directions + i), zero));
  };
  const auto across_x =
      hn::IfThenElse(backward(lanes.direction_x), code(Face::east), code(Face::west));
  const auto across_y =
      hn::IfThenElse(backward(lanes.direction_y), code(Face::north), code(Face::south));
  const auto entered = hn::IfThenElse(end.by_x, across_x, across_y);
  const auto wall = hn::IfThenElse(end.at_start, code(Face::inside), entered);
  // Lanes that walked as far as they needed are at the floor or the ceiling, or have escaped.
  const auto level = end.level;
  const auto on_level =
      hn::AndNot(hn::Or(end.met, end.spent), hn::RebindMask(di, hn::Le(level, job.far)));
  const auto flat =
      hn::IfThenElse(backward(lanes.direction_z), code(Face::floor), code(Face::ceiling));
  const auto open = hn::IfThenElse(on_level, flat, code(Face::none));
  StoreCodes(di, hn::IfThenElse(end.met, wall, open), hits.face + i);
  const auto missed = hn::IfThenElse(end.spent, code(Ending::spent), code(Ending::escaped));
  StoreCodes(di, hn::IfThenElse(hn::Or(end.met, on_level), code(Ending::hit), missed),
             hits.ending + i);
  const auto id = hn::Add(hn::Mul(end.cell_y, job.width), end.cell_x);
  StoreCodes(di, hn::IfThenElse(end.met, id, hn::Set(di, -1)), hits.item + i);
  StoreCodes(di, end.steps, hits.steps + i);
  const auto stopped = hn::RebindMask(d, hn::Or(end.met, end.spent));
  const auto t = hn::Mul(end.t, job.cell_size);
  hn::Store(hn::IfThenElse(stopped, t, hn::Min(job.far, level)), d, hits.t + i);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif  // include guard
