// Per-target include: the ways of lanes through a field, before they march.

#if defined(PHOTONLANE_FIELD_WAYS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_WAYS_INL_H_
#undef PHOTONLANE_FIELD_WAYS_INL_H_
#else
#define PHOTONLANE_FIELD_WAYS_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <span>

#include "field/regions-inl.h"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Vectors some lane of which takes part.
template <class D>
HWY_INLINE ActiveVectors Those(D d, const hn::Mask<D>* masks, std::size_t vectors) {
  ActiveVectors active;
  for (std::size_t j = 0; j < vectors; ++j) {
    if (!hn::AllFalse(d, masks[j])) active.index[active.count++] = j;
  }
  return active;
}

/// Where lanes enter a field's bounds and where they leave them; at infinity and before it where
/// they do not pass there.
template <class D>
void EnterBounds(D d, const Tape& tape, const LaneBatch<hn::TFromD<D>>& lanes,
                 const FieldBudget& budget, hn::TFromD<D>* nearest, hn::TFromD<D>* farthest) {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  const std::size_t width = hn::Lanes(d);
  Number largest = 1;
  if (lanes.any_scale) largest = *std::max_element(lanes.scale, lanes.scale + lanes.size);
  const V margin = hn::Set(d, static_cast<Number>(2 * budget.tolerance * largest + 1e-6));
  const V zero = hn::Zero(d);
  for (std::size_t i = 0; i < lanes.size; i += width) {
    V near = lanes.any_start ? hn::Load(d, lanes.start + i) : zero;
    V far = hn::Set(d, lanes.far_limit);
    if (lanes.any_limit) far = hn::Min(far, hn::Load(d, lanes.limit + i));
    M inside = hn::FirstN(d, lanes.size - i);
    const auto slab = [&](const Number* starts, const Number* ways, double low, double high) {
      const V start = hn::Load(d, starts + i);
      const V way = hn::Load(d, ways + i);
      const V lower = hn::Sub(hn::Sub(hn::Set(d, static_cast<Number>(low)), margin), start);
      const V upper = hn::Sub(hn::Add(hn::Set(d, static_cast<Number>(high)), margin), start);
      const M level = hn::Eq(way, zero);
      const V one = hn::Div(lower, way);
      const V two = hn::Div(upper, way);
      const V infinite = hn::Inf(d);
      const M within = hn::And(hn::Le(lower, zero), hn::Ge(upper, zero));
      inside = hn::AndNot(hn::AndNot(within, level), inside);
      near = hn::Max(near, hn::IfThenElse(level, hn::Neg(infinite), hn::Min(one, two)));
      far = hn::Min(far, hn::IfThenElse(level, infinite, hn::Max(one, two)));
    };
    const Bounds& bounds = tape.bounds;
    slab(lanes.x, lanes.direction_x, bounds.low.x(), bounds.high.x());
    slab(lanes.y, lanes.direction_y, bounds.low.y(), bounds.high.y());
    slab(lanes.z, lanes.direction_z, bounds.low.z(), bounds.high.z());
    inside = hn::And(inside, hn::Le(near, far));
    hn::Store(hn::IfThenElse(inside, near, hn::Inf(d)), d, nearest + i);
    hn::Store(hn::IfThenElse(inside, far, hn::Neg(hn::Inf(d))), d, farthest + i);
  }
}

/// From where to where the lanes of a batch have to look, and what of the tape matters on the way.
/// A batch is taken in parts of some lanes in a row. All that is decided here is keyed to lanes,
/// groups and parts, never to vectors, so that all widths give the same bits.
template <class D>
class LaneWays {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using Lanes = LaneBatch<Number>;

