

#include <algorithm>

#include "fractal/escape_kernel.hpp"
#include "fractal/perturbed_lane.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "fractal/perturbation_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Lanes in flight, one a slot, until something other than a step is next.
template <bool quadratic, bool one_orbit>
class PerturbedOrbits {
 public:
  PerturbedOrbits(const PerturbedFlight& flight, PerturbedLanes& from)
      : flight_(flight), lanes_(from) {}

  HWY_INLINE void Run() {
    for (std::size_t slot = 0; slot < slots; ++slot) Put(slot, lanes_.next(slot, lane_[slot]));
    while (live_ > 0) Fly();
  }

 private:
  using D = hn::ScalableTag<double>;
  using DI = hn::RebindToSigned<D>;
  using V = hn::Vec<D>;
  using VI = hn::Vec<DI>;
  using M = hn::Mask<D>;
  static constexpr std::size_t lanes = HWY_LANES(double);
  static constexpr std::size_t vectors = 2;
  static constexpr std::size_t slots = vectors * lanes;
  static constexpr int most_rounds = 32;
  static_assert(slots <= most_perturbed_slots);

  struct Numbers {
    V x, y;
  };
  static HWY_INLINE Numbers Times(const Numbers& a, const Numbers& b) {
    return {hn::Sub(hn::Mul(a.x, b.x), hn::Mul(a.y, b.y)),
            hn::Add(hn::Mul(a.x, b.y), hn::Mul(a.y, b.x))};
  }
  static HWY_INLINE Numbers Plus(const Numbers& a, const Numbers& b) {
    return {hn::Add(a.x, b.x), hn::Add(a.y, b.y)};
  }
  static HWY_INLINE V Square(const Numbers& a) {
    return hn::Add(hn::Mul(a.x, a.x), hn::Mul(a.y, a.y));
  }
  /// |c + d| - |c|, without loss.
  static HWY_INLINE V ChangeOfSize(V c, V d) {
    const V zero = hn::Zero(D());
    const V sum = hn::Add(c, d);
    const V far = hn::Add(hn::Add(c, c), d);
    const V right = hn::IfThenElse(hn::Ge(sum, zero), d, hn::Neg(far));
    const V left = hn::IfThenElse(hn::Gt(sum, zero), far, hn::Neg(d));
    return hn::IfThenElse(hn::Ge(c, zero), right, left);
  }

  void Put(std::size_t slot, bool some) {
    open_[slot] = some ? -1 : 0;
    live_ += some;
    if (!some) {
      // A slot without a lane follows the orbit itself and is ignored.
      lane_[slot] = PerturbedLane{};
      lane_[slot].place = flight_.restart;
      lane_[slot].last = flight_.second_end;
    }
    Fill(slot, lane_[slot]);
  }
  void Fill(std::size_t slot, const PerturbedLane& lane) {
    off_x_[slot] = lane.off.x;
    off_y_[slot] = lane.off.y;
    point_x_[slot] = lane.point.x;
    point_y_[slot] = lane.point.y;
    pull_[slot] = lane.pull.part();
    powers_[slot] = lane.pull.powers();
    look_below_[slot] = lane.look_below;
    place_[slot] = static_cast<std::int64_t>(2 * lane.place);
    last_[slot] = static_cast<std::int64_t>(2 * lane.last);
    left_[slot] = static_cast<std::int64_t>(flight_.limit - lane.count);
  }

