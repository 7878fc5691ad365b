#include "fractal/escape_kernel.hpp"

#include <array>
#include <bit>
#include <cmath>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "fractal/escape_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "fractal/escape_numbers-inl.h"
#include "fractal/escape_step-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Orbits in flight, one a slot; a slot whose orbit has ended takes the next point.
template <class Real, int power, bool plain>
class Orbits {
 public:
  using D = typename Real::D;
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using DI = hn::RebindToSigned<D>;
  using Integer = hn::TFromD<DI>;
  using VI = hn::Vec<DI>;
  /// One lane, in the same arithmetic.
  using One = typename Real::One;

  Orbits(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
         EscapeEnds& ends)
      : rule_(rule),
        stop_(stop),
        points_(points),
        ends_(ends),
        folding_(folding_of<Real>(rule.family)) {}

  HWY_INLINE void Run() {
    for (std::size_t slot = 0; slot < slots; ++slot) Refill(slot);
    Fly();
  }

 private:
  static constexpr std::size_t vectors = Real::planes == 1 ? 4 : 1;  ///< in flight together
  static constexpr std::size_t lanes = HWY_LANES(Number);
  static constexpr std::size_t slots = vectors * lanes;
  /// Steps that are taken before anybody looks. Once outside nothing comes back, so that the ones
  /// within which some orbit ended are taken again to see when.
  static constexpr int chunk = 8;
  /// The square of a stretch, from the first step on, below which an orbit is taken to be drawn in.
  static constexpr double least_pull = 1e-20;
  static constexpr std::size_t nobody = ~std::size_t{0};
  static constexpr std::uint64_t allotment = std::uint64_t{1} << 30;

  void Refill(std::size_t slot) {
    const bool largest =
        stop_.forms && plain && power == 2 && rule_.family == PlaneFamily::power && !rule_.julia;
    const double radius = stop_.radius * stop_.radius;
    for (; next_ < points_.size(); ++next_) {
      const double px = points_.x[next_].high;
      const double py = points_.y[next_].high;
      if (largest && in_largest_parts(px, py)) {
        ends_.count[next_] = 0;
        ends_.ending[next_] = Ending::hit;
        continue;
      }
      if (rule_.julia && !(px * px + py * py <= radius)) {
        ends_.count[next_] = 0;
        ends_.ending[next_] = Ending::escaped;
        ends_.x[next_] = px;
        ends_.y[next_] = py;
        continue;
      }
      break;
    }
    const bool dead = next_ >= points_.size();
    point_[slot] = dead ? nobody : next_;
    const DoubleDouble zero;
    const DoubleDouble at_x = dead ? zero : points_.x[next_];
    const DoubleDouble at_y = dead ? zero : points_.y[next_];
    const bool moves = rule_.julia && !dead;
    x_.Put(slot, moves ? at_x : zero);
    y_.Put(slot, moves ? at_y : zero);
    cx_.Put(slot, moves ? rule_.julia_x : at_x);
    cy_.Put(slot, moves ? rule_.julia_y : at_y);
    kept_x_.Put(slot, {std::numeric_limits<double>::quiet_NaN(), 0});
    kept_y_.Put(slot, zero);
    given_[slot] = dead ? allotment : std::min(stop_.limit, allotment);
    left_[slot] = static_cast<Integer>(given_[slot]);
    allotted_[slot] = left_[slot];
    mark_[slot] = dead ? -1 : left_[slot] - chunk;
    pull_[slot] = 1;
    if (dead) return;
    ++next_;
    ++live_;
  }

  /// The square of how much a step stretches what is around z: by every family the same.
  static HWY_INLINE V Slope(V x, V y) {
    const D d;
    const V square = hn::Add(hn::Mul(x, x), hn::Mul(y, y));
    V slope = hn::Set(d, Number(power * power));
    for (int k = 1; k < power; ++k) slope = hn::Mul(slope, square);
    return slope;
  }