 public:
  /// Most lanes of a part, most parts at once, and most slices of a part's way.
  static constexpr std::size_t part_lanes = 64;
  static constexpr std::size_t most_parts = 4;
  static constexpr std::size_t most_slices = 32;
  /// The slices of a part's way: slice k is from edge k to k + 1, in ball first_ball + k.
  struct Way {
    std::size_t count = 0;  ///< 0: not cut
    std::size_t first_ball = 0;
    Number edge[most_slices + 1];
  };

  LaneWays(Machine<D, Plain<D>>& machine, const Tape& tape, const Lanes& lanes,
           const FieldBudget& budget)
      : machine_(machine), regions_(tape), tape_(tape), lanes_(lanes), budget_(budget) {
    EnterBounds(D(), tape, lanes, budget, near_, far_);
  }

  /// Takes up to `count` parts of a given number of lanes, from a lane on.
  void take_parts(std::size_t first, std::size_t count, std::size_t lanes) {
    first_ = first;
    lanes_a_part_ = lanes;
    part_count_ = 0;
    while (part_count_ < count && first + part_count_ * lanes < lanes_.size) ++part_count_;
    slice_count_ = std::min(most_slices, Regions<D>::most / count);
    for (Way& way : ways_) way.count = 0;
  }
  std::size_t part_count() const { return part_count_; }
  std::size_t begin(std::size_t part) const { return first_ + part * lanes_a_part_; }
  std::size_t end(std::size_t part) const {
    return std::min(first_ + (part + 1) * lanes_a_part_, lanes_.size);
  }
  /// Where lane i has to look from and to; nowhere where near is beyond far.
  const Number* near() const { return near_; }
  const Number* far() const { return far_; }
  const Way& way(std::size_t part) const { return ways_[part]; }

  /// Cuts the ways of the parts into slices, finds what of the tape matters in each, and shortens
  /// them to where there is anything to meet. The number of evaluations.
  std::size_t cut() {
    // Few slices of the whole way first.
    typename Regions<D>::Balls balls;
    for (std::size_t part = 0; part < part_count_; ++part) cut(part, slice_count_ / 2, balls);
    if (balls.count == 0) return 0;
    Regions<D> coarse(tape_);
    coarse.find(machine_, tape_.instructions, balls);
    std::size_t evaluations = balls.count;
    std::uint64_t matter = 0;
    for (std::size_t part = 0; part < part_count_; ++part) matter |= narrow(part, coarse);
    balls.count = 0;
    for (std::size_t part = 0; part < part_count_; ++part) cut(part, slice_count_, balls);
    if (balls.count == 0) return evaluations;
    regions_.find(machine_, coarse.within(matter), balls);
    evaluations += balls.count;
    for (std::size_t part = 0; part < part_count_; ++part) narrow(part, regions_);
    return evaluations;
  }

  /// Leads groups of a part's lanes together as far as a ball of emptiness around the middle one
  /// holds all of them. The number of evaluations.
  std::size_t lead(std::size_t part) {
    if (!same_start(part)) return 0;
    const std::size_t width = hn::Lanes(D());
    Groups groups;
    gather(part, groups);
    std::size_t evaluations = 0;
    const std::size_t most = block_vectors * width;
    for (std::size_t first = 0; first < groups.count; first += most) {
      const std::size_t vectors = (std::min(most, groups.count - first) + width - 1) / width;
      evaluations += lead(part, groups, first, vectors);
    }
    for (std::size_t i = begin(part); i < end(part); ++i) {
      if (goes(i)) start_at(i, groups.t[(i - begin(part)) / group_lanes]);
    }
    return evaluations;
  }

