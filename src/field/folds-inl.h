// Per-target include: solids of steps done again and again, for distances alone, with their
// gradients, and with what decides their material.

#if defined(PHOTONLANE_FIELD_FOLDS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_FOLDS_INL_H_
#undef PHOTONLANE_FIELD_FOLDS_INL_H_
#else
#define PHOTONLANE_FIELD_FOLDS_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <cstddef>
#include <type_traits>
#include <utility>

#include "field/fold_steps-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Vectors that go through the steps together, so that one computes while another waits.
inline constexpr std::size_t block_of_folds = 4;

/// Does something for 0 to count - 1, each a constant, so that what it indexes stays in registers.
template <std::size_t count, class Work>
HWY_INLINE void ForEach(const Work& work) {
  [&]<std::size_t... u>(std::index_sequence<u...>) __attribute__((always_inline)) {
    (work(std::integral_constant<std::size_t, u>()), ...);
  }
  (std::make_index_sequence<count>());
}

/// Takes places through a program, `count` vectors at a time. T is Plain<D> or Dual<D>.
template <class D, class T, std::size_t count, bool tints>
class Folder {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  static constexpr bool slopes = std::is_same_v<T, Dual<D>>;
  static constexpr std::size_t width = count * hn::MaxLanes(D());

 public:
  explicit Folder(const FoldProgram& program) : program_(program) {}

  void ask(const SourceBatch<Number>& batch) {
    const std::size_t lanes = count * hn::Lanes(D());
    for (std::size_t first = 0; first < batch.count; first += lanes) {
      const std::size_t size = std::min(lanes, batch.count - first);
      load(batch, first, size);
      switch (program_.form) {
        case FoldProgram::Form::chain:
          chain();
          break;
        case FoldProgram::Form::sponge:
          sponge();
          break;
        case FoldProgram::Form::balls:
          balls();
          break;
        case FoldProgram::Form::bulb:
          bulb();
          break;
        case FoldProgram::Form::quaternion:
          quaternion();
          break;
      }
      give(batch, first, size);
    }
  }

 private:
  using Tools = FoldTools<D, T>;
  static V set(double value) { return Tools::set(value); }
  static T square(const T& x, const T& y, const T& z) { return Tools::square(x, y, z); }

  void load(const SourceBatch<Number>& batch, std::size_t first, std::size_t size) {
    const D d;
    const std::size_t lanes = hn::Lanes(d);
    HWY_ALIGN Number place[width];
    const auto read = [&](const Number* from, const auto& give) {
      if (size == count * lanes) {
        for (std::size_t u = 0; u < count; ++u) give(u, hn::LoadU(d, from + first + u * lanes));
        return;
      }
      for (std::size_t i = 0; i < count * lanes; ++i) {
        place[i] = from[first + std::min(i, size - 1)];
      }
      for (std::size_t u = 0; u < count; ++u) give(u, hn::Load(d, place + u * lanes));
    };
    const V factor = set(program_.factor);
    read(batch.x, [&](std::size_t u, V v) { x_[u] = T(hn::Mul(v, factor)); });
    read(batch.y, [&](std::size_t u, V v) { y_[u] = T(hn::Mul(v, factor)); });
    read(batch.z, [&](std::size_t u, V v) { z_[u] = T(hn::Mul(v, factor)); });
    // Of the place in the program's own space; how long that is in meters comes at the end.
    if constexpr (slopes) {
      for (std::size_t u = 0; u < count; ++u) x_[u].x = y_[u].y = z_[u].z = set(1);
    }
    by_ = batch.tint_by;
    cuts_ = batch.footprint != nullptr;
    const V none = hn::Zero(d);
    for (std::size_t u = 0; u < count; ++u) footprint_[u] = none;
    if (cuts_) {
      read(batch.footprint, [&](std::size_t u, V v) { footprint_[u] = hn::Mul(v, factor); });
    }
  }

  void give(const SourceBatch<Number>& batch, std::size_t first, std::size_t size) const {
    const D d;
    const std::size_t lanes = hn::Lanes(d);
    HWY_ALIGN Number all[width];
    const auto write = [&](Number* to, const auto& get) {
      if (size == count * lanes) {
        for (std::size_t u = 0; u < count; ++u) hn::StoreU(get(u), d, to + first + u * lanes);
        return;
      }
      for (std::size_t u = 0; u < count; ++u) hn::Store(get(u), d, all + u * lanes);
      std::copy_n(all, size, to + first);
    };
    const V length = set(1 / program_.factor);
    write(batch.value, [&](std::size_t u) { return hn::Mul(value_[u].v, length); });
    if constexpr (slopes) {
      if (batch.slope_x != nullptr) {
        write(batch.slope_x, [&](std::size_t u) { return value_[u].x; });
        write(batch.slope_y, [&](std::size_t u) { return value_[u].y; });
        write(batch.slope_z, [&](std::size_t u) { return value_[u].z; });
      }
    }
    if constexpr (tints) write(batch.tint, [&](std::size_t u) { return tint_[u]; });
  }

