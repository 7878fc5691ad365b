#include "field/field_kernel.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "field/lane_order.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "field/field_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "field/evaluate-inl.h"
#include "field/regions-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Sets the first register of a machine to places; the last place again past the end.
template <class D>
struct BlockPlaces {
  using Number = hn::TFromD<D>;
  static constexpr std::size_t most = block_vectors * hn::MaxLanes(D());
  HWY_ALIGN Number x[most], y[most], z[most];
  std::size_t count = 0;

  BlockPlaces(const FieldPlaces<Number>& places, std::size_t first, std::size_t end) {
    const std::size_t lanes = block_vectors * hn::Lanes(D());
    count = std::min(lanes, end - first);
    for (std::size_t i = 0; i < lanes; ++i) {
      const std::size_t from = first + std::min(i, count - 1);
      x[i] = places.x[from];
      y[i] = places.y[from];
      z[i] = places.z[from];
    }
  }
  ActiveVectors active() const {
    const std::size_t lanes = hn::Lanes(D());
    return ActiveVectors::First((count + lanes - 1) / lanes);
  }
};

/// Runs a tape over places, block by block; `give` gets each block's machine.
template <class T, class D, class Give>
HWY_INLINE void Ask(D d, const Tape& tape, std::span<const Tape::Instruction> instructions,
                    const FieldPlaces<hn::TFromD<D>>& places, std::size_t begin, std::size_t end,
                    const Give& give) {
  using Number = hn::TFromD<D>;
  const std::size_t lanes = hn::Lanes(d);
  Machine<D, T> machine(tape);
  for (std::size_t first = begin; first < end; first += block_vectors * lanes) {
    const BlockPlaces<D> block(places, first, end);
    const ActiveVectors active = block.active();
    for (std::size_t j = 0; j < active.count; ++j) {
      T& x = machine.point(0, 0, j);
      T& y = machine.point(0, 1, j);
      T& z = machine.point(0, 2, j);
      x = T(hn::Load(d, block.x + j * lanes));
      y = T(hn::Load(d, block.y + j * lanes));
      z = T(hn::Load(d, block.z + j * lanes));
      if constexpr (std::is_same_v<T, Dual<D>>) {
        x.x = y.y = z.z = hn::Set(d, Number(1));
      }
    }
    machine.run(instructions, active);
    give(machine, first, block.count);
  }
}

/// Copies lanes of vectors to where they belong, up to a count.
template <class D, class Vector, class Value, class Get>
HWY_INLINE void Spread(D d, std::size_t count, Value* to, const Get& get) {
  HWY_ALIGN Value lanes[hn::MaxLanes(D())];
  const std::size_t width = hn::Lanes(d);
  for (std::size_t i = 0; i < count; i += width) {
    const Vector vector = get(i / width);
    hn::Store(vector, hn::DFromV<Vector>(), lanes);
    std::copy_n(lanes, std::min(width, count - i), to + i);
  }
}

/// Adds the ball around some places.
template <class Number, class Balls>
void add_ball(const FieldPlaces<Number>& places, std::size_t begin, std::size_t end, Balls& balls) {
  const Number* rows[3] = {places.x, places.y, places.z};
  Number* middle[3] = {balls.x, balls.y, balls.z};
  Number square = 0;
  Number farthest = 0;
  for (int axis = 0; axis < 3; ++axis) {
    Number low = std::numeric_limits<Number>::infinity();
    Number high = -low;
    for (std::size_t i = begin; i < end; ++i) {
      low = std::min(low, rows[axis][i]);
      high = std::max(high, rows[axis][i]);
    }
    const Number half = Number(0.5) * (high - low);
    middle[axis][balls.count] = low + half;
    square += half * half;
    farthest = std::max({farthest, std::abs(low), std::abs(high)});
  }
  balls.radius[balls.count++] = std::sqrt(square) + Number(1e-6) * (1 + farthest);
}

template <class Number>
void Values(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  const auto give = [&](auto& machine, std::size_t first, std::size_t count) {
    Spread<D, V>(d, count, values + first, [&](std::size_t j) { return machine.value(j).v; });
  };
  // Where a field is large, neighbors are asked only for what matters around them.
  constexpr std::size_t chunk = 128;
  if (tape.instructions.size() < 24 || places.count < chunk / 2) {
    Ask<Plain<D>>(d, tape, tape.instructions, places, 0, places.count, give);
    return;
  }
  Machine<D, Plain<D>> machine(tape);
  for (std::size_t first = 0; first < places.count; first += chunk) {
    const std::size_t end = std::min(first + chunk, places.count);
    Regions<D> regions(tape);
    typename Regions<D>::Balls balls;
    for (std::size_t at = first; at < end; at += 16) {
      add_ball(places, at, std::min(at + 16, end), balls);
    }
    regions.find(machine, tape.instructions, balls);
    for (std::size_t half = 0; half * 64 < end - first; ++half) {
      const std::size_t begin = first + half * 64;
      const std::size_t last = std::min(balls.count, 4 * half + 4) - 1;
      Ask<Plain<D>>(d, tape, regions.between(4 * half, last), places, begin,
                    std::min(begin + 64, end), give);
    }
  }
}