  /// What of the tape matters to a part's lanes of masks, at t.
  std::span<const Tape::Instruction> matters(std::size_t part, const V* t, const M* masks,
                                             const ActiveVectors& active) {
    const Way& way = ways_[part];
    if (way.count == 0) return tape_.instructions;
    const D d;
    V least = hn::Inf(d);
    V most = hn::Neg(least);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      least = hn::Min(least, hn::IfThenElse(masks[j], t[j], hn::Inf(d)));
      most = hn::Max(most, hn::IfThenElse(masks[j], t[j], hn::Neg(hn::Inf(d))));
    }
    const Number from = hn::GetLane(hn::MinOfLanes(d, least));
    const Number to = hn::GetLane(hn::MaxOfLanes(d, most));
    if (!(from >= way.edge[0]) || !(to <= way.edge[way.count])) return tape_.instructions;
    std::size_t first = 0;
    while (first + 1 < way.count && from >= way.edge[first + 1]) ++first;
    std::size_t last = first;
    while (last + 1 < way.count && to > way.edge[last + 1]) ++last;
    return regions_.between(way.first_ball + first, way.first_ball + last);
  }
  /// What matters in some slices of a part's way.
  std::span<const Tape::Instruction> matters(std::size_t part, std::size_t first,
                                             std::size_t last) {
    const Way& way = ways_[part];
    if (way.count == 0) return tape_.instructions;
    return regions_.between(way.first_ball + first, way.first_ball + last);
  }

 private:
  static constexpr std::size_t capacity = Lanes::capacity;
  /// Lanes that are led together.
  static constexpr std::size_t group_lanes = 4;
  static constexpr std::size_t most_groups = part_lanes / group_lanes;
  /// The middle of each group, where it starts and its direction (x, y, z of both), and how far the
  /// others are from it, at the start and more for every meter.
  struct Groups {
    std::size_t count = 0;
    HWY_ALIGN Number start[6][most_groups];
    HWY_ALIGN Number spread[most_groups];
    HWY_ALIGN Number widening[most_groups];
    HWY_ALIGN Number t[most_groups];
    HWY_ALIGN Number until[most_groups];
  };
  /// Holds where a part's lanes start, and their directions: x, y, z of both.
  struct Extent {
    Number low[6], high[6];
  };

  bool goes(std::size_t i) const { return near_[i] <= far_[i]; }
  /// Which lanes of a vector have a way to go.
  M goes_at(std::size_t i) const {
    const D d;
    return hn::And(hn::Le(hn::Load(d, near_ + i), hn::Load(d, far_ + i)),
                   hn::FirstN(d, lanes_.size - i));
  }
  void start_at(std::size_t i, Number t) {
    near_[i] = std::max(near_[i], t);
    end_past(i);
  }
  void stop_at(std::size_t i, Number t) {
    far_[i] = std::min(far_[i], t);
    end_past(i);
  }
  /// A lane whose start is past its end has nowhere to go.
  void end_past(std::size_t i) {
    if (goes(i)) return;
    near_[i] = std::numeric_limits<Number>::infinity();
    far_[i] = -near_[i];
  }

  void cut(std::size_t part, std::size_t count, typename Regions<D>::Balls& balls) {
    Way& way = ways_[part];
    way.count = 0;
    Number least = std::numeric_limits<Number>::infinity();
    Number most = -least;
    for (std::size_t i = begin(part); i < end(part); ++i) {
      least = std::min(least, near_[i]);
      most = std::max(most, far_[i]);
    }
    if (!(least < most)) return;
    way.count = count;
    way.first_ball = balls.count;
    // Thin where the lanes start and thick in the distance.
    constexpr double scale = 2;
    const double range = static_cast<double>(most) - static_cast<double>(least);
    const double factor = std::pow(1 + range / scale, 1.0 / static_cast<double>(count));
    double reach = scale;
    for (std::size_t k = 0; k < count; ++k, reach *= factor) {
      way.edge[k] = least + static_cast<Number>(reach - scale);
    }
    way.edge[count] = most;
    const Extent extent = extent_of(part);
    for (std::size_t k = 0; k < count; ++k) {
      Number low[3];
      Number high[3];
      for (int axis = 0; axis < 3; ++axis) {
        const auto at = [&](const Number* from, std::size_t edge) {
          return from[axis] + way.edge[edge] * from[axis + 3];
        };
        low[axis] = std::min(at(extent.low, k), at(extent.low, k + 1));
        high[axis] = std::max(at(extent.high, k), at(extent.high, k + 1));
      }
      balls.add(low, high);
    }
  }

  Extent extent_of(std::size_t part) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const V infinite = hn::Inf(d);
    Extent extent;
    for (int row = 0; row < 6; ++row) {
      V low = infinite;
      V high = hn::Neg(infinite);
      for (std::size_t i = begin(part); i < end(part); i += width) {
        const M goes = goes_at(i);
        const V value = hn::Load(d, rows_[row] + i);
        low = hn::Min(low, hn::IfThenElse(goes, value, infinite));
        high = hn::Max(high, hn::IfThenElse(goes, value, hn::Neg(infinite)));
      }
      extent.low[row] = hn::GetLane(hn::MinOfLanes(d, low));
      extent.high[row] = hn::GetLane(hn::MaxOfLanes(d, high));
    }
    return extent;
  }

  /// Where no lane can meet anything before some slice, or after it, none has to look. Which balls
  /// are left.
  std::uint64_t narrow(std::size_t part, const Regions<D>& regions) {
    const Way& way = ways_[part];
    if (way.count == 0) return 0;
    std::size_t first = 0;
    std::size_t last = way.count;
    // Equal steps are counted from where the lane starts.
    if (budget_.method != FieldMethod::fixed) {
      while (first < way.count && regions.empty(way.first_ball + first)) ++first;
      while (last > first && regions.empty(way.first_ball + last - 1)) --last;
      for (std::size_t i = begin(part); i < end(part); ++i) {
        if (first > 0 && goes(i)) start_at(i, way.edge[first]);
        if (last < way.count && goes(i)) stop_at(i, way.edge[last]);
      }
    }
    if (first == last) return 0;
    return ((std::uint64_t{2} << (last - 1 - first)) - 1) << (way.first_ball + first);
  }

  /// Lanes that start at different places are on surfaces: there is no emptiness around them.
  bool same_start(std::size_t part) const {
    const std::size_t first = begin(part);
    bool same = true;
    for (std::size_t i = first; i < end(part); ++i) {
      same &= lanes_.x[i] == lanes_.x[first] && lanes_.y[i] == lanes_.y[first] &&
              lanes_.z[i] == lanes_.z[first];
    }
    return same;
  }

  /// The least or the most of every group of a part in a row of numbers.
  void of_groups(std::size_t part, const Number* row, bool most, Number* to) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    HWY_ALIGN Number kept[part_lanes + hn::MaxLanes(D()) + group_lanes];
    HWY_ALIGN Number found[part_lanes];
    const V nothing = most ? hn::Neg(hn::Inf(d)) : hn::Inf(d);
    for (std::size_t i = 0; i < part_lanes + group_lanes; i += width) {
      const std::size_t lane = begin(part) + i;
      V value = nothing;
      if (lane < end(part)) value = hn::IfThenElse(goes_at(lane), hn::Load(d, row + lane), value);
      hn::Store(value, d, kept + i);
    }
    for (std::size_t i = 0; i < part_lanes; i += width) {
      V value = hn::Load(d, kept + i);
      for (std::size_t k = 1; k < group_lanes; ++k) {
        const V next = hn::LoadU(d, kept + i + k);
        value = most ? hn::Max(value, next) : hn::Min(value, next);
      }
      hn::Store(value, d, found + i);
    }
    for (std::size_t n = 0; n < most_groups; ++n) to[n] = found[n * group_lanes];
  }

  void gather(std::size_t part, Groups& groups) const {
    groups.count = (end(part) - begin(part) + group_lanes - 1) / group_lanes;
    of_groups(part, near_, false, groups.t);
    of_groups(part, far_, true, groups.until);
    Number low[most_groups];
    Number high[most_groups];
    std::fill_n(groups.spread, most_groups, Number(0));
    std::fill_n(groups.widening, most_groups, Number(0));
    for (int row = 0; row < 6; ++row) {
      of_groups(part, rows_[row], false, low);
      of_groups(part, rows_[row], true, high);
      Number* square = row < 3 ? groups.spread : groups.widening;
      for (std::size_t n = 0; n < most_groups; ++n) {
        const bool any = low[n] <= high[n];
        const Number half = any ? Number(0.5) * (high[n] - low[n]) : Number(0);
        groups.start[row][n] = any ? low[n] + half : Number(0);
        square[n] += half * half;
      }
    }
    for (std::size_t n = 0; n < most_groups; ++n) {
      groups.spread[n] = std::sqrt(groups.spread[n]) + Number(1e-6);
      groups.widening[n] = std::sqrt(groups.widening[n]) + Number(1e-6);
    }
  }

  std::size_t lead(std::size_t part, Groups& groups, std::size_t first, std::size_t vectors) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const V per_stretch = hn::Set(d, static_cast<Number>((1 - 1e-5) / tape_.stretch));
    const V one = hn::Set(d, Number(1));
    std::size_t evaluations = 0;
    V at[block_vectors];
    M going[block_vectors];
    for (std::size_t j = 0; j < vectors; ++j) {
      at[j] = hn::Load(d, groups.t + first + j * width);
      going[j] = hn::And(hn::Le(at[j], hn::Load(d, groups.until + first + j * width)),
                         hn::FirstN(d, groups.count - first - j * width));
      // Groups of which no lane goes are evaluated with the others: at a place that is a number.
      at[j] = hn::IfThenElseZero(going[j], at[j]);
    }
    for (int step = 0; step < 100; ++step) {
      const ActiveVectors active = Those(d, going, vectors);
      if (active.count == 0) break;
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const std::size_t i = first + j * width;
        for (std::size_t axis = 0; axis < 3; ++axis) {
          const V way = hn::Load(d, groups.start[axis + 3] + i);
          machine_.point(0, axis, j) =
              Plain<D>(hn::Add(hn::Load(d, groups.start[axis] + i), hn::Mul(at[j], way)));
        }
        evaluations += hn::CountTrue(d, going[j]);
      }
      machine_.run(matters(part, at, going, active), active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const std::size_t i = first + j * width;
        const V widen = hn::Load(d, groups.widening + i);
        const V wide = hn::Add(hn::Load(d, groups.spread + i), hn::Mul(at[j], widen));
        const V clear = hn::Mul(machine_.value(j).v, per_stretch);
        const V more = hn::Div(hn::Sub(clear, wide), hn::Add(one, widen));
        // Where steps are short beside the group's width, its lanes go on alone.
        going[j] = hn::And(going[j], hn::Gt(more, hn::Mul(wide, hn::Set(d, Number(2)))));
        at[j] = hn::IfThenElse(going[j], hn::Add(at[j], more), at[j]);
        going[j] = hn::And(going[j], hn::Le(at[j], hn::Load(d, groups.until + i)));
      }
    }
    for (std::size_t j = 0; j < vectors; ++j) hn::Store(at[j], d, groups.t + first + j * width);
    return evaluations;
  }

  Machine<D, Plain<D>>& machine_;
  Regions<D> regions_;
  const Tape& tape_;
  const Lanes& lanes_;
  const FieldBudget& budget_;
  const Number* rows_[6] = {lanes_.x,           lanes_.y,           lanes_.z,
                            lanes_.direction_x, lanes_.direction_y, lanes_.direction_z};
  HWY_ALIGN Number near_[capacity];
  HWY_ALIGN Number far_[capacity];
  Way ways_[most_parts];
  std::size_t first_ = 0;
  std::size_t lanes_a_part_ = part_lanes;
  std::size_t part_count_ = 0;
  std::size_t slice_count_ = most_slices;
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