  // Steps, with a base at their end.

  using Steps = FoldSteps<D, T, count, tints>;
  using Places = typename Steps::Places;

  void chain() {
    Places p;
    for (std::size_t u = 0; u < count; ++u) {
      p.x[u] = x_[u];
      p.y[u] = y_[u];
      p.z[u] = z_[u];
      p.scale[u] = set(1);
      value_[u] = T(hn::Inf(D()));
    }
    const Steps walk(program_, x_, y_, z_);
    FoldTrail<D, tints> trail[count];
    M going[count];
    for (M& one : going) one = hn::Eq(p.scale[0], p.scale[0]);
    const bool stops = program_.limit > 0 || cuts_;
    for (int i = 0; i < program_.times; ++i) {
      if (program_.keeps_all) add_base(walk, p);
      if (!stops) {
        walk.iterate(p, trail);
      } else {
        if (!any_goes_on(p, going)) break;
        const Places before = p;
        walk.iterate(p, trail);
        for (std::size_t u = 0; u < count; ++u) {
          p.x[u] = Select(going[u], p.x[u], before.x[u]);
          p.y[u] = Select(going[u], p.y[u], before.y[u]);
          p.z[u] = Select(going[u], p.z[u], before.z[u]);
          p.scale[u] = hn::IfThenElse(going[u], p.scale[u], before.scale[u]);
        }
      }
      for (std::size_t u = 0; u < count; ++u) {
        trail[u].next(square(p.x[u], p.y[u], p.z[u]).v, going[u]);
      }
    }
    add_base(walk, p);
    for (std::size_t u = 0; u < count; ++u) {
      if (!program_.exact) at_least_beyond(u);
      tell(trail[u], u);
    }
  }

  /// Which lanes have not left, and have detail left that matters.
  bool any_goes_on(const Places& p, M* going) const {
    const D d;
    const V limit = set(program_.limit * program_.limit);
    const V detail = set(program_.detail);
    bool any = false;
    for (std::size_t u = 0; u < count; ++u) {
      if (program_.limit > 0) {
        going[u] = hn::AndNot(hn::Gt(square(p.x[u], p.y[u], p.z[u]).v, limit), going[u]);
      }
      if (cuts_) {
        going[u] = hn::AndNot(hn::Gt(hn::Mul(p.scale[u], footprint_[u]), detail), going[u]);
      }
      any = any || !hn::AllFalse(d, going[u]);
    }
    return any;
  }

  /// The base where places are now, beside what was there before.
  void add_base(const Steps& walk, const Places& p) {
    T own[count];
    walk.base(p, own);
    for (std::size_t u = 0; u < count; ++u) {
      V scale = p.scale[u];
      if constexpr (slopes) {
        if (program_.jacobian) scale = Steps::largest_stretch(p, u);
      }
      value_[u] = Min(value_[u], own[u] * hn::Div(set(1), scale));
    }
  }

  // A cube with crossed holes in all of its parts.