  /// Steps of all, until a lane needs attention or the given number has been taken.
  HWY_INLINE void Fly() {
    const D d;
    const DI di;
    const double* const orbit = &flight_.orbit[0].x;
    const V radius = hn::Set(d, flight_.square_radius);
    const V least = hn::Set(d, flight_.draws ? drawn_in : -1.0);
    const VI restart = hn::Set(di, static_cast<std::int64_t>(2 * flight_.restart));
    const VI second_end = hn::Set(di, static_cast<std::int64_t>(2 * flight_.second_end));
    const VI pair = hn::Set(di, 2);
    Numbers off[vectors], at[vectors], z[vectors];
    V pull[vectors], size[vectors];
    VI place[vectors], last[vectors];
    M open[vectors], looks[vectors];
    for (std::size_t v = 0; v < vectors; ++v) {
      const std::size_t i = v * lanes;
      off[v] = {hn::Load(d, off_x_ + i), hn::Load(d, off_y_ + i)};
      pull[v] = hn::Load(d, pull_ + i);
      last[v] = hn::Load(di, last_ + i);
      open[v] = hn::RebindMask(d, hn::Ne(hn::Load(di, open_ + i), hn::Zero(di)));
      place[v] = hn::Load(di, place_ + i);
      at[v] = At(orbit, place_ + i);
      z[v] = Plus(at[v], off[v]);
      size[v] = Square(z[v]);
    }
    int rounds = 0;
    M any = hn::FirstN(d, 0);
    while (rounds < most_rounds && hn::AllFalse(d, any)) {
      ++rounds;
      for (std::size_t v = 0; v < vectors; ++v) {
        const std::size_t i = v * lanes;
        Stretch(size[v], pull[v]);
        off[v] =
            Plus(Step(at[v], z[v], off[v]), {hn::Load(d, point_x_ + i), hn::Load(d, point_y_ + i)});
        place[v] = hn::Add(place[v], pair);
        hn::Store(place[v], di, place_ + i);
        at[v] = At(orbit, place_ + i);
        z[v] = Plus(at[v], off[v]);
        size[v] = Square(z[v]);
        V square = Square(off[v]);
        // Nearer to 0 than to the other, or that one ends: on from the start, which is 0.
        const M ends = hn::RebindMask(d, hn::Eq(place[v], one_orbit ? second_end : last[v]));
        const M moved = hn::Or(hn::Lt(size[v], square), ends);
        const auto moved_i = hn::RebindMask(di, moved);
        off[v] = {hn::IfThenElse(moved, z[v].x, off[v].x), hn::IfThenElse(moved, z[v].y, off[v].y)};
        at[v] = {hn::IfThenZeroElse(moved, at[v].x), hn::IfThenZeroElse(moved, at[v].y)};
        square = hn::Min(square, size[v]);
        place[v] = hn::IfThenElse(moved_i, restart, place[v]);
        if constexpr (!one_orbit) last[v] = hn::IfThenElse(moved_i, second_end, last[v]);
        // Those go on that have not escaped, are not drawn in and are not near.
        M on = hn::And(hn::Le(size[v], radius), hn::Gt(pull[v], least));
        on = hn::And(on, hn::Ge(square, hn::Load(d, look_below_ + i)));
        looks[v] = hn::AndNot(on, open[v]);
        any = hn::Or(any, looks[v]);
      }
    }
    // Before stretches leave what doubles hold: scaled by powers of two, so that nothing depends on
    // when.
    const V most = hn::Set(d, 0x1p400);
    for (std::size_t v = 0; v < vectors; ++v) {
      const std::size_t i = v * lanes;
      // Those out of steps may have taken some more, which are not counted.
      const VI left = hn::Sub(hn::Load(di, left_ + i), hn::Set(di, rounds));
      const M spent = hn::RebindMask(d, hn::Lt(left, hn::Set(di, 1)));
      const M large = hn::Gt(pull[v], most);
      const VI powers = hn::Load(di, powers_ + i);
      pull[v] = hn::IfThenElse(large, hn::Mul(pull[v], hn::Set(d, 0x1p-400)), pull[v]);
      hn::Store(hn::IfThenElse(hn::RebindMask(di, large), hn::Add(powers, hn::Set(di, 1)), powers),
                di, powers_ + i);
      hn::Store(left, di, left_ + i);
      hn::Store(off[v].x, d, off_x_ + i);
      hn::Store(off[v].y, d, off_y_ + i);
      hn::Store(pull[v], d, pull_ + i);
      hn::Store(place[v], di, place_ + i);
      hn::Store(last[v], di, last_ + i);
      std::uint8_t bits[8] = {};
      hn::StoreMaskBits(d, hn::Or(looks[v], hn::And(open[v], spent)), bits);
      for (std::size_t k = 0; k < lanes; ++k) {
        if (bits[k / 8] >> (k % 8) & 1) Look(i + k);
      }
    }
  }

