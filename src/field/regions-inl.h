// Per-target include: what of a tape matters in a part of space.

#if defined(PHOTONLANE_FIELD_REGIONS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_REGIONS_INL_H_
#undef PHOTONLANE_FIELD_REGIONS_INL_H_
#else
#define PHOTONLANE_FIELD_REGIONS_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <span>

#include "field/evaluate-inl.h"
#include "field/field_kernel.hpp"
#include "field/region_store.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// The lanes of a mask as bits, lane 0 lowest.
template <class D>
HWY_INLINE std::uint64_t MaskBits(D d, hn::Mask<D> mask) {
  std::uint8_t bytes[16] = {};
  hn::StoreMaskBits(d, mask, bytes);
  std::uint64_t bits = 0;
  std::memcpy(&bits, bytes, sizeof(bits));
  return bits & ((std::uint64_t{1} << hn::Lanes(d)) - 1);
}

/// Up to 64 balls in a row, and for each run of them the part of a tape that can matter there: what
/// cannot win a join (or a meet, a carving) anywhere in a ball, by the values at its middle and by
/// how much they change at most, is left out (after Keeter, "Massively Parallel Rendering of
/// Complex Closed-Form Implicit Surfaces", 2020, with stretch factors in place of intervals).
/// Evaluating what is left gives the same bits.
template <class D>
class Regions {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;

 public:
  static constexpr std::size_t most = 64;
  struct Balls {
    std::size_t count = 0;
    HWY_ALIGN Number x[most], y[most], z[most], radius[most];

    /// The ball around a box.
    void add(const Number (&low)[3], const Number (&high)[3]) {
      Number* middle[3] = {x, y, z};
      Number square = 0;
      Number farthest = 0;
      for (int axis = 0; axis < 3; ++axis) {
        const Number half = Number(0.5) * (high[axis] - low[axis]);
        middle[axis][count] = low[axis] + half;
        square += half * half;
        farthest = std::max({farthest, std::abs(low[axis]), std::abs(high[axis])});
      }
      radius[count++] = std::sqrt(square) + Number(1e-6) * (1 + farthest);
    }
    /// The ball around some places.
    void add_around(const FieldPlaces<Number>& places, std::size_t begin, std::size_t end) {
      const Number* rows[3] = {places.x, places.y, places.z};
      Number low[3];
      Number high[3];
      for (int axis = 0; axis < 3; ++axis) {
        low[axis] = high[axis] = rows[axis][begin];
        for (std::size_t i = begin + 1; i < end; ++i) {
          low[axis] = std::min(low[axis], rows[axis][i]);
          high[axis] = std::max(high[axis], rows[axis][i]);
        }
      }
      add(low, high);
    }
  };

  explicit Regions(const Tape& tape) : tape_(tape) {}

  /// Finds what of a tape's instructions, or of a part of them, matters in each ball.
  void find(Machine<D, Plain<D>>& machine, std::span<const Tape::Instruction> instructions,
            const Balls& balls) {
    source_ = instructions;
    crowds_ = {};
    if (source_.data() == tape_.instructions.data()) crowds_ = tape_.crowds;
    store_->start(source_.size());
    const D d;
    const std::size_t width = block_vectors * hn::Lanes(d);
    blocks_ = (balls.count + width - 1) / width;
    for (std::size_t first = 0; first < balls.count; first += width) {
      ask(machine, balls, first);
    }
    find_runs(balls.count);
  }

  /// No surface is in a ball.
  bool empty(std::size_t k) const { return (empty_ >> k & 1) != 0; }

  /// The value at a ball's middle, or what it is no nearer to a surface than.
  Number value(std::size_t k) const { return middle_values_[k]; }