  /// The same steps as those of a chain, in registers.
  void sponge() {
    const D d;
    const V third = set(1.0 / 3);
    const V three = set(3);
    const V two = set(2);
    T x[count], y[count], z[count];
    V scale[count];
    M going[count];
    FoldTrail<D, tints> trail[count];
    ForEach<count>([&](auto u) HWY_ATTR __attribute__((always_inline)) {
      x[u] = x_[u];
      y[u] = y_[u];
      z[u] = z_[u];
      scale[u] = set(1);
      going[u] = hn::Eq(third, third);
    });
    const auto part = [&](T & a, T & b, T & c, FoldTrail<D, tints> & way) HWY_ATTR
        __attribute__((always_inline)) {
      const V zero = hn::Zero(d);
      way.flip(hn::Lt(a.v, zero));
      way.flip(hn::Lt(b.v, zero));
      way.flip(hn::Lt(c.v, zero));
      a = Abs(a);
      b = Abs(b);
      c = Abs(c);
      const T ab = Max(a, b);
      const T ba = Min(a, b);
      const T bc = Max(ba, c);
      const T over = Min(ba, c) - third;
      way.flip(hn::Lt(over.v, zero));
      a = Max(ab, bc) * three - two;
      b = Min(ab, bc) * three - two;
      c = (Abs(over) + third) * three - two;
    };
    if (!cuts_ && !tints) {
      Number whole = 1;
      for (int i = 0; i < program_.times; ++i) {
        ForEach<count>([&](auto u) HWY_ATTR
                       __attribute__((always_inline)) { part(x[u], y[u], z[u], trail[u]); });
        whole *= 3;
      }
      for (V& one : scale) one = hn::Set(d, whole);
    } else {
      for (int i = 0; i < program_.times; ++i) {
        for (std::size_t u = 0; u < count; ++u) {
          going[u] = hn::AndNot(hn::Gt(hn::Mul(scale[u], footprint_[u]), set(1)), going[u]);
          T a = x[u];
          T b = y[u];
          T c = z[u];
          part(a, b, c, trail[u]);
          x[u] = Select(going[u], a, x[u]);
          y[u] = Select(going[u], b, y[u]);
          z[u] = Select(going[u], c, z[u]);
          scale[u] = hn::IfThenElse(going[u], hn::Mul(scale[u], three), scale[u]);
          trail[u].next(square(x[u], y[u], z[u]).v, going[u]);
        }
      }
    }
    for (std::size_t u = 0; u < count; ++u) {
      const T value = Tools::past_box(Abs(x[u]) - set(1), Abs(y[u]) - set(1), Abs(z[u]) - set(1));
      value_[u] = value * hn::Div(set(1), scale[u]);
      tell(trail[u], u);
    }
    for (std::size_t u = 0; u < count; ++u) {
      if (!hn::AllFalse(d, hn::Lt(value_[u].v, set(1e-5)))) sponge_inside(u);
    }
  }

  /// Within the solid the nearest side of the part a place is in may be one that it shares with the
  /// next. There the value is how far the nearest hole is, or the outer side: of all bars of a size
  /// the one through the middle of the part around, and of those of all sizes the nearest.
  void sponge_inside(std::size_t u) {
    const D d;
    const V third = set(1.0 / 3);
    const V three = set(3);
    const V two = set(2);
    T x = Abs(x_[u]);
    T y = Abs(y_[u]);
    T z = Abs(z_[u]);
    T inside = Tools::past_box(x - set(1), y - set(1), z - set(1));
    V scale = set(1);
    M going = hn::Eq(third, third);
    for (int i = 0; i < program_.times; ++i) {
      if (cuts_) going = hn::AndNot(hn::Gt(hn::Mul(scale, footprint_[u]), set(1)), going);
      const T large = Max(x, y);
      const T small = Min(x, y);
      const T middle = Min(large, Max(small, z));
      const T least = Min(small, z);
      const T off = middle - third;
      // How far the bar is; within it, how far its sides.
      const T over = Select(hn::Gt(off.v, hn::Zero(d)), beyond_two(off, least - third), off);
      const T through = over * hn::Div(set(-1), scale);
      inside = Select(going, Max(inside, through), inside);
      // On to the part of the part, as above.
      const T bc = Max(small, z);
      const T edge = Min(small, z) - third;
      x = Select(going, Abs(Max(large, bc) * three - two), x);
      y = Select(going, Abs(Min(large, bc) * three - two), y);
      z = Select(going, Abs((Abs(edge) + third) * three - two), z);
      scale = hn::IfThenElse(going, hn::Mul(scale, three), scale);
    }
    value_[u] = Select(hn::Lt(inside.v, hn::Zero(d)), inside, value_[u]);
  }
  /// How far past two sides a place is that is past the first.
  static T beyond_two(const T& a, const T& b) {
    const T zero = a - a;
    return Sqrt(square(a, Max(b, zero), zero));
  }

  // Balls taken out of all parts of a cube.

  void balls() {
    const D d;
    const V one = set(1);
    const V third = set(1.0 / 3);
    const V radius = set(program_.ball);
    for (std::size_t u = 0; u < count; ++u) {
      T x = Abs(x_[u]);
      T y = Abs(y_[u]);
      T z = Abs(z_[u]);
      T value = Tools::past_box(x - one, y - one, z - one);
      V size = one;  // of a part
      M going = hn::Eq(one, one);
      FoldTrail<D, tints> trail;
      for (int i = 0; i < program_.times; ++i) {
        if (i > 0) {
          const auto part = [&](const T& a) {
            trail.flip(hn::Lt(a.v, third));
            return Abs((Abs(a - third) - third) * hn::Set(d, Number(3)));
          };
          x = part(x);
          y = part(y);
          z = part(z);
          size = hn::Mul(size, third);
        }
        if (cuts_) {
          going = hn::AndNot(hn::Lt(size, footprint_[u]), going);
          if (hn::AllFalse(d, going)) break;
        }
        const T length = Sqrt(square(x, y, z));
        const T inside = (radius - length) * size;
        const M taken = hn::And(going, hn::Gt(inside.v, value.v));
        value = Select(taken, inside, value);
        trail.next(hn::Mul(length.v, length.v), taken);
      }
      value_[u] = value;
      tell(trail, u);
    }
  }