template <class Number>
void Gradients(const Tape& tape, const FieldPlaces<Number>& places, Number* values,
               const FieldGradients<Number>& to) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  Ask<Dual<D>>(
      d, tape, tape.instructions, places, 0, places.count,
      [&](auto& machine, std::size_t first, std::size_t count) {
        Spread<D, V>(d, count, values + first, [&](std::size_t j) { return machine.value(j).v; });
        Spread<D, V>(d, count, to.x + first, [&](std::size_t j) { return machine.value(j).x; });
        Spread<D, V>(d, count, to.y + first, [&](std::size_t j) { return machine.value(j).y; });
        Spread<D, V>(d, count, to.z + first, [&](std::size_t j) { return machine.value(j).z; });
      });
}

template <class Number>
void Materials(const Tape& tape, const FieldPlaces<Number>& places,
               const FieldMaterials<Number>& to) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  using VI = hn::Vec<hn::RebindToSigned<D>>;
  using Integer = hn::TFromV<VI>;
  const D d;
  Ask<Made<D>>(
      d, tape, tape.instructions, places, 0, places.count,
      [&](auto& machine, std::size_t first, std::size_t count) {
        Integer whole[block_vectors * hn::MaxLanes(D())];
        Spread<D, VI>(d, count, whole, [&](std::size_t j) { return machine.value(j).material; });
        std::copy_n(whole, count, to.material + first);
        Spread<D, VI>(d, count, whole, [&](std::size_t j) { return machine.value(j).other; });
        std::copy_n(whole, count, to.other + first);
        Spread<D, V>(d, count, to.share + first,
                     [&](std::size_t j) { return machine.value(j).share; });
      });
}

/// Lanes of a batch on their way. Everything that decides where a lane steps to is keyed to the
/// lane or to its group, never to the vector it is in, so that all widths give the same bits.
template <class D>
class March {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using Lanes = LaneBatch<Number>;
  static constexpr std::size_t capacity = Lanes::capacity;
  /// Most lanes whose way is cut into the same slices, most such parts at once, and most slices.
  static constexpr std::size_t part_lanes = 64;
  static constexpr std::size_t parts = 4;
  static constexpr std::size_t slices = 32;
  /// Lanes that are led a part of their way together.
  static constexpr std::size_t group_lanes = 4;
  static constexpr std::size_t groups = part_lanes / group_lanes;

 public:
  /// `clusters`: every 16 lanes start near one another, but not all do.
  March(const Tape& tape, const Lanes& lanes, const FieldBudget& budget, bool clusters)
      : machine_(tape),
        regions_(tape),
        tape_(tape),
        lanes_(lanes),
        budget_(budget),
        clusters_(clusters) {
    const auto set = [](double value) { return hn::Set(D(), static_cast<Number>(value)); };
    most_steps_ = set(static_cast<double>(budget.steps));
    tolerance_ = set(budget.tolerance);
    growth_ = set(budget.growth);
    per_stretch_ = set(1 / tape.stretch);
    relaxation_ = set(budget.relaxation);
  }

  void run(HitBatch<Number>& hits) {
    hits.shared_evaluations = 0;
    enter();
    if (!clusters_) {
      set_parts(0, 2, part_lanes);
      run_parts(hits);
      return;
    }
    constexpr std::size_t at_once = parts * cluster_lanes;
    for (std::size_t first = 0; first < lanes_.size; first += at_once) {
      set_parts(first, parts, cluster_lanes);
      run_parts(hits);
    }
  }

 private:
  void set_parts(std::size_t first, std::size_t count, std::size_t lanes) {
    parts_first_ = first;
    lanes_a_part_ = lanes;
    part_count_ = 0;
    while (part_count_ < count && first + part_count_ * lanes < lanes_.size) ++part_count_;
    slice_count_ = std::min(slices, Regions<D>::most / count);
  }
  std::size_t part_begin(std::size_t part) const { return parts_first_ + part * lanes_a_part_; }
  std::size_t part_end(std::size_t part) const {
    return std::min(parts_first_ + (part + 1) * lanes_a_part_, lanes_.size);
  }

  void run_parts(HitBatch<Number>& hits) {
    const std::size_t width = hn::Lanes(D());
    for (Way& way : ways_) way.count = 0;
    slice(hits);
    for (std::size_t part = 0; part < part_count_; ++part) {
      part_ = part;
      if (budget_.cones && budget_.method != FieldMethod::fixed && same_start(part))
        lead(part, hits);
      // A block of wide vectors is no larger than a part.
      static_assert(block_vectors * hn::MaxLanes(D()) <= part_lanes);
      for (first_ = part_begin(part); first_ < part_end(part); first_ += block_vectors * width) {
        march(hits);
      }
    }
  }