  /// Takes steps until all orbits have ended; a slot whose orbit has takes the next point.
  HWY_INLINE void Fly() {
    const D d;
    const DI di;
    const V radius = hn::Set(d, static_cast<Number>(stop_.radius * stop_.radius));
    const bool periodicity = stop_.periodicity;
    const bool derivative = stop_.derivative;
    Real x[vectors], y[vectors], cx[vectors], cy[vectors], from_x[vectors], from_y[vectors];
    V pull[vectors];
    const auto load = [&](std::size_t v) HWY_ATTR {
      x[v] = x_.Load(v);
      y[v] = y_.Load(v);
      cx[v] = cx_.Load(v);
      cy[v] = cy_.Load(v);
      pull[v] = hn::Load(d, pull_ + v * lanes);
    };
    for (std::size_t v = 0; v < vectors; ++v) load(v);
    VI steps[vectors];
    while (live_ > 0) {
      // Short orbits are told step by step; of long ones the last steps are taken again.
      const bool tracking = !derivative && ended_ > 0 && ends_.steps < 500 * ended_;
      for (std::size_t v = 0; v < vectors; ++v) {
        from_x[v] = x[v];
        from_y[v] = y[v];
      }
      if (tracking) {
        // Orbits stay where they are first outside, and the steps before are counted.
        for (std::size_t v = 0; v < vectors; ++v) steps[v] = hn::Zero(di);
        for (int k = 0; k < chunk; ++k) {
          for (std::size_t v = 0; v < vectors; ++v) {
            const V square =
                hn::Add(hn::Mul(x[v].high(), x[v].high()), hn::Mul(y[v].high(), y[v].high()));
            const M inside = hn::Le(square, radius);
            Real next_x = x[v];
            Real next_y = y[v];
            Step<power, plain>(folding_, cx[v], cy[v], next_x, next_y);
            x[v] = Choose(inside, next_x, x[v]);
            y[v] = Choose(inside, next_y, y[v]);
            steps[v] = hn::Sub(steps[v], hn::BitCast(di, hn::VecFromMask(d, inside)));
          }
        }
      } else if (!derivative) {
        for (int k = 0; k < chunk; ++k) {
          for (std::size_t v = 0; v < vectors; ++v) {
            Step<power, plain>(folding_, cx[v], cy[v], x[v], y[v]);
          }
        }
      } else {
        for (int k = 0; k < chunk; ++k) {
          for (std::size_t v = 0; v < vectors; ++v) {
            Step<power, plain>(folding_, cx[v], cy[v], x[v], y[v]);
            pull[v] = hn::Mul(pull[v], Slope(x[v].high(), y[v].high()));
          }
        }
      }
      for (std::size_t v = 0; v < vectors; ++v) {
        const V square =
            hn::Add(hn::Mul(x[v].high(), x[v].high()), hn::Mul(y[v].high(), y[v].high()));
        const VI left = hn::Sub(hn::Load(di, left_ + v * lanes), hn::Set(di, chunk));
        hn::Store(left, di, left_ + v * lanes);
        M ended = hn::Or(hn::Not(hn::Le(square, radius)),
                         hn::RebindMask(d, hn::Lt(left, hn::Set(di, 1))));
        M same = hn::FirstN(d, 0);
        if (periodicity) {
          // Where an orbit was when its steps were last a power of two (Brent, "An improved Monte
          // Carlo factorization algorithm", 1980).
          const Real kept_x = kept_x_.Load(v);
          const Real kept_y = kept_y_.Load(v);
          same = hn::And(Equal(x[v], kept_x), Equal(y[v], kept_y));
          const auto keeps = hn::Eq(left, hn::Load(di, mark_ + v * lanes));
          if (!hn::AllFalse(di, keeps)) {
            const M keep = hn::RebindMask(d, keeps);
            kept_x_.Store(v, Choose(keep, x[v], kept_x));
            kept_y_.Store(v, Choose(keep, y[v], kept_y));
            // After as many steps again.
            const VI given = hn::Load(di, allotted_ + v * lanes);
            const VI taken = hn::Sub(given, left);
            hn::Store(hn::IfThenElse(keeps, hn::Sub(left, taken), hn::Load(di, mark_ + v * lanes)),
                      di, mark_ + v * lanes);
          }
        }
        if (derivative) {
          same = hn::Or(same, hn::Lt(pull[v], hn::Set(d, Number(least_pull))));
        }
        ended = hn::Or(ended, same);
        if (hn::AllFalse(d, ended)) continue;
        x_.Store(v, x[v]);
        y_.Store(v, y[v]);
        hn::Store(pull[v], d, pull_ + v * lanes);
        from_x_.Store(v, from_x[v]);
        from_y_.Store(v, from_y[v]);
        if (tracking) {
          hn::Store(
              hn::IfThenElseZero(hn::RebindMask(di, hn::Not(hn::Le(square, radius))), steps[v]), di,
              when_);
        }
        End(v, ended, same, tracking);
        load(v);
      }
    }
  }