  // Places that go away from the middle.

  /// A number by its whole power, by squaring.
  template <class Any>
  static HWY_INLINE Any power_of(Any a, int power) {
    Any result = Any(set(1));
    for (; power > 0; power >>= 1) {
      if ((power & 1) != 0) result = result * a;
      if (power > 1) a = a * a;
    }
    return result;
  }
  /// The same of a + b u, where the square of u is -1 or, with `any`, -unit.
  template <bool any>
  static HWY_INLINE void power_of(T& a, T& b, const T& unit, int power) {
    const auto by_itself = [&](T & p, T & q) HWY_ATTR __attribute__((always_inline)) {
      const T real = any ? p * p - q * q * unit : (p + q) * (p - q);
      q = (p + p) * q;
      p = real;
    };
    for (; (power & 1) == 0; power >>= 1) by_itself(a, b);
    T p = a;
    T q = b;
    for (power >>= 1; power > 0; power >>= 1) {
      by_itself(p, q);
      if ((power & 1) == 0) continue;
      const T real = any ? a * p - b * q * unit : a * p - b * q;
      b = a * q + b * p;
      a = real;
    }
  }

  /// Half of r log r over how much r is stretched: of the last length, and the scalar derivative.
  void estimate(std::size_t u, const T& length, V derivative) {
    const D d;
    const V r = hn::Max(length.v, set(1e-30));
    V stretch = derivative;
    V x;
    V y;
    V z;
    V slope;
    if constexpr (slopes) {
      x = length.x;
      y = length.y;
      z = length.z;
      slope = hn::Sqrt(hn::Add(hn::Add(hn::Mul(x, x), hn::Mul(y, y)), hn::Mul(z, z)));
      slope = hn::Max(slope, set(1e-30));
      if (program_.jacobian) stretch = slope;
    }
    // Inside nothing is known of how far it is to the outside but that it is little where much is
    // stretched.
    const V within = hn::Mul(hn::Max(derivative, set(1)), set(20));
    stretch = hn::IfThenElse(hn::Lt(r, set(1)), within, stretch);
    const V value = hn::Div(hn::Mul(hn::Mul(r, LogarithmOf(d, r)), set(0.5)), stretch);
    if constexpr (slopes) {
      // Where the last length grows the distance does, by a meter for a meter.
      const V unit = hn::Div(set(1), slope);
      value_[u] = T(value, {hn::Mul(x, unit), hn::Mul(y, unit), hn::Mul(z, unit)});
    } else {
      value_[u] = T(value);
    }
    at_least_beyond(u);
  }

  /// Which lanes of a vector go on, of those that did.
  M still_going(M going, V square, V limit, V derivative, std::size_t u) const {
    going = hn::AndNot(hn::Gt(square, limit), going);
    // Finer than any number can tell.
    going = hn::And(hn::Lt(derivative, set(1e15)), going);
    if (cuts_) going = hn::AndNot(hn::Gt(hn::Mul(derivative, footprint_[u]), set(1)), going);
    return going;
  }

  void bulb() {
    // Two vectors at once: more do not fit into the registers.
    constexpr std::size_t pair = count > 1 ? 2 : 1;
    for (std::size_t first = 0; first < count; first += pair) bulb<pair>(first);
  }