  /// Where the lanes enter the field's bounds and where they leave them.
  void enter() {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const V margin = hn::Set(d, static_cast<Number>(2 * budget_.tolerance + 1e-6));
    const V zero = hn::Zero(d);
    for (std::size_t i = 0; i < lanes_.size; i += width) {
      V near = lanes_.any_start ? hn::Load(d, lanes_.start + i) : zero;
      V far = hn::Set(d, lanes_.far_limit);
      if (lanes_.any_limit) far = hn::Min(far, hn::Load(d, lanes_.limit + i));
      M inside = hn::FirstN(d, lanes_.size - i);
      const auto slab = [&](const Number* from, const Number* direction, double low, double high) {
        const V start = hn::Load(d, from + i);
        const V way = hn::Load(d, direction + i);
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
      const Bounds& bounds = tape_.bounds;
      slab(lanes_.x, lanes_.direction_x, bounds.low.x(), bounds.high.x());
      slab(lanes_.y, lanes_.direction_y, bounds.low.y(), bounds.high.y());
      slab(lanes_.z, lanes_.direction_z, bounds.low.z(), bounds.high.z());
      // A lane that misses the bounds has nowhere to go.
      inside = hn::And(inside, hn::Le(near, far));
      hn::Store(hn::IfThenElse(inside, near, hn::Inf(d)), d, near_ + i);
      hn::Store(hn::IfThenElse(inside, far, hn::Neg(hn::Inf(d))), d, far_ + i);
    }
  }
  bool goes(std::size_t i) const { return near_[i] <= far_[i]; }

  /// Cuts the way of the lanes of each part of the batch into slices, and finds what of the tape
  /// matters in each.
  void slice(HitBatch<Number>& hits) {
    if (!budget_.pruning) return;
    // Few slices of the whole way first, to find where there is anything to meet.
    typename Regions<D>::Balls balls;
    for (std::size_t part = 0; part < part_count_; ++part) cut(part, slice_count_ / 2, balls);
    if (balls.count == 0) return;
    Regions<D> coarse(tape_);
    coarse.find(machine_, tape_.instructions, balls);
    hits.shared_evaluations += balls.count;
    std::uint64_t matter = 0;
    for (std::size_t part = 0; part < part_count_; ++part) matter |= narrow(part, coarse);
    balls.count = 0;
    for (std::size_t part = 0; part < part_count_; ++part) cut(part, slice_count_, balls);
    if (balls.count == 0) return;
    regions_.find(machine_, coarse.within(matter), balls);
    hits.shared_evaluations += balls.count;
    for (std::size_t part = 0; part < part_count_; ++part) narrow(part, regions_);
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
      for (std::size_t i = part_begin(part); i < part_end(part); ++i) {
        if (!goes(i)) continue;
        if (first > 0) near_[i] = std::max(near_[i], way.edge[first]);
        if (last < way.count) far_[i] = std::min(far_[i], way.edge[last]);
        if (near_[i] > far_[i]) end(i);
      }
    }
    if (first == last) return 0;
    return ((std::uint64_t{2} << (last - 1 - first)) - 1) << (way.first_ball + first);
  }
  void cut(std::size_t part, std::size_t count, typename Regions<D>::Balls& balls) {
    Way& way = ways_[part];
    way.count = 0;

    Number least = std::numeric_limits<Number>::infinity();
    Number most = -least;
    for (std::size_t i = part_begin(part); i < part_end(part); ++i) {
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
    const Spread spread = spread_of(part);
    for (std::size_t k = 0; k < count; ++k) {
      Number square = 0;
      Number* middle[3] = {balls.x, balls.y, balls.z};
      Number farthest = 0;
      for (int axis = 0; axis < 3; ++axis) {
        const auto at = [&](const Number* from, Number t) {
          return from[axis] + t * from[axis + 3];
        };
        const Number low = std::min(at(spread.low, way.edge[k]), at(spread.low, way.edge[k + 1]));
        const Number high =
            std::max(at(spread.high, way.edge[k]), at(spread.high, way.edge[k + 1]));
        const Number half = Number(0.5) * (high - low);
        middle[axis][balls.count] = low + half;
        square += half * half;
        farthest = std::max({farthest, std::abs(low), std::abs(high)});
      }
      balls.radius[balls.count++] = std::sqrt(square) + Number(1e-6) * (1 + farthest);
    }
  }
  /// A lane that has nowhere left to go.
  void end(std::size_t i) {
    near_[i] = std::numeric_limits<Number>::infinity();
    far_[i] = -near_[i];
  }

  /// The slices of a part's way.
  struct Way {
    std::size_t count = 0;
    std::size_t first_ball = 0;
    Number edge[slices + 1];
  };
  /// Groups of lanes: the middle one, and how far the others are from it, at the start and more for
  /// every meter.
  struct Groups {
    std::size_t count = 0;
    HWY_ALIGN Number start[6][groups];
    HWY_ALIGN Number spread[groups];
    HWY_ALIGN Number widening[groups];
    HWY_ALIGN Number t[groups];
    HWY_ALIGN Number until[groups];
  };
  /// Holds where a part's lanes start, and their directions: x, y, z of both.
  struct Spread {
    Number low[6], high[6];
  };
  Spread spread_of(std::size_t part) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const V infinite = hn::Inf(d);
    Spread spread;
    for (int row = 0; row < 6; ++row) {
      V low = infinite;
      V high = hn::Neg(infinite);
      for (std::size_t i = part_begin(part); i < part_end(part); i += width) {
        const M goes = goes_at(i);
        const V value = hn::Load(d, rows_[row] + i);
        low = hn::Min(low, hn::IfThenElse(goes, value, infinite));
        high = hn::Max(high, hn::IfThenElse(goes, value, hn::Neg(infinite)));
      }
      spread.low[row] = hn::GetLane(hn::MinOfLanes(d, low));
      spread.high[row] = hn::GetLane(hn::MaxOfLanes(d, high));
    }
    return spread;
  }
  /// Lanes that start at different places are on surfaces: there is no emptiness around them.
  bool same_start(std::size_t part) const {
    const std::size_t first = part_begin(part);
    bool same = true;
    for (std::size_t i = first; i < part_end(part); ++i) {
      same &= lanes_.x[i] == lanes_.x[first] && lanes_.y[i] == lanes_.y[first] &&
              lanes_.z[i] == lanes_.z[first];
    }
    return same;
  }
  /// Which lanes of a vector have a way to go.
  M goes_at(std::size_t i) const {
    const D d;
    return hn::And(hn::Le(hn::Load(d, near_ + i), hn::Load(d, far_ + i)),
                   hn::FirstN(d, lanes_.size - i));
  }

