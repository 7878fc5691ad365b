#include <algorithm>
#include <bit>
#include <cmath>

#include "voxels/voxel_lanes.hpp"
#include "voxels/voxel_lead.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "voxels/voxel_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "voxels/voxel_walk-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Lanes that go on at the same time, each in its own way: what is arithmetic is done for all of
/// them at once, and one waits for memory while others do not.
constexpr std::size_t company = 8;
using D = hn::CappedTag<double, company>;
using D32 = hn::Rebind<std::int32_t, D>;

template <class Mask>
HWY_INLINE unsigned BitsOf(D d, Mask mask) {
  std::uint8_t bytes[8] = {};
  hn::StoreMaskBits(d, mask, bytes);
  return bytes[0];
}

/// Where a place lies too close to a face for its rounded number to say which cell it is in.
template <class V>
HWY_INLINE auto IsClose(D d, V place, V cell, V from) {
  const V within = hn::Sub(place, cell);
  // What a place within 65536 cells, that far from the lane's start, may be wrong by.
  const V close = hn::Mul(hn::Set(d, 1e-15),
                          hn::Add(hn::Add(hn::Abs(from), hn::Abs(from)), hn::Set(d, 65536.0)));
  return hn::Or(hn::Le(within, close), hn::Ge(within, hn::Sub(hn::Set(d, 1.0), close)));
}

/// Lanes of a batch as their faces are numbered, and where they come into bounds.
struct Entries {
  HWY_ALIGN double offset[3][VoxelLanes::capacity];
  HWY_ALIGN double divisor[3][VoxelLanes::capacity];
  HWY_ALIGN double way[3][VoxelLanes::capacity];
  HWY_ALIGN double t[VoxelLanes::capacity];
  HWY_ALIGN double axis[VoxelLanes::capacity];
  HWY_ALIGN std::int32_t cell[3][VoxelLanes::capacity];
  std::uint8_t misses[VoxelLanes::capacity / 8];
  std::uint8_t unsure[VoxelLanes::capacity / 8];
  static bool Has(const std::uint8_t* bits, std::size_t i) {
    return (bits[i / 8] >> (i % 8) & 1) != 0;
  }
};

void Enter(const VoxelBox& bounds, const VoxelLanes& lanes, Entries& entries) {
  const D d;
  const D32 d32;
  const auto none = hn::Zero(d);
  for (std::size_t first = 0; first < lanes.count; first += company) {
    unsigned misses = 0;
    unsigned unsure = 0;
    for (std::size_t k = first; k < first + company; k += hn::Lanes(d)) {
      const auto start = hn::Load(d, lanes.lead + k);
      hn::Vec<D> t = start;
      auto axis = hn::Set(d, -1.0);
      hn::Vec<D> from[3], way[3], cell[3], edge[3], low[3], high[3];
      hn::Mask<D> miss = hn::Lt(none, none);
      hn::Mask<D> close = miss;
      for (int a = 0; a < 3; ++a) {
        from[a] = hn::Load(d, lanes.from[a] + k);
        const auto given = hn::Load(d, lanes.way[a] + k);
        const auto still = hn::Lt(hn::Abs(given), hn::Set(d, slowest_way));
        way[a] = hn::IfThenElseZero(hn::Not(still), given);
        const auto offset = hn::IfThenElse(still, hn::Set(d, -1e30), from[a]);
        const auto divisor = hn::IfThenElse(still, hn::Set(d, 1e-30), given);
        hn::Store(offset, d, entries.offset[a] + k);
        hn::Store(divisor, d, entries.divisor[a] + k);
        hn::Store(way[a], d, entries.way[a] + k);
        const auto down = hn::Lt(way[a], none);
        const auto place = hn::Add(from[a], hn::Mul(way[a], start));
        cell[a] = hn::Floor(place);
        close = hn::Or(close, IsClose(d, place, cell[a], from[a]));
        const auto axis_index = static_cast<std::size_t>(a);
        low[a] = hn::Set(d, static_cast<double>(bounds.low[axis_index]));
        high[a] = hn::Set(d, static_cast<double>(bounds.high[axis_index] - 1));
        const auto under = hn::Lt(cell[a], low[a]);
        const auto over = hn::Gt(cell[a], high[a]);
        edge[a] = hn::IfThenElse(down, high[a], low[a]);
        const auto face = hn::IfThenElse(down, hn::Add(high[a], hn::Set(d, 1.0)), low[a]);
        const auto at = hn::Div(hn::Sub(face, offset), divisor);
        const auto outside = hn::Or(hn::And(down, over), hn::And(hn::Not(down), under));
        const auto gone = hn::Or(hn::And(down, under), hn::And(hn::Not(down), over));
        miss = hn::Or(miss, gone);
        const auto later = hn::And(outside, hn::Ge(at, t));
        t = hn::IfThenElse(later, at, t);
        axis = hn::IfThenElse(later, hn::Set(d, static_cast<double>(a)), axis);
      }
      const auto enters = hn::Ge(axis, none);
      for (int a = 0; a < 3; ++a) {
        const auto across = hn::Eq(axis, hn::Set(d, static_cast<double>(a)));
        const auto place = hn::Add(from[a], hn::Mul(way[a], t));
        const auto there = hn::Floor(place);
        const auto beside = hn::AndNot(across, enters);
        close = hn::Or(close, hn::And(beside, IsClose(d, place, there, from[a])));
        cell[a] = hn::IfThenElse(across, edge[a], hn::IfThenElse(beside, there, cell[a]));
        miss = hn::Or(miss, hn::Or(hn::Lt(cell[a], low[a]), hn::Gt(cell[a], high[a])));
        hn::Store(hn::DemoteTo(d32, cell[a]), d32, entries.cell[a] + k);
      }
      miss = hn::Or(miss, hn::And(enters, hn::Not(hn::Lt(t, hn::Load(d, lanes.limit + k)))));
      hn::Store(t, d, entries.t + k);
      hn::Store(axis, d, entries.axis + k);
      misses |= BitsOf(d, miss) << (k - first);
      unsure |= BitsOf(d, close) << (k - first);
    }
    entries.misses[first / 8] = static_cast<std::uint8_t>(misses);
    entries.unsure[first / 8] = static_cast<std::uint8_t>(unsure);
  }
}