  /// The lanes of a vector that have ended within the last steps: those are taken again, one by
  /// one, to see when.
  HWY_INLINE void End(std::size_t v, M ended, M same, bool tracked) {
    const D d;
    std::uint8_t ended_bits[8] = {};
    std::uint8_t same_bits[8] = {};
    hn::StoreMaskBits(d, ended, ended_bits);
    hn::StoreMaskBits(d, same, same_bits);
    std::uint64_t open = std::bit_cast<std::uint64_t>(ended_bits);
    // Bits past the lanes are anything.
    if (lanes < 64) open &= (std::uint64_t{1} << lanes) - 1;
    for (; open != 0; open &= open - 1) {
      const auto i = static_cast<std::size_t>(std::countr_zero(open));
      const std::size_t slot = v * lanes + i;
      const std::size_t point = point_[slot];
      if (point == nobody) {
        left_[slot] = static_cast<Integer>(allotment);
        allotted_[slot] = static_cast<Integer>(allotment);
        continue;
      }
      One x = tracked ? x_.One(slot) : from_x_.One(slot);
      One y = tracked ? y_.One(slot) : from_y_.One(slot);
      const One cx = cx_.One(slot);
      const One cy = cy_.One(slot);
      const Folding<One> folding = folding_of<One>(rule_.family);
      const auto square_limit = static_cast<Number>(stop_.radius * stop_.radius);
      int step = tracked ? static_cast<int>(when_[i]) : 0;
      for (int k = tracked ? chunk + 1 : 1; k <= chunk && step == 0; ++k) {
        Step<power, plain>(folding, cx, cy, x, y);
        const Number at_x = hn::GetLane(x.high());
        const Number at_y = hn::GetLane(y.high());
        if (!(at_x * at_x + at_y * at_y <= square_limit)) step = k;
      }
      // What is left counts this chunk.
      const std::uint64_t before =
          given_[slot] - static_cast<std::uint64_t>(static_cast<std::int64_t>(left_[slot]) + chunk);
      const std::uint64_t count = before + static_cast<std::uint64_t>(step);
      if (step > 0 && count <= stop_.limit) {
        ends_.count[point] = count;
        ends_.ending[point] = Ending::escaped;
        ends_.x[point] = static_cast<double>(hn::GetLane(x.high()));
        ends_.y[point] = static_cast<double>(hn::GetLane(y.high()));
      } else if (same_bits[i / 8] >> (i % 8) & 1) {
        ends_.count[point] = before + chunk;
        ends_.ending[point] = Ending::hit;
      } else if (given_[slot] < stop_.limit && step == 0) {
        const std::uint64_t more = std::min(stop_.limit - given_[slot], allotment);
        given_[slot] += more;
        left_[slot] += static_cast<Integer>(more);
        allotted_[slot] = left_[slot];
        mark_[slot] = 0;
        continue;
      } else {
        ends_.count[point] = stop_.limit;
        ends_.ending[point] = Ending::spent;
      }
      ends_.steps += ends_.count[point];
      --live_;
      ++ended_;
      Refill(slot);
    }
  }