  /// What of the tape matters where the way of a part's lanes is from t to t.
  std::span<const Tape::Instruction> matters(std::size_t part, Number from, Number to) {
    const Way& way = ways_[part];
    if (way.count == 0 || !(from >= way.edge[0]) || !(to <= way.edge[way.count])) {
      return tape_.instructions;
    }
    std::size_t first = 0;
    while (first + 1 < way.count && from >= way.edge[first + 1]) ++first;
    std::size_t last = first;
    while (last + 1 < way.count && to > way.edge[last + 1]) ++last;
    return regions_.between(way.first_ball + first, way.first_ball + last);
  }

  /// Leads groups of lanes together as far as a ball of emptiness around the middle one holds all
  /// of them.
  void lead(std::size_t part, HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    Groups g;
    // The least and the most of every `group_lanes` in a row, at each lane; those at the first of
    // a group are taken.
    const std::size_t begin = part_begin(part);
    const std::size_t past = part_end(part);
    HWY_ALIGN Number kept[part_lanes + hn::MaxLanes(D()) + group_lanes];
    HWY_ALIGN Number found[part_lanes];
    const V infinite = hn::Inf(d);
    const auto each = [&](const Number* row, bool most, Number* to) {
      const V nothing = most ? hn::Neg(infinite) : infinite;
      for (std::size_t i = 0; i < part_lanes; i += width) {
        const bool any = begin + i < past;
        const V value =
            any ? hn::IfThenElse(goes_at(begin + i), hn::Load(d, row + begin + i), nothing)
                : nothing;
        hn::Store(value, d, kept + i);
      }
      for (std::size_t i = 0; i < group_lanes; i += width)
        hn::Store(nothing, d, kept + part_lanes + i);
      for (std::size_t i = 0; i < part_lanes; i += width) {
        V value = hn::Load(d, kept + i);
        for (std::size_t k = 1; k < group_lanes; ++k) {
          const V next = hn::LoadU(d, kept + i + k);
          value = most ? hn::Max(value, next) : hn::Min(value, next);
        }
        hn::Store(value, d, found + i);
      }
      for (std::size_t n = 0; n < groups; ++n) to[n] = found[n * group_lanes];
    };
    g.count = (past - begin + group_lanes - 1) / group_lanes;
    each(near_, false, g.t);
    each(far_, true, g.until);
    Number low[groups];
    Number high[groups];
    std::fill_n(g.spread, groups, Number(0));
    std::fill_n(g.widening, groups, Number(0));
    for (int row = 0; row < 6; ++row) {
      each(rows_[row], false, low);
      each(rows_[row], true, high);
      Number* square = row < 3 ? g.spread : g.widening;
      for (std::size_t n = 0; n < groups; ++n) {
        const bool any = low[n] <= high[n];
        const Number half = any ? Number(0.5) * (high[n] - low[n]) : Number(0);
        g.start[row][n] = any ? low[n] + half : Number(0);
        square[n] += half * half;
      }
    }
    for (std::size_t n = 0; n < groups; ++n) {
      g.spread[n] = std::sqrt(g.spread[n]) + Number(1e-6);
      g.widening[n] = std::sqrt(g.widening[n]) + Number(1e-6);
    }
    const std::size_t most = block_vectors * width;
    for (std::size_t first = 0; first < g.count; first += most) {
      lead_groups(part, g, first, (std::min(most, g.count - first) + width - 1) / width, hits);
    }
    for (std::size_t i = part_begin(part); i < part_end(part); ++i) {
      if (!goes(i)) continue;
      near_[i] = std::max(near_[i], g.t[(i - begin) / group_lanes]);
      if (near_[i] > far_[i]) end(i);
    }
  }