/// The lanes that are under way.
struct Company {
  HWY_ALIGN double offset[3][company] = {};
  HWY_ALIGN double divisor[3][company];
  HWY_ALIGN double from[3][company] = {};
  HWY_ALIGN double way[3][company] = {};
  HWY_ALIGN double cell[3][company] = {};
  HWY_ALIGN double side[company];     ///< of the cube that is passed
  HWY_ALIGN double inverse[company];  ///< 1 / side
  HWY_ALIGN double limit[company] = {};
  HWY_ALIGN double t[company];
  HWY_ALIGN double axis[company];
  HWY_ALIGN std::int32_t next[3][company];
  unsigned unsure = 0;
  unsigned over = 0;  ///< have passed their limit

  Company() {
    std::fill_n(side, company, 1.0);
    std::fill_n(inverse, company, 1.0);
    for (auto& row : divisor) std::fill_n(row, company, 1.0);
  }
};

/// All lanes out of their cubes.
void Pass(Company& all) {
  const D d;
  const D32 d32;
  all.unsure = all.over = 0;
  for (std::size_t k = 0; k < company; k += hn::Lanes(d)) {
    const auto none = hn::Zero(d);
    const auto one = hn::Set(d, 1.0);
    const auto side = hn::Load(d, all.side + k);
    const auto inverse = hn::Load(d, all.inverse + k);
    hn::Vec<D> from[3], way[3], cell[3], base[3], at[3];
    hn::Mask<D> down[3];
    for (int a = 0; a < 3; ++a) {
      from[a] = hn::Load(d, all.from[a] + k);
      way[a] = hn::Load(d, all.way[a] + k);
      cell[a] = hn::Load(d, all.cell[a] + k);
      down[a] = hn::Lt(way[a], none);
      base[a] = hn::Mul(hn::Floor(hn::Mul(cell[a], inverse)), side);
      const auto face = hn::IfThenElse(down[a], base[a], hn::Add(base[a], side));
      at[a] =
          hn::Div(hn::Sub(face, hn::Load(d, all.offset[a] + k)), hn::Load(d, all.divisor[a] + k));
    }
    auto axis = hn::IfThenElseZero(hn::Lt(at[1], at[0]), one);
    auto t = hn::IfThenElse(hn::Lt(at[1], at[0]), at[1], at[0]);
    const auto third = hn::Lt(at[2], t);
    axis = hn::IfThenElse(third, hn::Set(d, 2.0), axis);
    t = hn::IfThenElse(third, at[2], t);
    hn::Mask<D> close = hn::Lt(none, none);
    for (int a = 0; a < 3; ++a) {
      const auto across = hn::Eq(axis, hn::Set(d, static_cast<double>(a)));
      const auto last = hn::Sub(hn::Add(base[a], side), one);
      const auto place = hn::Add(from[a], hn::Mul(way[a], t));
      const auto there = hn::Floor(place);
      const auto low = hn::IfThenElse(down[a], base[a], cell[a]);
      const auto high = hn::IfThenElse(down[a], cell[a], last);
      const auto doubtful = hn::Or(IsClose(d, place, there, from[a]),
                                   hn::Or(hn::Lt(there, low), hn::Gt(there, high)));
      close = hn::Or(close, hn::AndNot(across, doubtful));
      const auto out = hn::IfThenElse(down[a], hn::Sub(base[a], one), hn::Add(last, one));
      const auto next = hn::IfThenElse(across, out, there);
      hn::Store(next, d, all.cell[a] + k);
      hn::Store(hn::DemoteTo(d32, next), d32, all.next[a] + k);
    }
    hn::Store(t, d, all.t + k);
    hn::Store(axis, d, all.axis + k);
    all.unsure |= BitsOf(d, close) << k;
    all.over |= BitsOf(d, hn::Not(hn::Lt(t, hn::Load(d, all.limit + k)))) << k;
  }
}