  /// Of the orbit, what the lanes of a vector are told from: two numbers at a time, which is faster
  /// than gathering each.
  static HWY_INLINE Numbers At(const double* orbit, const std::int64_t* place) {
    const D d;
#if HWY_TARGET == HWY_SCALAR
    return {hn::Set(d, orbit[place[0]]), hn::Set(d, orbit[place[0] + 1])};
#else
    const V low = Pairs(d, orbit, place);
    const V high = Pairs(d, orbit, place + lanes / 2);
    return {hn::ConcatEven(d, high, low), hn::ConcatOdd(d, high, low)};
#endif
  }
#if HWY_TARGET != HWY_SCALAR
  template <class Some>
  static HWY_INLINE hn::Vec<Some> Pairs(Some d, const double* orbit, const std::int64_t* place) {
    if constexpr (hn::MaxLanes(Some()) == 2) {
      return hn::LoadU(d, orbit + place[0]);
    } else {
      const hn::Half<Some> half;
      constexpr std::size_t part = hn::MaxLanes(Some()) / 4;
      return hn::Combine(d, Pairs(half, orbit, place + part), Pairs(half, orbit, place));
    }
  }
#endif

  /// Takes what the power stretches, squared, where z has that square.
  HWY_INLINE void Stretch(V square, V& pull) const {
    const D d;
    if constexpr (quadratic) {
      pull = hn::Mul(pull, hn::Mul(hn::Set(d, 4.0), square));
      return;
    }
    V one = hn::Set(d, static_cast<double>(flight_.power * flight_.power));
    for (int k = 1; k < flight_.power; ++k) one = hn::Mul(one, square);
    pull = hn::Mul(pull, one);
  }

  /// The change of one step by a distance, without the point's own.
  HWY_INLINE Numbers Step(const Numbers& at, const Numbers& z, const Numbers& off) const {
    if constexpr (quadratic) {
      // (2 Z + d) d.
      return Times(Plus(at, z), off);
    }
    const D d;
    Numbers w = at;
    Numbers e = off;
    if (flight_.family == PlaneFamily::conjugate) {
      w.y = hn::Neg(w.y);
      e.y = hn::Neg(e.y);
    } else if (flight_.family == PlaneFamily::folded) {
      e = {ChangeOfSize(w.x, e.x), ChangeOfSize(w.y, e.y)};
      w = {hn::Abs(w.x), hn::Abs(w.y)};
    }
    const Numbers full = Plus(w, e);
    Numbers power{hn::Set(d, 1.0), hn::Zero(d)};
    Numbers sum = power;
    for (int k = 1; k < flight_.power; ++k) {
      power = Times(power, w);
      sum = Plus(Times(full, sum), power);
    }
    return Times(e, sum);
  }

  HWY_NOINLINE void Look(std::size_t slot) {
    PerturbedLane& lane = lane_[slot];
    const std::uint64_t count = flight_.limit - static_cast<std::uint64_t>(left_[slot]);
    lane.steps += std::min(count, flight_.limit) - lane.count;
    lane.count = count;
    lane.off = {off_x_[slot], off_y_[slot]};
    lane.place = static_cast<std::size_t>(place_[slot] / 2);
    lane.last = static_cast<std::size_t>(last_[slot] / 2);
    lane.pull = LongProduct(pull_[slot], powers_[slot]);
    if (lanes_.attend(slot, lane)) {
      Fill(slot, lane);
      return;
    }
    --live_;
    Put(slot, lanes_.next(slot, lane));
  }

  const PerturbedFlight& flight_;
  PerturbedLanes& lanes_;
  std::size_t live_ = 0;
  PerturbedLane lane_[slots];
  alignas(64) double off_x_[slots], off_y_[slots], point_x_[slots], point_y_[slots], pull_[slots],
      look_below_[slots];
  /// Places and ends in numbers of the orbit, of which each z has two.
  alignas(64) std::int64_t place_[slots], last_[slots], left_[slots], open_[slots], powers_[slots];
};

template <bool quadratic>
HWY_INLINE void FlyAs(const PerturbedFlight& flight, PerturbedLanes& lanes) {
  if (flight.restart == 0) {
    PerturbedOrbits<quadratic, true>(flight, lanes).Run();
  } else {
    PerturbedOrbits<quadratic, false>(flight, lanes).Run();
  }
}

void FlyPerturbed(const PerturbedFlight& flight, PerturbedLanes& lanes) {
  if (flight.family == PlaneFamily::power && flight.power == 2) {
    FlyAs<true>(flight, lanes);
  } else {
    FlyAs<false>(flight, lanes);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(FlyPerturbed);

void fly_perturbed(const PerturbedFlight& flight, PerturbedLanes& lanes) {
  HWY_DYNAMIC_DISPATCH(FlyPerturbed)(flight, lanes);
}

}  // namespace photonlane
#endif