  void lead_groups(std::size_t part, Groups& g, std::size_t first, std::size_t vectors,
                   HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const V per_stretch = hn::Set(d, static_cast<Number>((1 - 1e-5) / tape_.stretch));
    const V one = hn::Set(d, Number(1));
    V at[block_vectors];
    M going[block_vectors];
    for (std::size_t j = 0; j < vectors; ++j) {
      at[j] = hn::Load(d, g.t + first + j * width);
      going[j] = hn::And(hn::Le(at[j], hn::Load(d, g.until + first + j * width)),
                         hn::FirstN(d, g.count - first - j * width));
    }
    for (int step = 0; step < 100; ++step) {
      const ActiveVectors active = those(going, vectors);
      if (active.count == 0) break;
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const std::size_t i = first + j * width;
        for (std::size_t axis = 0; axis < 3; ++axis) {
          machine_.point(0, axis, j) = Plain<D>(hn::Add(
              hn::Load(d, g.start[axis] + i), hn::Mul(at[j], hn::Load(d, g.start[axis + 3] + i))));
        }
        hits.shared_evaluations += hn::CountTrue(d, going[j]);
      }
      machine_.run(matters_of(part, at, going, active), active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const std::size_t i = first + j * width;
        const V widen = hn::Load(d, g.widening + i);
        const V wide = hn::Add(hn::Load(d, g.spread + i), hn::Mul(at[j], widen));
        const V clear = hn::Mul(machine_.value(j).v, per_stretch);
        const V more = hn::Div(hn::Sub(clear, wide), hn::Add(one, widen));
        // Little more to be won.
        going[j] = hn::And(going[j], hn::Gt(more, hn::Mul(wide, hn::Set(d, Number(2)))));
        at[j] = hn::IfThenElse(going[j], hn::Add(at[j], more), at[j]);
        going[j] = hn::And(going[j], hn::Le(at[j], hn::Load(d, g.until + i)));
      }
    }
    for (std::size_t j = 0; j < vectors; ++j) hn::Store(at[j], d, g.t + first + j * width);
  }

  /// Vectors some lane of which takes part.
  static ActiveVectors those(const M* masks, std::size_t vectors) {
    ActiveVectors active;
    for (std::size_t j = 0; j < vectors; ++j) {
      if (!hn::AllFalse(D(), masks[j])) active.index[active.count++] = j;
    }
    return active;
  }
  /// What of the tape matters to the lanes of masks, at t.
  std::span<const Tape::Instruction> matters_of(std::size_t part, const V* t, const M* masks,
                                                const ActiveVectors& active) {
    if (ways_[part].count == 0) return tape_.instructions;
    const D d;
    V least = hn::Inf(d);
    V most = hn::Neg(least);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      least = hn::Min(least, hn::IfThenElse(masks[j], t[j], hn::Inf(d)));
      most = hn::Max(most, hn::IfThenElse(masks[j], t[j], hn::Neg(hn::Inf(d))));
    }
    return matters(part, hn::GetLane(hn::MinOfLanes(d, least)),
                   hn::GetLane(hn::MaxOfLanes(d, most)));
  }

  /// A block of lanes, to their ends.
  void march(HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::size_t count = std::min(block_vectors * width, part_end(part_) - first_);
    const std::size_t vectors = (count + width - 1) / width;
    const V zero = hn::Zero(d);
    for (std::size_t j = 0; j < vectors; ++j) {
      t_[j] = hn::Load(d, near_ + first_ + j * width);
      far_end_[j] = hn::Load(d, far_ + first_ + j * width);
      going_[j] = hn::And(hn::Le(t_[j], far_end_[j]), hn::FirstN(d, count - j * width));
      hit_[j] = spent_[j] = hn::Lt(zero, zero);
      steps_[j] = last_[j] = stride_[j] = more_[j] = zero;
      before_[j] = t_[j];
      side_[j] = hn::Set(d, Number(1));
      value_[j] = least_[j] = value_before_[j] = hn::Inf(d);
    }
    ActiveVectors active = those(going_, vectors);
    slice_ = 0;
    while (active.count > 0) {
      active = nearest(vectors, active);
      for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
      const Way& way = ways_[part_];
      const std::size_t ball = way.first_ball + slice_;
      machine_.run(way.count == 0 ? std::span(tape_.instructions) : regions_.between(ball, ball),
                   active);
      for (std::size_t k = 0; k < active.count; ++k) advance(active.index[k]);
      active = those(going_, vectors);
    }
    active = those(hit_, vectors);
    if (active.count > 0) {
      if (budget_.method == FieldMethod::fixed) halve(active);
      if (!lanes_.ending_only && budget_.refinement > 0) refine(active);
    }
    tell(count, hits);
    if (active.count > 0) describe(active, count, hits);
  }

  /// Picks the lanes that are in the nearest slice; the others wait, so that what is asked is
  /// small. Which they are does not change what a lane does.
  ActiveVectors nearest(std::size_t vectors, const ActiveVectors& active) {
    const Way& way = ways_[part_];
    if (way.count == 0) {
      std::copy_n(going_, vectors, now_);
      return active;
    }
    const D d;
    V least = hn::Inf(d);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      least = hn::Min(least, hn::IfThenElse(going_[j], t_[j], hn::Inf(d)));
    }
    const Number from = hn::GetLane(hn::MinOfLanes(d, least));
    while (slice_ + 1 < way.count && from >= way.edge[slice_ + 1]) ++slice_;
    while (slice_ > 0 && from < way.edge[slice_]) --slice_;
    const V until = hn::Set(d, way.edge[slice_ + 1]);
    ActiveVectors chosen;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      now_[j] = hn::And(going_[j], hn::Le(t_[j], until));
      if (!hn::AllFalse(d, now_[j])) chosen.index[chosen.count++] = j;
    }
    return chosen;
  }

  /// Sets places along lanes; `Machine` of any kind.
  template <class Asked>
  void place(Asked& machine, std::size_t j) const {
    const D d;
    const std::size_t i = first_ + j * hn::Lanes(d);
    using T = std::remove_cvref_t<decltype(machine.point(0, 0, j))>;
    const auto along = [&](const Number* from, const Number* direction) {
      return T(hn::Add(hn::Load(d, from + i), hn::Mul(t_[j], hn::Load(d, direction + i))));
    };
    machine.point(0, 0, j) = along(lanes_.x, lanes_.direction_x);
    machine.point(0, 1, j) = along(lanes_.y, lanes_.direction_y);
    machine.point(0, 2, j) = along(lanes_.z, lanes_.direction_z);
  }

  void ask(const M* masks, const ActiveVectors& active) {
    for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
    machine_.run(matters_of(part_, t_, masks, active), active);
  }

  V tolerance_at(std::size_t j) const { return hn::Add(tolerance_, hn::Mul(growth_, t_[j])); }

  void advance(std::size_t j) {
    const D d;
    const V one = hn::Set(d, Number(1));
    // Which side a lane starts on decides which way out is.
    const M starts_inside =
        hn::And(hn::Eq(steps_[j], hn::Zero(d)), hn::Lt(machine_.value(j).v, hn::Zero(d)));
    side_[j] = hn::IfThenElse(hn::And(now_[j], starts_inside), hn::Set(d, Number(-1)), side_[j]);
    const V value = hn::Mul(machine_.value(j).v, side_[j]);
    const V size = hn::Abs(value);
    steps_[j] = hn::Add(steps_[j], hn::IfThenElseZero(now_[j], one));
    least_[j] = hn::IfThenElse(now_[j], hn::Min(least_[j], size), least_[j]);
    value_[j] = hn::IfThenElse(now_[j], machine_.value(j).v, value_[j]);
    if (budget_.method == FieldMethod::fixed) {
      const M across = hn::And(now_[j], hn::Lt(value, hn::Zero(d)));
      move(j, across, hn::Set(d, static_cast<Number>(budget_.increment)));
      return;
    }
    const V radius = hn::Mul(value, per_stretch_);
    M back = hn::Lt(one, hn::Zero(d));
    if (budget_.method == FieldMethod::relaxed) {
      // A stretched step from a ball of emptiness to one that does not touch it jumped over a gap:
      // back to the rim of the first (Keinert and others, "Enhanced Sphere Tracing", 2014).
      // Straight ahead the two just touch, which rounding must not take for a gap.
      const V both = hn::Add(last_[j], hn::Abs(radius));
      back = hn::And(now_[j],
                     hn::Lt(hn::Mul(both, hn::Set(d, static_cast<Number>(1 + 1e-4))), stride_[j]));
    }
    const V near = budget_.method == FieldMethod::relaxed ? size : value;
    const M here = hn::And(hn::AndNot(back, now_[j]), hn::Lt(near, tolerance_at(j)));
    if (budget_.method == FieldMethod::sphere) {
      move(j, here, radius);
      return;
    }
    // A stretched step may end inside: from there the way is back out.
    const M outside = hn::Gt(radius, hn::Zero(d));
    // Nor may it jump past the end, where nobody would look whether it jumped over anything.
    const V more = hn::Mul(radius, relaxation_);
    const V rest = hn::Max(hn::Sub(far_end_[j], t_[j]), radius);
    const V stretched = hn::IfThenElse(outside, hn::Min(more, rest), radius);
    const V step = hn::IfThenElse(back, hn::Sub(last_[j], stride_[j]), stretched);
    // After a step back the ball is the same, and the step was no longer than it.
    const V stride = hn::IfThenElse(back, hn::Zero(d), stretched);
    stride_[j] = hn::IfThenElse(now_[j], stride, stride_[j]);
    last_[j] = hn::IfThenElse(hn::AndNot(back, now_[j]), radius, last_[j]);
    move(j, here, step);
  }

  /// Ends lanes that are there or past their end, and moves the others on.
  void move(std::size_t j, M there, V step) {
    hit_[j] = hn::Or(hit_[j], there);
    now_[j] = hn::AndNot(there, now_[j]);
    before_[j] = hn::IfThenElse(now_[j], t_[j], before_[j]);
    value_before_[j] = hn::IfThenElse(now_[j], value_[j], value_before_[j]);
    t_[j] = hn::IfThenElse(now_[j], hn::Add(t_[j], step), t_[j]);
    const M past = hn::AndNot(hn::Le(t_[j], far_end_[j]), now_[j]);
    going_[j] = hn::AndNot(hn::Or(there, past), going_[j]);
    const M out_of_steps = hn::And(going_[j], hn::Ge(steps_[j], most_steps_));
    spent_[j] = hn::Or(spent_[j], out_of_steps);
    going_[j] = hn::AndNot(out_of_steps, going_[j]);
  }

  /// Newton's method along the lane with the slope between the last two places, so that how a lane
  /// came to a surface leaves no trace. The place nearest to the surface is kept.
  void refine(const ActiveVectors& hits) {
    const D d;
    V best[block_vectors];
    M moving[block_vectors];
    std::size_t vectors = 0;
    for (std::size_t k = 0; k < hits.count; ++k) vectors = hits.index[k] + 1;
    for (std::size_t j = 0; j < vectors; ++j) {
      moving[j] = hit_[j];
      best[j] = t_[j];
    }
    /// Along the slope; a lane that runs along the surface has nothing to gain.
    const auto next = [&](std::size_t j) {
      const V slope = hn::Sub(value_[j], value_before_[j]);
      // A lane that was there from the start has no slope: once more by the distance.
      const V way = hn::Sub(t_[j], before_[j]);
      const V step = hn::IfThenElse(hn::Eq(way, hn::Zero(d)), hn::Mul(value_[j], side_[j]),
                                    hn::Neg(hn::Div(hn::Mul(value_[j], way), slope)));
      const V longest = hn::Mul(hn::Set(d, Number(64)), tolerance_at(j));
      const M sound = hn::And(hn::Le(hn::Abs(step), longest), hn::Ne(step, hn::Zero(d)));
      moving[j] = hn::And(moving[j], sound);
      before_[j] = hn::IfThenElse(moving[j], t_[j], before_[j]);
      value_before_[j] = hn::IfThenElse(moving[j], value_[j], value_before_[j]);
      t_[j] = hn::IfThenElse(moving[j], hn::Add(t_[j], step), best[j]);
    };
    for (std::size_t k = 0; k < hits.count; ++k) next(hits.index[k]);
    for (int turn = 0; turn < budget_.refinement; ++turn) {
      const ActiveVectors active = those(moving, vectors);
      if (active.count == 0) break;
      ask(moving, active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const V value = machine_.value(j).v;
        more_[j] = hn::Add(more_[j], hn::IfThenElseZero(moving[j], hn::Set(d, Number(1))));
        moving[j] = hn::And(moving[j], hn::Lt(hn::Abs(value), hn::Abs(value_[j])));
        value_[j] = hn::IfThenElse(moving[j], value, value_[j]);
        best[j] = hn::IfThenElse(moving[j], t_[j], best[j]);
        next(j);
      }
    }
    for (std::size_t j = 0; j < vectors; ++j) t_[j] = best[j];
  }

  void halve(const ActiveVectors& active) {
    const D d;
    V step[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      step[active.index[k]] = hn::Set(d, static_cast<Number>(-0.5 * budget_.increment));
    }
    const int turns = static_cast<int>(std::ceil(
                          std::log2(std::max(2.0, budget_.increment / budget_.tolerance)))) +
                      1;
    for (int turn = 0; turn < turns; ++turn) {
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        before_[j] = hn::IfThenElse(hit_[j], t_[j], before_[j]);
        value_before_[j] = hn::IfThenElse(hit_[j], value_[j], value_before_[j]);
        t_[j] = hn::IfThenElse(hit_[j], hn::Add(t_[j], step[j]), t_[j]);
      }
      ask(hit_, active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        value_[j] = machine_.value(j).v;
        more_[j] = hn::Add(more_[j], hn::Set(d, Number(1)));
        const V value = hn::Mul(value_[j], side_[j]);
        const V size = hn::Mul(hn::Abs(step[j]), hn::Set(d, Number(0.5)));
        step[j] = hn::IfThenElse(hn::Lt(value, hn::Zero(d)), hn::Neg(size), size);
      }
    }
  }

  void tell(std::size_t count, HitBatch<Number>& hits) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    HWY_ALIGN Number steps[hn::MaxLanes(D())];
    HWY_ALIGN Number more[hn::MaxLanes(D())];
    HWY_ALIGN Number side[hn::MaxLanes(D())];
    HWY_ALIGN Number t[hn::MaxLanes(D())];
    HWY_ALIGN Number least[hn::MaxLanes(D())];
    for (std::size_t j = 0; j * width < count; ++j) {
      hn::Store(t_[j], d, t);
      hn::Store(steps_[j], d, steps);
      hn::Store(more_[j], d, more);
      hn::Store(side_[j], d, side);
      hn::Store(least_[j], d, least);
      const std::uint64_t hit = MaskBits(d, hit_[j]);
      const std::uint64_t out = MaskBits(d, spent_[j]);
      for (std::size_t k = 0; k < width && j * width + k < count; ++k) {
        const std::size_t i = first_ + j * width + k;
        const bool met = (hit >> k & 1) != 0;
        const bool spent = (out >> k & 1) != 0;
        hits.ending[i] = met ? Ending::hit : spent ? Ending::spent : Ending::escaped;
        hits.face[i] = met ? Face::curved : Face::none;
        hits.inside[i] = side[k] < 0;
        // One that escaped may have been told so from the start.
        hits.t[i] = met || spent ? t[k] : lanes_.far_limit;
        hits.steps[i] = static_cast<std::uint32_t>(steps[k]);
        hits.evaluations[i] = hits.steps[i] + static_cast<std::uint32_t>(more[k]);
        hits.least[i] = static_cast<float>(least[k]);
      }
    }
  }

  /// Normals, toward the side that lanes come from, and materials of what was hit.
  void describe(const ActiveVectors& active, std::size_t count, HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::span<const Tape::Instruction> instructions = matters_of(part_, t_, hit_, active);
    describe_materials(instructions, active, count, hits);
    if (lanes_.ending_only) return;
    Machine<D, Dual<D>> slope(tape_);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      place(slope, j);
      slope.point(0, 0, j).x = slope.point(0, 1, j).y = slope.point(0, 2, j).z =
          hn::Set(d, Number(1));
    }
    slope.run(instructions, active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Dual<D>& value = slope.value(j);
      const V square = hn::Add(hn::Add(hn::Mul(value.x, value.x), hn::Mul(value.y, value.y)),
                               hn::Mul(value.z, value.z));
      const V factor =
          hn::IfThenElseZero(hn::Gt(square, hn::Zero(d)), hn::Div(side_[j], hn::Sqrt(square)));
      HWY_ALIGN Number x[hn::MaxLanes(D())];
      HWY_ALIGN Number y[hn::MaxLanes(D())];
      HWY_ALIGN Number z[hn::MaxLanes(D())];
      hn::Store(hn::Mul(value.x, factor), d, x);
      hn::Store(hn::Mul(value.y, factor), d, y);
      hn::Store(hn::Mul(value.z, factor), d, z);
      for (std::size_t m = 0; m < width && j * width + m < count; ++m) {
        const std::size_t i = first_ + j * width + m;
        if (hits.ending[i] != Ending::hit) continue;
        ++hits.evaluations[i];
        hits.normal_x[i] = static_cast<float>(x[m]);
        hits.normal_y[i] = static_cast<float>(y[m]);
        hits.normal_z[i] = static_cast<float>(z[m]);
      }
    }
  }

  void describe_materials(std::span<const Tape::Instruction> instructions,
                          const ActiveVectors& active, std::size_t count, HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const auto give = [&](std::size_t i, std::int64_t material, std::int64_t other, Number share) {
      hits.material[i] = static_cast<std::uint32_t>(material);
      hits.other[i] = static_cast<std::uint32_t>(other);
      hits.share[i] = static_cast<float>(share);
    };
    // Where all that matters is of one material, nobody has to be asked.
    bool same = true;
    std::int32_t material = -2;
    for (const Tape::Instruction& one : instructions) {
      if (reads_value(one.op) || writes_point(one.op)) continue;
      same = same && (material == -2 || material == one.material);
      material = one.material;
    }
    if (same) {
      for (std::size_t i = first_; i < first_ + count; ++i) give(i, material, material, 0);
      return;
    }
    Machine<D, Made<D>> made(tape_);
    for (std::size_t k = 0; k < active.count; ++k) place(made, active.index[k]);
    made.run(instructions, active);
    using DI = hn::RebindToSigned<D>;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Made<D>& value = made.value(j);
      HWY_ALIGN hn::TFromD<DI> which[hn::MaxLanes(D())];
      HWY_ALIGN hn::TFromD<DI> other[hn::MaxLanes(D())];
      HWY_ALIGN Number share[hn::MaxLanes(D())];
      hn::Store(value.material, DI(), which);
      hn::Store(value.other, DI(), other);
      hn::Store(value.share, d, share);
      for (std::size_t m = 0; m < width && j * width + m < count; ++m) {
        const std::size_t i = first_ + j * width + m;
        if (hits.ending[i] != Ending::hit) continue;
        ++hits.evaluations[i];
        give(i, which[m], other[m], share[m]);
      }
    }
  }

  Machine<D, Plain<D>> machine_;
  Regions<D> regions_;
  const Tape& tape_;
  const Lanes& lanes_;
  const FieldBudget& budget_;
  HWY_ALIGN Number near_[capacity];
  HWY_ALIGN Number far_[capacity];
  const Number* rows_[6] = {lanes_.x,           lanes_.y,           lanes_.z,
                            lanes_.direction_x, lanes_.direction_y, lanes_.direction_z};
  Way ways_[parts];
  const bool clusters_;
  std::size_t parts_first_ = 0;
  std::size_t lanes_a_part_ = part_lanes;
  std::size_t part_count_ = 0;
  std::size_t slice_count_ = slices;
  std::size_t part_ = 0;
  std::size_t slice_ = 0;
  // Of the block on its way.
  std::size_t first_ = 0;
  V t_[block_vectors], far_end_[block_vectors], side_[block_vectors];
  V steps_[block_vectors], more_[block_vectors], least_[block_vectors];
  V last_[block_vectors], stride_[block_vectors];
  V value_[block_vectors], before_[block_vectors], value_before_[block_vectors];
  M going_[block_vectors], now_[block_vectors], hit_[block_vectors], spent_[block_vectors];
  V most_steps_, tolerance_, growth_, per_stretch_, relaxation_;
};