void MeetVoxels(const VoxelTree& tree, const VoxelBox& bounds, const VoxelBodies& bodies, bool any,
                VoxelLanes& lanes) {
  for (std::size_t i = 0; i < lanes.count; ++i) {
    lanes.met[i] = false;
    lanes.steps[i] = 0;
  }
  if (bounds.empty()) return;
  // Those past the last are looked at too, and then left out.
  for (std::size_t i = lanes.count; i % company != 0; ++i) {
    for (int a = 0; a < 3; ++a) lanes.from[a][i] = lanes.way[a][i] = 0;
    lanes.start[i] = lanes.lead[i] = lanes.limit[i] = 0;
  }
  std::copy_n(lanes.start, lanes.count, lanes.lead);
  constexpr std::size_t wedge = 64;
  for (std::size_t first = 0; lanes.together && first < lanes.count; first += wedge) {
    const std::size_t last = std::min(lanes.count, first + wedge);
    if (last - first < wedge / 4) continue;
    const double lead = lead_lanes(tree, lanes, first, last);
    for (std::size_t i = first; i < last; ++i) lanes.lead[i] = std::max(lanes.lead[i], lead);
  }
  Entries entries;
  Enter(bounds, lanes, entries);
  Company all;
  const WalkContext context{tree, bounds, bodies, any, lanes};
  VoxelWalk walks[company];
  for (VoxelWalk& walk : walks) walk.use(context);
  std::size_t waiting = 0;
  /// Puts the next lane that comes into bounds into a place; false: there is none.
  const auto take = [&](std::size_t k) {
    for (; waiting < lanes.count; ++waiting) {
      const std::size_t i = waiting;
      const bool unsure = Entries::Has(entries.unsure, i);
      if (!unsure && Entries::Has(entries.misses, i)) continue;
      VoxelWalk& walk = walks[k];
      walk.begin(i);
      if (unsure) {
        if (!walk.enter()) continue;
      } else {
        const std::int32_t cell[3] = {entries.cell[0][i], entries.cell[1][i], entries.cell[2][i]};
        walk.come_to(cell, entries.t[i], static_cast<int>(entries.axis[i]));
      }
      for (int a = 0; a < 3; ++a) {
        all.offset[a][k] = entries.offset[a][i];
        all.divisor[a][k] = entries.divisor[a][i];
        all.from[a][k] = lanes.from[a][i];
        all.way[a][k] = entries.way[a][i];
        all.cell[a][k] = walk.cell()[a];
      }
      all.limit[k] = lanes.limit[i];
      ++waiting;
      return true;
    }
    return false;
  };
  unsigned active = 0;
  for (std::size_t k = 0; k < company; ++k) active |= take(k) ? 1u << k : 0u;
  while (active != 0) {
    for (unsigned left = active; left != 0; left &= left - 1) {
      const auto k = static_cast<std::size_t>(std::countr_zero(left));
      while (walks[k].ends_here()) {
        if (take(k)) continue;
        active &= ~(1u << k);
        break;
      }
      const auto shift = static_cast<std::uint64_t>(walks[k].shift());
      all.side[k] = std::bit_cast<double>((1023 + shift) << 52);
      all.inverse[k] = std::bit_cast<double>((1023 - shift) << 52);
    }
    if (active == 0) return;
    Pass(all);
    for (unsigned left = active; left != 0; left &= left - 1) {
      const auto k = static_cast<std::size_t>(std::countr_zero(left));
      VoxelWalk& walk = walks[k];
      if ((all.over >> k & 1) == 0) {
        bool within = false;
        if ((all.unsure >> k & 1) != 0) {
          within = walk.pass();
          for (int a = 0; a < 3; ++a) all.cell[a][k] = walk.cell()[a];
        } else {
          within = walk.go_to(all.next[0][k], all.next[1][k], all.next[2][k], all.t[k],
                              static_cast<int>(all.axis[k]));
        }
        if (within) continue;
      }
      walk.give_up();
      if (!take(k)) active &= ~(1u << k);
    }
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(MeetVoxels);

void meet_voxels(const VoxelTree& tree, const VoxelBox& bounds, const VoxelBodies& bodies, bool any,
                 VoxelLanes& lanes) {
  HWY_DYNAMIC_DISPATCH(MeetVoxels)(tree, bounds, bodies, any, lanes);
}

}  // namespace photonlane
#endif