  /// What matters in any of some balls.
  std::span<const Tape::Instruction> within(std::uint64_t balls) {
    const std::size_t begin = store_->instructions.size();
    gather(balls);
    return {store_->instructions.data() + begin, store_->instructions.size() - begin};
  }
  /// What matters in the balls from `first` to `last`.
  std::span<const Tape::Instruction> between(std::size_t first, std::size_t last) {
    const std::size_t from = run_first_[first];
    const std::size_t to = run_last_[last];
    RegionStore::Part& run = runs_[from];
    if (run_last_[first] == to && run.from == from) return instructions_of(run);
    for (const RegionStore::Part& part : store_->parts) {
      if (part.from == from && part.to == to) return instructions_of(part);
    }
    const auto range = ((std::uint64_t{2} << to) - 1) & ~((std::uint64_t{1} << from) - 1);
    const std::size_t begin = store_->instructions.size();
    gather(range);
    const RegionStore::Part part{from, to, begin, store_->instructions.size()};
    if (run_last_[first] == to) run = part;
    store_->add(part);
    return instructions_of(part);
  }

 private:
  std::span<const Tape::Instruction> instructions_of(const RegionStore::Part& part) const {
    return {store_->instructions.data() + part.begin, part.end - part.begin};
  }

  /// Evaluates the tape at the middles of some balls, and finds out what can be left out.
  void ask(Machine<D, Plain<D>>& machine, const Balls& balls, std::size_t first) {
    const D d;
    const std::size_t lanes = hn::Lanes(d);
    const std::size_t count = std::min(block_vectors * lanes, balls.count - first);
    const ActiveVectors active = ActiveVectors::First((count + lanes - 1) / lanes);
    HWY_ALIGN Number at[block_vectors * hn::MaxLanes(D())];
    const auto load = [&](const Number* from, const auto& give) {
      for (std::size_t i = 0; i < active.count * lanes; ++i) {
        at[i] = from[first + std::min(i, count - 1)];
      }
      for (std::size_t j = 0; j < active.count; ++j) give(j, hn::Load(d, at + j * lanes));
    };
    load(balls.x, [&](std::size_t j, V v) { machine.point(0, 0, j) = Plain<D>(v); });
    load(balls.y, [&](std::size_t j, V v) { machine.point(0, 1, j) = Plain<D>(v); });
    load(balls.z, [&](std::size_t j, V v) { machine.point(0, 2, j) = Plain<D>(v); });
    // A little more for rounding.
    load(balls.radius, [&](std::size_t j, V v) {
      radius_[j] = hn::Mul(v, hn::Set(d, static_cast<Number>(1.002)));
    });
    first_ = first;
    asked_ = (std::uint64_t{2} << (active.count * lanes - 1)) - 1;
    passed_before_ = store_->passed.size();
    store_->join_count = 0;
    store_->join_size = 3 * block_vectors * lanes;
    sound_points_[0] = ~std::uint64_t{0};
    ask_from(machine, 0, static_cast<std::uint32_t>(source_.size()), active);
    store_->sort_passed(passed_before_);
    find_join_losers(active, first);
    std::uint64_t bits = 0;
    for (std::size_t j = 0; j < active.count; ++j) {
      const V size = hn::Abs(machine.value(j).v);
      const V reach = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(tape_.stretch)));
      bits |= MaskBits(d, hn::Gt(size, reach)) << (j * lanes);
      hn::Store(machine.value(j).v, d, at + j * lanes);
    }
    std::copy_n(at, count, middle_values_ + first);
    if (first == 0) empty_ = 0;
    empty_ |= bits << first;
  }

  /// Evaluates the instructions from `begin` to `end`, and what can be left out of them.
  void ask_from(Machine<D, Plain<D>>& machine, std::uint32_t begin, std::uint32_t end,
                const ActiveVectors& active) {
    std::size_t crowd = 0;
    // The crowd whose group this is may begin at the same place.
    while (crowd < crowds_.size() && (crowds_[crowd].begin < begin || crowds_[crowd].end > end)) {
      ++crowd;
    }
    for (std::uint32_t i = begin; i < end; ++i) {
      while (crowd < crowds_.size() && crowds_[crowd].begin < i) ++crowd;
      if (crowd < crowds_.size() && crowds_[crowd].begin == i) {
        ask_crowd(machine, crowds_[crowd], active);
        i = crowds_[crowd].end - 1;
        continue;
      }
      ask_one(machine, i, active);
    }
  }

  /// Groups of a crowd, the nearest ones first; those that lose everywhere are passed over.
  void ask_crowd(Machine<D, Plain<D>>& machine, const Tape::Crowd& crowd,
                 const ActiveVectors& active) {
    const D d;
    const std::size_t lanes = hn::Lanes(d);
    const std::size_t count = crowd.last_group - crowd.first_group;
    const auto group = [&](std::size_t g) -> const Tape::Group& {
      return tape_.groups[crowd.first_group + g];
    };
    // Which values groups cannot be below, at the middles of the balls; then what they are.
    const std::size_t per_group = block_vectors * lanes;
    RegionStore::Crowd& memory = store_->hold_crowd(count * per_group, count);
    Number* values = reinterpret_cast<Number*>(memory.values.data());
    for (std::size_t g = 0; g < count; ++g) {
      const Tape::Group& one = group(g);
      const V share = hn::Set(d, static_cast<Number>(0.999 / one.looseness));
      V least = hn::Inf(d);
      for (std::size_t j = 0; j < active.count; ++j) {
        const V value = hn::Mul(way_to_box(machine, one.point, j, one.bounds), share);
        hn::StoreU(value, d, values + g * per_group + j * lanes);
        least = hn::Min(least, value);
      }
      memory.order[g] = {static_cast<double>(hn::GetLane(hn::MinOfLanes(d, least))),
                         static_cast<std::uint32_t>(g)};
    }
    store_->sort(memory);
    const std::uint64_t all = sound_points_[group(0).point];
    V best[block_vectors];
    for (V& v : best) v = hn::Inf(d);
    if (group(0).join != Tape::no_join) {
      // What was there before, as the ground.
      const std::uint8_t before = source_[group(0).join].a;
      const bool sound = (sound_values_[before] & asked_) == asked_;
      for (std::size_t j = 0; sound && j < active.count; ++j) {
        best[j] = machine.value_at(before, j).v;
      }
    }
    for (std::size_t n = 0; n < count; ++n) {
      const std::size_t g = memory.order[n].second;
      const Tape::Group& one = group(g);
      Number* own = values + g * per_group;
      bool lost = one.end > one.begin && (all & asked_) == asked_;
      for (std::size_t j = 0; lost && j < active.count; ++j) {
        const V gap = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(2.01 * one.reach)));
        lost = hn::AllTrue(d, hn::Gt(hn::LoadU(d, own + j * lanes), hn::Add(best[j], gap)));
      }
      if (lost) {
        // It can be anything that loses.
        for (std::size_t j = 0; j < active.count; ++j) {
          hn::StoreU(hn::Set(d, Number(1e30)), d, own + j * lanes);
        }
        store_->pass(one.begin, one.end);
        memory.sound[g] = all;
        memory.low[g] = 0;
        continue;
      }
      ask_from(machine, one.begin, one.end, active);
      memory.sound[g] = sound_values_[one.value];
      memory.low[g] = low_values_[one.value];
      // What is a bound alone shows nothing of others.
      const bool known = (memory.sound[g] & asked_) == asked_;
      for (std::size_t j = 0; j < active.count; ++j) {
        const V value = machine.value_at(one.value, j).v;
        hn::StoreU(value, d, own + j * lanes);
        if (known) best[j] = hn::Min(best[j], value);
      }
    }
    for (std::size_t g = 0; g < count; ++g) {
      const Tape::Group& one = group(g);
      for (std::size_t j = 0; j < active.count; ++j) {
        machine.set_value(one.value, j, Plain<D>(hn::LoadU(d, values + g * per_group + j * lanes)));
      }
      sound_values_[one.value] = memory.sound[g];
      low_values_[one.value] = memory.low[g];
      // Groups have registers in common: of bounds from above the last one's is left.
      std::fill_n(most_[one.value], active.count, hn::Inf(d));
      if (one.join != Tape::no_join) ask_one(machine, one.join, active);
    }
    store_->let_crowd_go();
  }

  void ask_one(Machine<D, Plain<D>>& machine, std::uint32_t i, const ActiveVectors& active) {
    const Tape::Instruction& one = source_[i];
    std::uint64_t sound = 0;
    if (is_pair(one.op)) {
      sound = sound_values_[one.a] & sound_values_[one.b];
      // Of the lesser of two, bounds of both make one.
      std::uint64_t known = sound;
      if (one.op == TapeOp::join) {
        known = (sound_values_[one.a] | low_values_[one.a]) &
                (sound_values_[one.b] | low_values_[one.b]);
      }
      find_losers(machine, i, active, known, first_);
      if (one.whole != Tape::no_register) sound |= sound_points_[one.whole];
      sound_values_[one.out] = sound;
      low_values_[one.out] = known & ~sound;
    } else if (reads_value(one.op)) {
      sound = sound_values_[one.a];
      if (reads_point_second(one.op)) sound &= sound_points_[one.b];
      if (one.whole != Tape::no_register) sound = sound_points_[one.whole];
      const bool rises =
          one.op == TapeOp::scale || one.op == TapeOp::offset || one.op == TapeOp::move;
      low_values_[one.out] = rises ? low_values_[one.a] : 0;
      if (low_values_[one.out] != 0) raise_most(one, active);
      sound_values_[one.out] = sound;
    } else {
      sound = sound_points_[one.a];
      if (!writes_point(one.op)) {
        // The change of an estimate has no known bound; but it is no less than the way to the
        // box around all of it.
        const Number* c = tape_.constants_as<Number>() + one.constants;
        low_values_[one.out] = 0;
        if (one.op == TapeOp::source && c[1] <= 0) {
          if (c[1] < 0) {
            low_values_[one.out] = sound;
            sound_values_[one.out] = 0;
            return take_bound(machine, one, active);
          }
          sound = 0;
        }
        sound_values_[one.out] = sound;
      } else {
        sound_points_[one.out] = sound & ~breaks(machine, one, active);
      }
    }
    machine.step(one, active);
  }

  /// What a bound from above becomes with its value.
  void raise_most(const Tape::Instruction& one, const ActiveVectors& active) {
    const D d;
    const bool moves = one.op == TapeOp::move;
    const V constant =
        moves ? hn::Zero(d) : hn::Set(d, tape_.constants_as<Number>()[one.constants]);
    for (std::size_t j = 0; j < active.count; ++j) {
      const V before = most_[one.a][j];
      most_[one.out][j] = moves                     ? before
                          : one.op == TapeOp::scale ? hn::Mul(before, constant)
                                                    : hn::Sub(before, constant);
    }
  }

  /// Takes the way to the box around a source, over its looseness, for its value.
  void take_bound(Machine<D, Plain<D>>& machine, const Tape::Instruction& one,
                  const ActiveVectors& active) {
    const D d;
    const Number* c = tape_.constants_as<Number>() + one.constants;
    const FieldSource& source = *tape_.sources[static_cast<std::size_t>(c[0])];
    Bounds box = source.bounds();
    if (one.shift != Tape::no_shift) {
      const double* shift = tape_.constants.data() + one.shift;
      box.low += Vec3d(shift[0], shift[1], shift[2]);
      box.high += Vec3d(shift[0], shift[1], shift[2]);
    }
    const V share = hn::Set(d, static_cast<Number>(0.999 / source.looseness()));
    for (std::size_t j = 0; j < active.count; ++j) {
      const V value = hn::Mul(way_to_box(machine, one.a, j, box), share);
      machine.set_value(one.out, j, Plain<D>(value));
      most_[one.out][j] = hn::Inf(d);
    }
  }

  /// From a point of the machine's.
  static V way_to_box(Machine<D, Plain<D>>& machine, std::size_t point, std::size_t j,
                      const Bounds& box) {
    const D d;
    V square = hn::Zero(d);
    for (std::size_t axis = 0; axis < 3; ++axis) {
      const V place = machine.point(point, axis, j).v;
      const auto to = static_cast<Eigen::Index>(axis);
      const V under = hn::Sub(hn::Set(d, static_cast<Number>(box.low[to])), place);
      const V over = hn::Sub(place, hn::Set(d, static_cast<Number>(box.high[to])));
      const V out = hn::Max(hn::Max(under, over), hn::Zero(d));
      square = hn::Add(square, hn::Mul(out, out));
    }
    return hn::Sqrt(square);
  }

  /// Of a join's two, in which balls one can be left out.
  void find_losers(const Machine<D, Plain<D>>& machine, std::size_t i, const ActiveVectors& active,
                   std::uint64_t sound, std::size_t first) {
    const D d;
    const Tape::Instruction& one = source_[i];
    const Number* c = tape_.constants_as<Number>() + one.constants;
    const int sort = pair_sort(one.op);
    const int seam = pair_seam(one.op);
    const std::size_t lanes = hn::Lanes(d);
    std::uint64_t drop_first = 0;
    std::uint64_t drop_second = 0;
    Number* record = nullptr;
    V most_of_join[block_vectors];
    if (sort == 0 && seam == 0) {
      store_->joins[i] = static_cast<std::uint32_t>(store_->join_count);
      record = reinterpret_cast<Number*>(store_->next_join(sound));
    }
    for (std::size_t j = 0; j < active.count; ++j) {
      // All three are the lesser of two, of values or of what is left of them inside out.
      const V a = sort == 0 ? machine.value_at(one.a, j).v : hn::Neg(machine.value_at(one.a, j).v);
      const V b = sort == 1 ? hn::Neg(machine.value_at(one.b, j).v) : machine.value_at(one.b, j).v;
      const V reach_a = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(one.reach_a)));
      const V reach_b = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(one.reach_b)));
      const V more =
          hn::Mul(hn::Add(hn::Abs(a), hn::Abs(b)), hn::Set(d, static_cast<Number>(1e-5)));
      if (record != nullptr) {
        // Joins within joins are looked at from the end, by what is the least of all.
        hn::StoreU(hn::Sub(hn::Sub(a, reach_a), more), d, record + j * lanes);
        hn::StoreU(hn::Sub(hn::Sub(b, reach_b), more), d, record + (block_vectors + j) * lanes);
        const auto at_most = [&](std::uint8_t reg, V value) {
          std::uint8_t bytes[16] = {};
          const std::uint64_t bits = low_values_[reg] >> (j * lanes);
          std::memcpy(bytes, &bits, sizeof(bits));
          return hn::IfThenElse(hn::LoadMaskBits(d, bytes), most_[reg][j], value);
        };
        const V least =
            hn::Min(at_most(one.a, hn::Add(a, reach_a)), at_most(one.b, hn::Add(b, reach_b)));
        hn::StoreU(least, d, record + (2 * block_vectors + j) * lanes);
        most_of_join[j] = least;
        continue;
      }
      V gap = hn::Add(hn::Add(reach_a, reach_b), more);
      if (seam == 1) gap = hn::Add(gap, hn::Set(d, c[0]));
      M first_loses = hn::Gt(hn::Sub(a, b), gap);
      M second_loses = hn::Gt(hn::Sub(b, a), gap);
      if (seam == 2) {
        const V radius = hn::Set(d, static_cast<Number>(c[0] * Number(1.001)));
        first_loses = hn::And(first_loses, hn::Gt(hn::Sub(a, reach_a), radius));
        second_loses = hn::And(second_loses, hn::Gt(hn::Sub(b, reach_b), radius));
      }
      drop_first |= MaskBits(d, first_loses) << (j * lanes);
      drop_second |= MaskBits(d, second_loses) << (j * lanes);
    }
    if (record != nullptr) std::copy_n(most_of_join, active.count, most_[one.out]);
    store_->drop_first[i] |= (drop_first & sound) << first;
    store_->drop_second[i] |= (drop_second & sound) << first;
  }

  /// From the end of the tape to its start: what is above the least of a join, and of the joins it
  /// is in, is left out of it.
  void find_join_losers(const ActiveVectors& active, std::size_t first) {
    const D d;
    const std::size_t lanes = hn::Lanes(d);
    RegionStore& store = *store_;
    std::uint8_t known[Tape::most_registers] = {};
    V limits[Tape::most_registers][block_vectors];
    const auto allow = [&](std::uint8_t reg, const V* values) {
      for (std::size_t j = 0; j < active.count; ++j) {
        limits[reg][j] = known[reg] != 0 ? hn::Max(limits[reg][j], values[j]) : values[j];
      }
      known[reg] = 1;
    };
    V any[block_vectors];
    for (V& v : any) v = hn::Inf(d);
    std::size_t passed = store.passed.size();
    for (std::size_t i = source_.size(); i-- > 0;) {
      const std::size_t last = i;
      if (passed_over(i, passed, passed_before_, 1)) {
        // What its value was allowed is not for what used the register before.
        known[source_[last].out] = 0;
        continue;
      }
      const Tape::Instruction& one = source_[i];
      if (!reads_value(one.op)) {
        if (!writes_point(one.op)) known[one.out] = 0;
        continue;
      }
      V limit[block_vectors];
      for (std::size_t j = 0; j < active.count; ++j) {
        limit[j] = known[one.out] != 0 ? limits[one.out][j] : any[j];
      }
      known[one.out] = 0;
      if (one.op == TapeOp::move) {
        allow(one.a, limit);
      } else if (one.op != TapeOp::join) {
        allow(one.a, any);
        if (is_pair(one.op)) allow(one.b, any);
      } else {
        const std::uint32_t which = store.joins[i];
        const Number* record = reinterpret_cast<const Number*>(store.join(which));
        std::uint64_t drop_first = 0;
        std::uint64_t drop_second = 0;
        for (std::size_t j = 0; j < active.count; ++j) {
          limit[j] = hn::Min(limit[j], hn::LoadU(d, record + (2 * block_vectors + j) * lanes));
          drop_first |= MaskBits(d, hn::Gt(hn::LoadU(d, record + j * lanes), limit[j]))
                        << (j * lanes);
          drop_second |=
              MaskBits(d, hn::Gt(hn::LoadU(d, record + (block_vectors + j) * lanes), limit[j]))
              << (j * lanes);
        }
        // Where both are above it, so is the join, but what takes that in may not know.
        const std::uint64_t sound = store.join_sound(which) & ~(drop_first & drop_second);
        store.drop_first[i] |= (drop_first & sound) << first;
        store.drop_second[i] |= (drop_second & sound) << first;
        // Within what is not sound nothing is known.
        const bool all = (store.join_sound(which) & asked_) == asked_;
        allow(one.a, all ? limit : any);
        allow(one.b, all ? limit : any);
      }
    }
  }

  /// In which balls a point that is written jumps, or is stretched by more than was said.
  std::uint64_t breaks(Machine<D, Plain<D>>& machine, const Tape::Instruction& one,
                       const ActiveVectors& active) const {
    const D d;
    const Number* c = tape_.constants_as<Number>() + one.constants;
    const bool rows = one.op == TapeOp::repeat && c[6] != 0;
    const bool ring = one.op == TapeOp::around && c[3] != 0;
    const bool bent = one.op == TapeOp::bend;
    const bool tapered = one.op == TapeOp::taper;
    if (!rows && !ring && !bent && !tapered && one.op != TapeOp::twist) return 0;
    const auto set = [&](double value) { return hn::Set(d, static_cast<Number>(value)); };
    // Whether two places that far apart on both sides of one lie in different steps.
    const auto changes = [&](V place, V share) {
      const V more = hn::Add(share, hn::Mul(hn::Abs(place), set(4e-7)));
      return hn::Ne(hn::Floor(hn::Sub(place, more)), hn::Floor(hn::Add(place, more)));
    };
    const double count = 2 * static_cast<double>(c[1]);
    std::uint64_t bits = 0;
    for (std::size_t j = 0; j < active.count; ++j) {
      const V x = machine.point(one.a, rows ? static_cast<std::size_t>(c[0]) : 0, j).v;
      const V y = machine.point(one.a, 1, j).v;
      const V reach = hn::Mul(radius_[j], set(one.reach_a));
      M broken;
      if (rows) {
        // The copy that is asked changes at every half spacing.
        const double per = 2 * static_cast<double>(c[2]);
        broken = changes(hn::Add(hn::Mul(x, set(per)), set(2 * static_cast<double>(c[4]))),
                         hn::Add(hn::Mul(reach, set(per)), set(1e-4)));
      } else if (bent) {
        // Within its innermost circle, and where the ends of the circle meet.
        const V up = hn::Sub(set(c[0]), hn::Mul(machine.point(one.a, 2, j).v, set(c[1])));
        const V out = hn::Sqrt(hn::Add(hn::Mul(x, x), hn::Mul(up, up)));
        const M within = hn::Lt(hn::Sub(out, reach), set(static_cast<double>(c[3]) * 1.001));
        const M meets = hn::And(hn::Lt(up, hn::Zero(d)), hn::Le(hn::Abs(x), reach));
        broken = hn::Or(within, meets);
      } else {
        const V square = hn::Add(hn::Mul(x, x), hn::Mul(y, y));
        const V out = hn::Sqrt(square);
        if (ring) {
          // Seen from the axis the ball is as wide as its arcsine says.
          const V rest = hn::Sqrt(hn::Max(hn::Sub(square, hn::Mul(reach, reach)), hn::Zero(d)));
          const V wide = AngleOf(Plain<D>(rest), Plain<D>(reach)).v;
          const V place = hn::Mul(AngleOf(Plain<D>(x), Plain<D>(y)).v, set(count));
          const M beside = hn::Le(out, reach);
          broken = hn::Or(beside, changes(place, hn::Add(hn::Mul(wide, set(1.00001 * count)),
                                                         set(1e-4 + 1e-5 * count))));
        } else {
          // A taper's rim, where it is narrowest.
          const double rim = tapered ? static_cast<double>(c[4]) * std::min(c[2], c[2] + c[3])
                                     : static_cast<double>(c[1]);
          broken = hn::Gt(hn::Add(out, reach), set(rim));
        }
      }
      bits |= MaskBits(d, broken) << (j * hn::Lanes(d));
    }
    return bits;
  }

  /// Finds balls in a row in which the same matters.
  void find_runs(std::size_t count) {
    RegionStore& store = *store_;
    const std::uint64_t all = (std::uint64_t{2} << (count - 1)) - 1;
    std::uint64_t values[Tape::most_registers] = {};
    std::uint64_t points[Tape::most_registers] = {};
    values[tape_.result] = all;
    std::uint64_t changes = 0;
    store.sort_passed(0);
    std::size_t passed = store.passed.size();
    std::size_t whole_from = source_.size();
    for (std::size_t i = source_.size(); i-- > 0;) {
      if (i < whole_from) {
        const std::size_t last = i;
        if (passed_over(i, passed, 0, blocks_)) {
          if (values[source_[last].out] == 0) continue;
          // It loses, but where the join it is in does so too, it was not left out there.
          whole_from = i;
          i = last;
        }
      }
      const Tape::Instruction& one = source_[i];
      const bool point = writes_point(one.op);
      std::uint64_t& out = point ? points[one.out] : values[one.out];
      const std::uint64_t live = out;
      if (live == 0) continue;
      out = 0;
      changes |= live ^ live >> 1;
      if (is_pair(one.op)) {
        const std::uint64_t first = live & ~store.drop_first[i];
        const std::uint64_t second = live & ~store.drop_second[i];
        values[one.a] |= first;
        values[one.b] |= second;
        changes |= (first ^ first >> 1) | (second ^ second >> 1);
      } else if (reads_value(one.op)) {
        values[one.a] |= live;
        if (reads_point_second(one.op)) points[one.b] |= live;
      } else {
        points[one.a] |= live;
      }
    }
    for (std::size_t k = 0; k < count; ++k) {
      runs_[k].from = most;
      run_first_[k] = k > 0 && (changes >> (k - 1) & 1) == 0 ? run_first_[k - 1] : k;
    }
    for (std::size_t k = count; k-- > 0;) {
      run_last_[k] = k + 1 < count && (changes >> k & 1) == 0 ? run_last_[k + 1] : k;
    }
  }

  /// Appends what matters in any of some balls, from the end: what is left out must lose in all of
  /// them, since what stays is asked in all of them.
  void gather(std::uint64_t range) {
    RegionStore& store = *store_;
    bool values[Tape::most_registers] = {};
    bool points[Tape::most_registers] = {};
    values[tape_.result] = true;
    const std::size_t begin = store.instructions.size();
    std::size_t passed = store.passed.size();
    std::size_t whole_from = source_.size();
    for (std::size_t i = source_.size(); i-- > 0;) {
      if (i < whole_from) {
        const std::size_t last = i;
        if (passed_over(i, passed, 0, blocks_)) {
          if (!values[source_[last].out]) continue;
          whole_from = i;
          i = last;
        }
      }
      Tape::Instruction one = source_[i];
      bool& needed = writes_point(one.op) ? points[one.out] : values[one.out];
      if (!needed) continue;
      needed = false;
      if (is_pair(one.op)) {
        const bool first = (range & ~store.drop_first[i]) != 0;
        const bool second = (range & ~store.drop_second[i]) != 0;
        if (first && second) {
          values[one.a] = values[one.b] = true;
        } else {
          const std::uint8_t from = first ? one.a : one.b;
          const bool inverted = !first && pair_sort(one.op) == 2;
          values[from] = true;
          if (from == one.out && !inverted) continue;
          one.op = inverted ? TapeOp::invert : TapeOp::move;
          one.a = from;
        }
      } else if (reads_value(one.op)) {
        values[one.a] = true;
        if (reads_point_second(one.op)) points[one.b] = true;
      } else {
        points[one.a] = true;
      }
      store.add(one);
    }
    store.turn_instructions(begin);
  }

  /// Whether i is in a group that was passed over by so many blocks: then it becomes the group's
  /// start. `passed` runs through the groups from their end down to `floor` as i does.
  bool passed_over(std::size_t& i, std::size_t& passed, std::size_t floor,
                   std::size_t blocks) const {
    const RegionStore& store = *store_;
    while (passed > floor && i < store.passed[passed - 1].first) --passed;
    if (passed == floor || i >= store.passed[passed - 1].second) return false;
    const auto range = store.passed[passed - 1];
    std::size_t times = 0;
    for (std::size_t k = passed; k-- > floor && store.passed[k] == range;) ++times;
    if (times != blocks) return false;
    i = range.first;
    return true;
  }

  const Tape& tape_;
  std::span<const Tape::Instruction> source_;
  std::span<const Tape::Crowd> crowds_;
  std::size_t first_ = 0;  ///< ball of the block that is asked
  std::size_t blocks_ = 1;
  std::uint64_t asked_ = 0;  ///< bits of the block's balls
  std::size_t passed_before_ = 0;
  Lent<RegionStore> store_;
  V radius_[block_vectors];
  std::uint64_t empty_ = 0;
  Number middle_values_[most];
  std::uint64_t sound_points_[Tape::most_registers];
  std::uint64_t sound_values_[Tape::most_registers];
  std::uint64_t low_values_[Tape::most_registers];  ///< bits: balls where it is a bound from below
  V most_[Tape::most_registers][block_vectors];     ///< of such values: a bound from above
  std::size_t run_first_[most];
  std::size_t run_last_[most];
  RegionStore::Part runs_[most];  ///< of single runs
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