  template <std::size_t size>
  void bulb(std::size_t first) {
    const D d;
    const V limit = set(program_.limit * program_.limit);
    const V power = set(program_.power);
    const bool even = program_.power % 2 == 0;
    T x[size], y[size], z[size], length2[size];
    V derivative[size];
    M going[size];
    FoldTrail<D, tints> trail[size];
    ForEach<size>([&](auto k) HWY_ATTR __attribute__((always_inline)) {
      x[k] = x_[first + k];
      y[k] = y_[first + k];
      z[k] = z_[first + k];
      length2[k] = square(x[k], y[k], z[k]);
      derivative[k] = set(1);
      going[k] = hn::Eq(limit, limit);
    });
    for (int i = 0; i < program_.times; ++i) {
      M any = hn::Lt(limit, limit);
      ForEach<size>([&](auto k) HWY_ATTR __attribute__((always_inline)) {
        going[k] = still_going(going[k], length2[k].v, limit, derivative[k], first + k);
        any = hn::Or(any, going[k]);
      });
      if (hn::AllFalse(d, any)) break;
      ForEach<size>([&](auto k) HWY_ATTR __attribute__((always_inline)) {
        const Plain<D> r2(length2[k].v);
        Plain<D> before = power_of(r2, (program_.power - 1) / 2);
        if (even) before = before * Sqrt(r2);
        const V grown = hn::Add(hn::Mul(hn::Mul(power, before.v), derivative[k]), set(1));
        // (x + iy)^n turns by the angle about the z axis, (z + i rho)^n by the one from it; of that
        // the imaginary part is rho times what is kept, so that no root is waited for.
        const T rho2 = x[k] * x[k] + y[k] * y[k];
        T a = x[k];
        T b = y[k];
        T cosine = z[k];
        T sine(set(1));
        power_of<false>(a, b, rho2, program_.power);
        power_of<true>(cosine, sine, rho2, program_.power);
        T across = power_of(rho2, (program_.power - 1) / 2);
        if (even) across = across * Sqrt(rho2);
        const T share = sine / MaxWith(across, set(1e-37));
        const T next_x = share * a + x_[first + k];
        const T next_y = share * b + y_[first + k];
        const T next_z = cosine + z_[first + k];
        derivative[k] = hn::IfThenElse(going[k], grown, derivative[k]);
        x[k] = Select(going[k], next_x, x[k]);
        y[k] = Select(going[k], next_y, y[k]);
        z[k] = Select(going[k], next_z, z[k]);
        length2[k] = square(x[k], y[k], z[k]);
        trail[k].flip(hn::Lt(x[k].v, hn::Zero(d)));
        trail[k].next(length2[k].v, going[k]);
      });
    }
    for (std::size_t k = 0; k < size; ++k) {
      estimate(first + k, Sqrt(length2[k]), derivative[k]);
      tell(trail[k], first + k);
    }
  }

  void quaternion() {
    const D d;
    const V limit = set(program_.limit * program_.limit);
    const V c[4] = {set(program_.c[0]), set(program_.c[1]), set(program_.c[2]), set(program_.c[3])};
    for (std::size_t u = 0; u < count; ++u) {
      T x = x_[u];
      T y = y_[u];
      T z = z_[u];
      T w(set(program_.slice));
      T whole = square(x, y, z) + w * w;
      V derivative = set(1);
      M going = hn::Eq(limit, limit);
      FoldTrail<D, tints> trail;
      for (int i = 0; i < program_.times; ++i) {
        going = still_going(going, whole.v, limit, derivative, u);
        if (hn::AllFalse(d, going)) break;
        const V r = hn::Sqrt(whole.v);
        derivative = hn::IfThenElse(going, hn::Mul(hn::Add(r, r), derivative), derivative);
        const T twice = x + x;
        const T next = x * twice - whole + c[0];
        const T next_y = twice * y + c[1];
        const T next_z = twice * z + c[2];
        const T next_w = twice * w + c[3];
        x = Select(going, next, x);
        y = Select(going, next_y, y);
        z = Select(going, next_z, z);
        w = Select(going, next_w, w);
        whole = Select(going, square(next, next_y, next_z) + next_w * next_w, whole);
        trail.flip(hn::Lt(x.v, hn::Zero(d)));
        trail.next(whole.v, going);
      }
      estimate(u, Sqrt(whole), derivative);
      tell(trail, u);
    }
  }

  /// An estimate says little from far away, where the ball that holds all of it is surely farther.
  void at_least_beyond(std::size_t u) {
    const T length = Sqrt(square(x_[u], y_[u], z_[u]));
    const V reach = set(program_.reach);
    const M far = hn::Gt(length.v, set(1.5 * program_.reach));
    const T beyond = length - reach;
    value_[u] = Select(far, beyond, Max(beyond, value_[u]));
  }

  void tell(const FoldTrail<D, tints>& trail, std::size_t u) {
    if constexpr (tints) {
      const V one = set(1);
      switch (by_) {
        case TintBy::trap:
          tint_[u] = hn::Min(hn::Div(hn::Sqrt(trail.nearest), set(program_.reach)), one);
          break;
        case TintBy::depth:
          tint_[u] = hn::Div(trail.when, set(std::max(program_.times, 1)));
          break;
        case TintBy::fold:
          tint_[u] = trail.sides;
          break;
      }
    }
  }

  const FoldProgram& program_;
  bool cuts_ = false;
  TintBy by_ = TintBy::trap;
  T x_[count], y_[count], z_[count];
  V footprint_[count];
  T value_[count];
  V tint_[count];
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
