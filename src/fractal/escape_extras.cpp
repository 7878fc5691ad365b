#include <algorithm>
#include <cmath>
#include <limits>

#include "fractal/escape_kernel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "fractal/escape_extras.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "fractal/escape_numbers-inl.h"
#include "fractal/escape_step-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// The same for a power that is not known before.
template <class Real>
HWY_INLINE void AnyStep(int power, const Folding<Real>& folding, const Real& cx, const Real& cy,
                        Real& x, Real& y) {
  switch (power) {
    case 2:
      return Step<2, false>(folding, cx, cy, x, y);
    case 3:
      return Step<3, false>(folding, cx, cy, x, y);
    case 4:
      return Step<4, false>(folding, cx, cy, x, y);
    case 5:
      return Step<5, false>(folding, cx, cy, x, y);
    case 6:
      return Step<6, false>(folding, cx, cy, x, y);
    case 7:
      return Step<7, false>(folding, cx, cy, x, y);
    default:
      return Step<8, false>(folding, cx, cy, x, y);
  }
}

/// What is found along orbits whose ends are known.
template <class Real>
HWY_INLINE void FindExtras(const EscapeRule& rule, const EscapeExtras& extras,
                           const PlanePoints& points, EscapeEnds& ends) {
  using D = typename Real::D;
  using V = hn::Vec<D>;
  const D d;
  constexpr std::size_t lanes = HWY_LANES(double);
  ends.distance.resize(points.size());
  ends.trap.resize(points.size());
  const Folding<Real> folding = folding_of<Real>(rule.family);
  const OrbitTrap trap = extras.trap.value_or(OrbitTrap{});
  const V zero = hn::Zero(d);
  const V one = hn::Set(d, 1.0);
  const V of_c = rule.julia ? zero : one;
  for (std::size_t first = 0; first < points.size(); first += lanes) {
    const std::size_t some = std::min(lanes, points.size() - first);
    Stored<Real, lanes> at_x, at_y, c_x, c_y;
    alignas(64) double counts[lanes] = {};
    std::uint64_t most = 0;
    for (std::size_t i = 0; i < lanes; ++i) {
      const std::size_t k = first + std::min(i, some - 1);
      const DoubleDouble none;
      at_x.Put(i, rule.julia ? points.x(k) : none);
      at_y.Put(i, rule.julia ? points.y(k) : none);
      c_x.Put(i, rule.julia ? rule.julia_x : points.x(k));
      c_y.Put(i, rule.julia ? rule.julia_y : points.y(k));
      counts[i] = static_cast<double>(ends.count[k]);
      most = std::max(most, ends.count[k]);
    }
    Real x = at_x.Load(0);
    Real y = at_y.Load(0);
    const Real cx = c_x.Load(0);
    const Real cy = c_y.Load(0);
    const V count = hn::Load(d, counts);
    // How the place of z changes with the point: rows of x and y.
    V xx = hn::Sub(one, of_c), xy = zero, yx = zero, yy = xx;
    V nearest = hn::Set(d, std::numeric_limits<double>::infinity());
    for (std::uint64_t k = 1; k <= most; ++k) {
      const auto runs = hn::Le(hn::Set(d, static_cast<double>(k)), count);
      Real next_x = x;
      Real next_y = y;
      if (extras.distance) {
        Fold(folding, next_x, next_y);
        const V turn_x = hn::And(folding.take_off, x.high());
        const V turn_y = hn::Xor(hn::And(folding.take_off, y.high()), folding.turn);
        V re = hn::Set(d, double(rule.power));
        V im = zero;
        for (int p = 1; p < rule.power; ++p) {
          const V wide = hn::Sub(hn::Mul(re, next_x.high()), hn::Mul(im, next_y.high()));
          im = hn::Add(hn::Mul(re, next_y.high()), hn::Mul(im, next_x.high()));
          re = wide;
        }
        const auto turned = [&](V a, V b, V own) HWY_ATTR {
          return hn::Add(hn::Add(hn::Mul(re, a), hn::Mul(im, b)), own);
        };
        const V ax = hn::Xor(xx, turn_x);
        const V ay = hn::Xor(xy, turn_x);
        const V bx = hn::Xor(yx, turn_y);
        const V by = hn::Xor(yy, turn_y);
        const V new_xx = turned(ax, hn::Neg(bx), of_c);
        const V new_xy = turned(ay, hn::Neg(by), zero);
        const V new_yx = hn::Add(hn::Mul(im, ax), hn::Mul(re, bx));
        const V new_yy = hn::Add(hn::Add(hn::Mul(im, ay), hn::Mul(re, by)), of_c);
        xx = hn::IfThenElse(runs, new_xx, xx);
        xy = hn::IfThenElse(runs, new_xy, xy);
        yx = hn::IfThenElse(runs, new_yx, yx);
        yy = hn::IfThenElse(runs, new_yy, yy);
        next_x = x;
        next_y = y;
      }
      AnyStep(rule.power, folding, cx, cy, next_x, next_y);
      x = Choose(runs, next_x, x);
      y = Choose(runs, next_y, y);
      if (extras.trap) {
        const V off_x = hn::Sub(x.high(), hn::Set(d, trap.x));
        const V off_y = hn::Sub(y.high(), hn::Set(d, trap.y));
        V off;
        if (trap.shape == TrapShape::cross) {
          off = hn::Min(hn::Abs(off_x), hn::Abs(off_y));
        } else {
          off = hn::Sqrt(hn::Add(hn::Mul(off_x, off_x), hn::Mul(off_y, off_y)));
          if (trap.shape == TrapShape::ring) off = hn::Abs(hn::Sub(off, hn::Set(d, trap.radius)));
        }
        // Where this arithmetic has left the plane before the one that counted, off is no number.
        nearest = hn::IfThenElse(hn::And(runs, hn::Lt(off, nearest)), off, nearest);
      }
    }
    // The gradient of log |z|, against log |z| itself.
    const V square = hn::Add(hn::Mul(x.high(), x.high()), hn::Mul(y.high(), y.high()));
    const V slope_x = hn::Add(hn::Mul(x.high(), xx), hn::Mul(y.high(), yx));
    const V slope_y = hn::Add(hn::Mul(x.high(), xy), hn::Mul(y.high(), yy));
    const V slope = hn::Sqrt(hn::Add(hn::Mul(slope_x, slope_x), hn::Mul(slope_y, slope_y)));
    alignas(64) double squares[lanes], slopes[lanes], traps[lanes];
    hn::Store(square, d, squares);
    hn::Store(slope, d, slopes);
    hn::Store(nearest, d, traps);
    for (std::size_t i = 0; i < some; ++i) {
      const bool out = ends.ending[first + i] == Ending::escaped;
      const double distance = squares[i] * 0.5 * std::log(squares[i]) / slopes[i];
      ends.distance[first + i] = out && distance > 0 ? distance : 0;
      ends.trap[first + i] = traps[i];
    }
  }
}

void FindExtrasDouble(const EscapeRule& rule, const EscapeExtras& extras, const PlanePoints& points,
                      EscapeEnds& ends) {
  FindExtras<Single<hn::ScalableTag<double>>>(rule, extras, points, ends);
}
void FindExtrasPairs(const EscapeRule& rule, const EscapeExtras& extras, const PlanePoints& points,
                     EscapeEnds& ends) {
  FindExtras<Pair<hn::ScalableTag<double>>>(rule, extras, points, ends);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(FindExtrasDouble);
HWY_EXPORT(FindExtrasPairs);

void find_extras(const EscapeRule& rule, const EscapeExtras& extras, bool pairs,
                 const PlanePoints& points, EscapeEnds& ends) {
  if (pairs) {
    HWY_DYNAMIC_DISPATCH(FindExtrasPairs)(rule, extras, points, ends);
  } else {
    HWY_DYNAMIC_DISPATCH(FindExtrasDouble)(rule, extras, points, ends);
  }
}

}  // namespace photonlane
#endif