template <class Number>
void MarchAll(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,
              HitBatch<Number>& hits) {
  using D = hn::ScalableTag<Number>;
  LaneOrder<Number> order(lanes);
  if (!budget.pruning || !order.worth_it()) {
    March<D>(tape, lanes, budget, false).run(hits);
    return;
  }
  HitBatch<Number> own;
  March<D>(tape, order.lanes(), budget, true).run(own);
  order.give_back(own, hits);
}

#define PHOTONLANE_FIELD_FOR(Number, Name)                                                      \
  void Values##Name(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {      \
    Values(tape, places, values);                                                               \
  }                                                                                             \
  void Gradients##Name(const Tape& tape, const FieldPlaces<Number>& places, Number* values,     \
                       const FieldGradients<Number>& to) {                                      \
    Gradients(tape, places, values, to);                                                        \
  }                                                                                             \
  void Materials##Name(const Tape& tape, const FieldPlaces<Number>& places,                     \
                       const FieldMaterials<Number>& to) {                                      \
    Materials(tape, places, to);                                                                \
  }                                                                                             \
  void March##Name(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget, \
                   HitBatch<Number>& hits) {                                                    \
    MarchAll(tape, lanes, budget, hits);                                                        \
  }
PHOTONLANE_FIELD_FOR(float, Float)
PHOTONLANE_FIELD_FOR(double, Double)
#undef PHOTONLANE_FIELD_FOR

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

