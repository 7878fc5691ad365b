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
  };

  explicit Regions(const Tape& tape) : tape_(tape) {}

  /// Finds what of a tape's instructions, or of a part of them, matters in each ball.
  void find(Machine<D, Plain<D>>& machine, std::span<const Tape::Instruction> instructions_before,
            const Balls& balls) {
    source_ = instructions_before;
    const std::size_t instructions = source_.size();
    store_->drop_first.assign(instructions, 0);
    store_->drop_second.assign(instructions, 0);
    store_->live.resize(instructions);
    const D d;
    const std::size_t width = block_vectors * hn::Lanes(d);
    for (std::size_t first = 0; first < balls.count; first += width) {
      ask(machine, balls, first);
    }
    keep(balls.count);
  }

  /// No surface is in a ball.
  bool empty(std::size_t k) const { return (empty_ >> k & 1) != 0; }

  /// What matters in any of some balls.
  std::span<const Tape::Instruction> within(std::uint64_t balls) {
    const std::size_t begin = store_->instructions.size();
    for (const std::uint32_t i : store_->kept) gather(i, balls);
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
    for (const std::uint32_t i : store_->kept) gather(i, range);
    const RegionStore::Part part{from, to, begin, store_->instructions.size()};
    if (run_last_[first] == to) run = part;
    store_->parts.push_back(part);
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
    // What is not sound changes by more than it should within the ball: copies that are swapped.
    sound_points_[0] = ~std::uint64_t{0};
    for (std::size_t i = 0; i < source_.size(); ++i) {
      const Tape::Instruction& one = source_[i];
      std::uint64_t sound = 0;
      if (is_pair(one.op)) {
        sound = sound_values_[one.a] & sound_values_[one.b];
        find_losers(machine, i, active, sound, first);
        if (one.whole != Tape::no_register) sound |= sound_points_[one.whole];
        sound_values_[one.out] = sound;
      } else if (reads_value(one.op)) {
        sound = sound_values_[one.a];
        if (reads_point_second(one.op)) sound &= sound_points_[one.b];
        if (one.whole != Tape::no_register) sound = sound_points_[one.whole];
        sound_values_[one.out] = sound;
      } else {
        sound = sound_points_[one.a];
        if (!writes_point(one.op)) {
          sound_values_[one.out] = sound;
        } else {
          sound_points_[one.out] = sound & ~breaks(machine, one, active);
        }
      }
      machine.step(one, active);
    }
    std::uint64_t bits = 0;
    for (std::size_t j = 0; j < active.count; ++j) {
      const V size = hn::Abs(machine.value(j).v);
      const V reach = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(tape_.stretch)));
      bits |= MaskBits(d, hn::Gt(size, reach)) << (j * lanes);
    }
    if (first == 0) empty_ = 0;
    empty_ |= bits << first;
  }

  /// Of a join's two, in which balls one can be left out.
  void find_losers(const Machine<D, Plain<D>>& machine, std::size_t i, const ActiveVectors& active,
                   std::uint64_t sound, std::size_t first) {
    const D d;
    const Tape::Instruction& one = source_[i];
    const Number* c = tape_.constants_as<Number>() + one.constants;
    const int sort = pair_sort(one.op);
    const int seam = pair_seam(one.op);
    std::uint64_t drop_first = 0;
    std::uint64_t drop_second = 0;
    for (std::size_t j = 0; j < active.count; ++j) {
      // All three are the lesser of two, of values or of what is left of them inside out.
      const V a = sort == 0 ? machine.value_at(one.a, j).v : hn::Neg(machine.value_at(one.a, j).v);
      const V b = sort == 1 ? hn::Neg(machine.value_at(one.b, j).v) : machine.value_at(one.b, j).v;
      const V reach_a = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(one.reach_a)));
      const V reach_b = hn::Mul(radius_[j], hn::Set(d, static_cast<Number>(one.reach_b)));
      V gap = hn::Add(reach_a, reach_b);
      gap = hn::Add(
          gap, hn::Mul(hn::Add(hn::Abs(a), hn::Abs(b)), hn::Set(d, static_cast<Number>(1e-5))));
      if (seam == 1) gap = hn::Add(gap, hn::Set(d, c[0]));
      M first_loses = hn::Gt(hn::Sub(a, b), gap);
      M second_loses = hn::Gt(hn::Sub(b, a), gap);
      if (seam == 2) {
        const V radius = hn::Set(d, static_cast<Number>(c[0] * Number(1.001)));
        first_loses = hn::And(first_loses, hn::Gt(hn::Sub(a, reach_a), radius));
        second_loses = hn::And(second_loses, hn::Gt(hn::Sub(b, reach_b), radius));
      }
      drop_first |= MaskBits(d, first_loses) << (j * hn::Lanes(d));
      drop_second |= MaskBits(d, second_loses) << (j * hn::Lanes(d));
    }
    store_->drop_first[i] |= (drop_first & sound) << first;
    store_->drop_second[i] |= (drop_second & sound) << first;
  }

  /// In which balls a point that is written jumps, or is stretched by more than was said.
  std::uint64_t breaks(Machine<D, Plain<D>>& machine, const Tape::Instruction& one,
                       const ActiveVectors& active) const {
    const D d;
    const Number* c = tape_.constants_as<Number>() + one.constants;
    const bool rows = one.op == TapeOp::repeat && c[6] != 0;
    const bool ring = one.op == TapeOp::around && c[3] != 0;
    if (!rows && !ring && one.op != TapeOp::twist) return 0;
    const std::size_t lanes = hn::Lanes(d);
    HWY_ALIGN Number x[hn::MaxLanes(D())];
    HWY_ALIGN Number y[hn::MaxLanes(D())];
    HWY_ALIGN Number radius[hn::MaxLanes(D())];
    std::uint64_t bits = 0;
    for (std::size_t j = 0; j < active.count; ++j) {
      const std::size_t axis = rows ? static_cast<std::size_t>(c[0]) : 0;
      hn::Store(machine.point(one.a, axis, j).v, d, x);
      hn::Store(machine.point(one.a, 1, j).v, d, y);
      hn::Store(radius_[j], d, radius);
      for (std::size_t k = 0; k < lanes; ++k) {
        const double reach = static_cast<double>(radius[k]) * one.reach_a;
        bool breaks = false;
        if (rows) {
          // The copy that is asked changes at every half spacing.
          const double place = 2 * (static_cast<double>(x[k]) * c[2] + c[4]);
          const double share = 2 * reach * c[2] + 1e-4;
          breaks = std::floor(place - share) != std::floor(place + share);
        } else {
          const double out =
              std::sqrt(static_cast<double>(x[k]) * x[k] + static_cast<double>(y[k]) * y[k]);
          if (ring) {
            const double place = 2 * std::atan2(static_cast<double>(y[k]), x[k]) * c[1];
            const double share = out > reach ? 2 * std::asin(reach / out) * c[1] + 1e-4 : 1e9;
            breaks = std::floor(place - share) != std::floor(place + share);
          } else {
            breaks = out + reach > c[1];
          }
        }
        bits |= static_cast<std::uint64_t>(breaks) << (j * lanes + k);
      }
    }
    return bits;
  }

  /// What is needed for the answer, from its end.
  void keep(std::size_t count) {
    RegionStore& store = *store_;
    const std::uint64_t all = (std::uint64_t{2} << (count - 1)) - 1;
    std::uint64_t values[Tape::most_registers] = {};
    values[tape_.result] = all;
    store.kept.clear();
    store.parts.clear();
    store.instructions.clear();
    std::uint64_t changes = 0;
    for (std::size_t i = source_.size(); i-- > 0;) {
      const Tape::Instruction& one = source_[i];
      const bool point = writes_point(one.op);
      std::uint64_t& out = point ? points_needed_[one.out] : values[one.out];
      const std::uint64_t live = out;
      store.live[i] = live;
      if (live == 0) continue;
      out = 0;
      store.kept.push_back(static_cast<std::uint32_t>(i));
      changes |= live ^ live >> 1;
      if (is_pair(one.op)) {
        const std::uint64_t first = live & ~store.drop_first[i];
        const std::uint64_t second = live & ~store.drop_second[i];
        values[one.a] |= first;
        values[one.b] |= second;
        changes |= (first ^ first >> 1) | (second ^ second >> 1);
      } else if (reads_value(one.op)) {
        values[one.a] |= live;
        if (reads_point_second(one.op)) points_needed_[one.b] |= live;
      } else {
        points_needed_[one.a] |= live;
      }
    }
    points_needed_[0] = 0;
    std::reverse(store.kept.begin(), store.kept.end());
    // Balls in which the same matters make a run.
    for (std::size_t k = 0; k < count; ++k) {
      runs_[k].from = most;
      run_first_[k] = k > 0 && (changes >> (k - 1) & 1) == 0 ? run_first_[k - 1] : k;
    }
    for (std::size_t k = count; k-- > 0;) {
      run_last_[k] = k + 1 < count && (changes >> k & 1) == 0 ? run_last_[k + 1] : k;
    }
  }

  void gather(std::uint32_t i, std::uint64_t range) {
    RegionStore& store = *store_;
    const std::uint64_t live = store.live[i] & range;
    if (live == 0) return;
    Tape::Instruction one = source_[i];
    if (is_pair(one.op)) {
      const bool first = (live & ~store.drop_first[i]) != 0;
      const bool second = (live & ~store.drop_second[i]) != 0;
      if (!first || !second) {
        const std::uint8_t from = first ? one.a : one.b;
        const bool inverted = !first && pair_sort(one.op) == 2;
        if (from == one.out && !inverted) return;
        one.op = inverted ? TapeOp::invert : TapeOp::move;
        one.a = from;
      }
    }
    store.instructions.push_back(one);
  }

  const Tape& tape_;
  std::span<const Tape::Instruction> source_;
  RegionStore::Lent store_;
  V radius_[block_vectors];
  std::uint64_t empty_ = 0;
  std::uint64_t sound_points_[Tape::most_registers];
  std::uint64_t sound_values_[Tape::most_registers];
  std::uint64_t points_needed_[Tape::most_registers] = {};
  std::size_t run_first_[most];
  std::size_t run_last_[most];
  RegionStore::Part runs_[most];  ///< of single runs
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
