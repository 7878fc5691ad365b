#include "grid/column_events.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "grid/column_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D = hn::ScalableTag<float>;
using DI = hn::RebindToSigned<D>;
using V = hn::Vec<D>;
using VI = hn::Vec<DI>;
using M = hn::Mask<D>;

/// What a vector of pixels has found so far.
struct Seen {
  V reach;
  VI face, ending, material, item, rank;
  M open;  // not found yet
};

template <class Code>
HWY_INLINE VI LoadCodes(const Code* from) {
  return hn::Load(DI(), reinterpret_cast<const std::int32_t*>(from));
}
template <class Code>
HWY_INLINE void StoreCodes(VI codes, Code* to) {
  hn::Store(codes, DI(), reinterpret_cast<std::int32_t*>(to));
}

void SeeRowSimd(const ColumnEvents& events, const ColumnRow& row, const std::uint32_t* from,
                std::uint32_t* rank, Surfaces& surfaces) {
  const D d;
  const DI di;
  const V slope = hn::Set(d, row.slope);
  const V level = hn::Set(d, row.level);
  const V raise = hn::Set(d, row.raise);
  const V near = hn::Set(d, row.near);
  const V inverse_slope = hn::Set(d, row.slope < 0 ? 1 / row.slope : 0);
  const bool falling = row.slope < 0;
  const auto code = [&](auto value) { return hn::Set(di, static_cast<int>(value)); };
  const VI hit = code(Ending::hit);
  const VI past = code(level_rank);
  const bool open_above = row.level_face == Face::none;
  bool all_hit = true;
  bool any_panel = false;
  std::uint32_t own_rank[Surfaces::capacity];
  if (rank == nullptr) rank = own_rank;
  for (std::size_t i = 0; i < events.size; i += hn::Lanes(d)) {
    Seen seen;
    seen.reach = level;
    seen.face = code(row.level_face);
    seen.ending = open_above ? code(Ending::escaped) : hit;
    seen.material =
        hn::Set(di, static_cast<int>(open_above ? row.open_material : row.level_material));
    seen.item = code(no_item);
    seen.rank = past;
    seen.open = hn::FirstN(d, events.size - i);
    const VI wanted = from == nullptr ? hn::Zero(di) : LoadCodes(from + i);
    if (from != nullptr) {
      // Behind the level nothing is left but the open.
      const auto beyond = hn::Eq(wanted, past);
      seen.open = hn::AndNot(hn::RebindMask(d, beyond), seen.open);
      seen.ending = hn::IfThenElse(beyond, code(Ending::escaped), seen.ending);
      seen.material =
          hn::IfThenElse(beyond, hn::Set(di, static_cast<int>(row.open_material)), seen.material);
      seen.face = hn::IfThenElse(beyond, code(Face::none), seen.face);
    }
    for (std::size_t k = 0; k < events.ranks.size(); ++k) {
      const ColumnEvents::Rank& event = events.ranks[k];
      const V enter = hn::Load(d, event.enter + i);
      const V top = hn::Add(hn::Load(d, event.top + i), raise);
      // Lanes that meet the level first are done.
      M looking = hn::And(seen.open, hn::Le(enter, level));
      seen.open = looking;
      if (hn::AllFalse(d, looking)) break;
      const VI number = hn::Set(di, static_cast<int>(k));
      looking = hn::And(looking, hn::Ge(enter, near));
      if (from != nullptr)
        looking =
            hn::And(looking, hn::RebindMask(d, hn::Gt(number, hn::Sub(wanted, hn::Set(di, 1)))));
      const M side = hn::And(looking, hn::Lt(hn::Mul(slope, enter), top));
      M found = side;
      V reach = enter;
      VI face = LoadCodes(event.face + i);
      VI material = LoadCodes(event.side + i);
      if (falling) {
        const V over = hn::Mul(top, inverse_slope);
        const M upper =
            hn::And(hn::AndNot(side, looking),
                    hn::And(hn::Ge(over, enter), hn::Lt(over, hn::Load(d, event.exit + i))));
        const auto on_top = hn::RebindMask(di, upper);
        reach = hn::IfThenElse(upper, over, reach);
        face = hn::IfThenElse(on_top, code(Face::floor), face);
        material = hn::IfThenElse(on_top, LoadCodes(event.upper + i), material);
        found = hn::Or(found, upper);
      }
      const auto take = hn::RebindMask(di, found);
      seen.reach = hn::IfThenElse(found, reach, seen.reach);
      seen.face = hn::IfThenElse(take, face, seen.face);
      seen.material = hn::IfThenElse(take, material, seen.material);
      seen.ending = hn::IfThenElse(take, LoadCodes(event.ending + i), seen.ending);
      seen.item = hn::IfThenElse(take, LoadCodes(event.item + i), seen.item);
      seen.rank = hn::IfThenElse(take, number, seen.rank);
      seen.open = hn::AndNot(found, seen.open);
    }
    const V length =
        hn::Sqrt(hn::Add(hn::Load(d, events.length_square + i), hn::Mul(slope, slope)));
    const auto met = hn::Eq(seen.ending, hit);
    V reach = seen.reach;
    if (!hn::AllTrue(di, met)) {
      all_hit = false;
      const auto spent = hn::Eq(seen.ending, code(Ending::spent));
      const auto missed = hn::RebindMask(d, hn::AndNot(spent, hn::Not(met)));
      reach = hn::IfThenElse(missed, hn::Div(hn::Set(d, 1.0f), length), reach);
    }
    hn::Store(hn::Mul(reach, length), d, surfaces.t + i);
    hn::Store(hn::Mul(reach, hn::Load(d, events.direction_x + i)), d, surfaces.x + i);
    hn::Store(hn::Mul(reach, hn::Load(d, events.direction_y + i)), d, surfaces.y + i);
    hn::Store(hn::Mul(reach, slope), d, surfaces.z + i);
    StoreCodes(seen.face, surfaces.face + i);
    StoreCodes(seen.ending, surfaces.ending + i);
    StoreCodes(seen.material, surfaces.material + i);
    if (surfaces.wants_data) {
      StoreCodes(seen.item, surfaces.item + i);
      StoreCodes(LoadCodes(events.steps + i), surfaces.steps + i);
    }
    hn::StoreU(seen.rank, di, reinterpret_cast<std::int32_t*>(rank + i));
    const auto panel = hn::Eq(seen.face, code(Face::panel));
    if (!hn::AllFalse(di, panel)) any_panel = true;
  }
  if (any_panel) {
    for (std::size_t i = 0; i < events.size; ++i) {
      if (surfaces.face[i] != Face::panel) continue;
      const ColumnEvents::Rank& event = events.ranks[rank[i]];
      surfaces.u[i] = event.u[i];
      surfaces.v[i] = (surfaces.z[i] - row.foot) / event.whole[i];
      surfaces.normal_x[i] = event.normal_x[i];
      surfaces.normal_y[i] = event.normal_y[i];
    }
  }
  surfaces.size = events.size;
  surfaces.all_hit = all_hit;
  surfaces.any_panel = any_panel;
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(SeeRowSimd);

void see_row(const ColumnEvents& events, const ColumnRow& row, const std::uint32_t* from,
             std::uint32_t* rank, Surfaces& surfaces) {
  HWY_DYNAMIC_DISPATCH(SeeRowSimd)(events, row, from, rank, surfaces);
}

}  // namespace photonlane
#endif