#define PHOTONLANE_FIELD_FOR(Number, Name)                                                     \
  HWY_EXPORT(Values##Name);                                                                    \
  HWY_EXPORT(Gradients##Name);                                                                 \
  HWY_EXPORT(Materials##Name);                                                                 \
  HWY_EXPORT(March##Name);                                                                     \
  template <>                                                                                  \
  void evaluate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {    \
    HWY_DYNAMIC_DISPATCH(Values##Name)(tape, places, values);                                  \
  }                                                                                            \
  template <>                                                                                  \
  void differentiate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values, \
                          const FieldGradients<Number>& gradients) {                           \
    HWY_DYNAMIC_DISPATCH(Gradients##Name)(tape, places, values, gradients);                    \
  }                                                                                            \
  template <>                                                                                  \
  void tape_materials(const Tape& tape, const FieldPlaces<Number>& places,                     \
                      const FieldMaterials<Number>& materials) {                               \
    HWY_DYNAMIC_DISPATCH(Materials##Name)(tape, places, materials);                            \
  }                                                                                            \
  template <>                                                                                  \
  void march_tape(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget, \
                  HitBatch<Number>& hits) {                                                    \
    HWY_DYNAMIC_DISPATCH(March##Name)(tape, lanes, budget, hits);                              \
  }
PHOTONLANE_FIELD_FOR(float, Float)
PHOTONLANE_FIELD_FOR(double, Double)
#undef PHOTONLANE_FIELD_FOR

}  // namespace photonlane
#endif