  const EscapeRule& rule_;
  const EscapeStop& stop_;
  const PlanePoints& points_;
  EscapeEnds& ends_;
  const Folding<Real> folding_;
  std::size_t next_ = 0;
  std::size_t live_ = 0;
  std::uint64_t ended_ = 0;
  alignas(64) Integer when_[lanes];  ///< of a vector's lanes: the step that led outside, or 0

  Stored<Real, slots> x_, y_, cx_, cy_, from_x_, from_y_, kept_x_, kept_y_;
  alignas(64) Integer left_[slots];      ///< of what was given
  alignas(64) Integer allotted_[slots];  ///< all of it
  alignas(64) Integer mark_[slots];      ///< what is left when the place is kept anew
  alignas(64) Number pull_[slots];       ///< the square of how much the orbit stretches so far
  std::uint64_t given_[slots];           ///< steps it may take, so far
  std::size_t point_[slots];
};

template <class Real>
HWY_INLINE void Iterate(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                        EscapeEnds& ends) {
  const auto run = [&](auto power, auto plain) HWY_ATTR {
    Orbits<Real, decltype(power)::value, decltype(plain)::value>(rule, stop, points, ends).Run();
  };
  using std::integral_constant;
  if (rule.family == PlaneFamily::power && rule.power == 2) {
    return run(integral_constant<int, 2>(), std::true_type());
  }
  switch (rule.power) {
    case 2:
      return run(integral_constant<int, 2>(), std::false_type());
    case 3:
      return run(integral_constant<int, 3>(), std::false_type());
    case 4:
      return run(integral_constant<int, 4>(), std::false_type());
    case 5:
      return run(integral_constant<int, 5>(), std::false_type());
    case 6:
      return run(integral_constant<int, 6>(), std::false_type());
    case 7:
      return run(integral_constant<int, 7>(), std::false_type());
    default:
      return run(integral_constant<int, 8>(), std::false_type());
  }
}

void IterateFloat(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                  EscapeEnds& ends) {
  Iterate<Single<hn::ScalableTag<float>>>(rule, stop, points, ends);
}
void IterateDouble(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                   EscapeEnds& ends) {
  Iterate<Single<hn::ScalableTag<double>>>(rule, stop, points, ends);
}
void IteratePairs(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                  EscapeEnds& ends) {
  Iterate<Pair<hn::ScalableTag<double>>>(rule, stop, points, ends);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(IterateFloat);
HWY_EXPORT(IterateDouble);
HWY_EXPORT(IteratePairs);

void EscapeEnds::resize(std::size_t size) {
  count.resize(size);
  ending.resize(size);
  x.resize(size);
  y.resize(size);
  steps = 0;
}

bool in_largest_parts(double x, double y) {
  const double off = x - 0.25;
  const double q = off * off + y * y;
  return q * (q + off) <= 0.25 * y * y || (x + 1) * (x + 1) + y * y <= 0.0625;
}

void iterate_float(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                   EscapeEnds& ends) {
  ends.resize(points.size());
  HWY_DYNAMIC_DISPATCH(IterateFloat)(rule, stop, points, ends);
}
void iterate_double(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                    EscapeEnds& ends) {
  ends.resize(points.size());
  HWY_DYNAMIC_DISPATCH(IterateDouble)(rule, stop, points, ends);
}
void iterate_double_double(const EscapeRule& rule, const EscapeStop& stop,
                           const PlanePoints& points, EscapeEnds& ends) {
  ends.resize(points.size());
  HWY_DYNAMIC_DISPATCH(IteratePairs)(rule, stop, points, ends);
}

}  // namespace photonlane
#endif
