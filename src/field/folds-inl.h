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

#include "field/field_kernel.hpp"
#include "field/fold_program.hpp"
#include "field/numbers-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Vectors that go through the steps together, so that one computes while another waits.
inline constexpr std::size_t block_of_folds = 4;

/// The natural logarithm of numbers above 0: the exponent, and a series in (m - 1) / (m + 1) for
/// what is left (Abramowitz and Stegun, "Handbook of Mathematical Functions", 1964, 4.1.27).
template <class D, class V = hn::Vec<D>>
HWY_INLINE V LogarithmOf(D d, V value) {
  using Number = hn::TFromD<D>;
  const hn::RebindToSigned<D> di;
  const hn::RebindToUnsigned<D> du;
  constexpr int bits = sizeof(Number) == 4 ? 23 : 52;
  constexpr int middle = sizeof(Number) == 4 ? 127 : 1023;
  const auto whole = hn::BitCast(du, value);
  const auto exponent = hn::Sub(hn::BitCast(di, hn::ShiftRight<bits>(whole)), hn::Set(di, middle));
  using Whole = hn::TFromD<decltype(du)>;
  const auto rest = hn::And(whole, hn::Set(du, (Whole{1} << bits) - 1));
  V m = hn::BitCast(d, hn::Or(rest, hn::Set(du, static_cast<Whole>(middle) << bits)));
  V e = hn::ConvertTo(d, exponent);
  const V one = hn::Set(d, Number(1));
  const auto large = hn::Gt(m, hn::Set(d, static_cast<Number>(1.41421356237309504880)));
  m = hn::IfThenElse(large, hn::Mul(m, hn::Set(d, Number(0.5))), m);
  e = hn::IfThenElse(large, hn::Add(e, one), e);
  const V t = hn::Div(hn::Sub(m, one), hn::Add(m, one));
  const V square = hn::Mul(t, t);
  V sum = hn::Zero(d);
  for (int k = sizeof(Number) == 4 ? 4 : 10; k >= 0; --k) {
    sum = hn::Add(hn::Mul(sum, square), hn::Set(d, static_cast<Number>(2.0 / (2 * k + 1))));
  }
  return hn::Add(hn::Mul(e, hn::Set(d, static_cast<Number>(0.69314718055994530942))),
                 hn::Mul(sum, t));
}

/// Does something for 0 to count - 1, each a constant, so that what it indexes stays in registers.
template <std::size_t count, class Work>
HWY_INLINE void ForEach(const Work& work) {
  [&]<std::size_t... u>(std::index_sequence<u...>) __attribute__((always_inline)) {
    (work(std::integral_constant<std::size_t, u>()), ...);
  }
  (std::make_index_sequence<count>());
}

/// Which way places went: how near they came to the middle, when, and on which sides of the folds.
template <class D, bool kept>
struct FoldTrail {
  void flip(hn::Mask<D>) {}
  void next(hn::Vec<D>, hn::Mask<D>) {}
};
template <class D>
struct FoldTrail<D, true> {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  V nearest;  ///< square
  V when, sides;
  M flipped;
  Number count, weight;

  FoldTrail() {
    const D d;
    nearest = hn::Inf(d);
    when = sides = hn::Zero(d);
    flipped = hn::Lt(nearest, when);
    count = 0;
    weight = Number(0.5);
  }

  void flip(M mask) { flipped = hn::Xor(flipped, mask); }
  /// After a step, of which the lanes that go on took part.
  void next(V square, M going) {
    const D d;
    count += 1;
    const M nearer = hn::And(going, hn::Lt(square, nearest));
    nearest = hn::IfThenElse(nearer, square, nearest);
    when = hn::IfThenElse(nearer, hn::Set(d, count), when);
    const V more = hn::IfThenElseZero(hn::And(going, flipped), hn::Set(d, weight));
    sides = hn::Add(sides, more);
    weight *= Number(0.5);
    flipped = hn::Xor(flipped, flipped);
  }
};

/// Takes places through a program, `count` vectors at a time. T is Plain<D> or Dual<D>.
template <class D, class T, std::size_t count, bool tints>
class Folder {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  static constexpr bool slopes = std::is_same_v<T, Dual<D>>;
  static constexpr std::size_t width = count * hn::MaxLanes(D());

 public:
  explicit Folder(const FoldProgram& program)
      : program_(program), numbers_(program.numbers_as<Number>()) {}

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
  static V set(double value) { return hn::Set(D(), static_cast<Number>(value)); }
  V number(std::size_t i) const { return hn::Set(D(), numbers_[i]); }
  static T below(const T& a) { return MinWith(a, hn::Zero(D())); }
  static T above(const T& a) { return MaxWith(a, hn::Zero(D())); }
  static T square(const T& x, const T& y, const T& z) { return x * x + y * y + z * z; }

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

  struct Places {
    T x[count], y[count], z[count];
    V scale[count];  ///< how much longer lengths have become
  };

  void chain() {
    Places p;
    for (std::size_t u = 0; u < count; ++u) {
      p.x[u] = x_[u];
      p.y[u] = y_[u];
      p.z[u] = z_[u];
      p.scale[u] = set(1);
      value_[u] = T(hn::Inf(D()));
    }
    const Number* after = numbers_ + numbers_of(program_.ops);
    FoldTrail<D, tints> trail[count];
    M going[count];
    for (M& one : going) one = hn::Eq(p.scale[0], p.scale[0]);
    const bool leaves = program_.limit > 0;
    for (int i = 0; i < program_.times; ++i) {
      if (program_.keeps_all) add_base(p, after);
      if (!leaves && !cuts_) {
        steps(program_.ops, numbers_, p, trail);
      } else {
        if (!any_goes_on(p, going)) break;
        const Places before = p;
        steps(program_.ops, numbers_, p, trail);
        for (std::size_t u = 0; u < count; ++u) {
          p.x[u] = Select(going[u], p.x[u], before.x[u]);
          p.y[u] = Select(going[u], p.y[u], before.y[u]);
          p.z[u] = Select(going[u], p.z[u], before.z[u]);
          p.scale[u] = hn::IfThenElse(going[u], p.scale[u], before.scale[u]);
        }
      }
      note(p, going, trail);
    }
    FoldTrail<D, tints> unused[count];
    after = steps(program_.last_ops, after, p, unused);
    add_base(p, after);
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
  void add_base(const Places& p, const Number* c) {
    T own[count];
    base(p, c, own);
    for (std::size_t u = 0; u < count; ++u) {
      V scale = p.scale[u];
      if constexpr (slopes) {
        if (program_.jacobian) scale = largest_stretch(p, u);
      }
      value_[u] = Min(value_[u], own[u] * hn::Div(set(1), scale));
    }
  }

  static void note(const Places& p, const M* going, FoldTrail<D, tints>* trail) {
    if constexpr (tints) {
      for (std::size_t u = 0; u < count; ++u) {
        trail[u].next(square(p.x[u], p.y[u], p.z[u]).v, going[u]);
      }
    }
  }

  static std::size_t numbers_of(const std::vector<FoldOp>& ops) {
    std::size_t sum = 0;
    for (const FoldOp op : ops) sum += fold_op_numbers(op);
    return sum;
  }

  T* axis_of(Places& p, int axis) const { return axis == 0 ? p.x : axis == 1 ? p.y : p.z; }

  /// One iteration; where its numbers end.
  HWY_INLINE const Number* steps(const std::vector<FoldOp>& ops, const Number* c, Places& p,
                                 FoldTrail<D, tints>* trail) const {
    for (const FoldOp op : ops) {
      step(op, c, p, trail);
      c += fold_op_numbers(op);
    }
    return c;
  }

  HWY_INLINE void step(FoldOp op, const Number* c, Places& p, FoldTrail<D, tints>* trail) const {
    const D d;
    const V zero = hn::Zero(d);
    const auto at = [&](std::size_t i) { return hn::Set(d, c[i]); };
    switch (op) {
      case FoldOp::mirror: {
        const int axes = static_cast<int>(c[0]);
        for (int axis = 0; axis < 3; ++axis) {
          if ((axes >> axis & 1) == 0) continue;
          T* a = axis_of(p, axis);
          for (std::size_t u = 0; u < count; ++u) {
            trail[u].flip(hn::Lt(a[u].v, zero));
            a[u] = Abs(a[u]);
          }
        }
        return;
      }
      case FoldOp::sort:
        for (std::size_t u = 0; u < count; ++u) {
          trail[u].flip(hn::Lt(p.x[u].v, p.y[u].v));
          const T xy = Max(p.x[u], p.y[u]);
          const T yx = Min(p.x[u], p.y[u]);
          const T yz = Max(yx, p.z[u]);
          trail[u].flip(hn::Lt(yx.v, p.z[u].v));
          p.z[u] = Min(yx, p.z[u]);
          trail[u].flip(hn::Lt(xy.v, yz.v));
          p.x[u] = Max(xy, yz);
          p.y[u] = Min(xy, yz);
        }
        return;
      case FoldOp::swap: {
        T* a = axis_of(p, static_cast<int>(c[0]));
        T* b = axis_of(p, static_cast<int>(c[1]));
        const bool sum = c[2] != 0;
        for (std::size_t u = 0; u < count; ++u) {
          const T one = a[u];
          const T other = sum ? Neg(b[u]) : b[u];
          trail[u].flip(hn::Lt(one.v, other.v));
          a[u] = Max(one, other);
          const T less = Min(one, other);
          b[u] = sum ? Neg(less) : less;
        }
        return;
      }
      case FoldOp::level: {
        T* a = axis_of(p, static_cast<int>(c[0]));
        const V height = at(1);
        for (std::size_t u = 0; u < count; ++u) {
          const T over = a[u] - height;
          if (c[2] > 0) {
            trail[u].flip(hn::Lt(over.v, zero));
            a[u] = Abs(over) + height;
          } else {
            trail[u].flip(hn::Gt(over.v, zero));
            a[u] = height - Abs(over);
          }
        }
        return;
      }
      case FoldOp::fold:
        for (std::size_t u = 0; u < count; ++u) {
          const T over = p.x[u] * at(0) + p.y[u] * at(1) + p.z[u] * at(2) - at(3);
          trail[u].flip(hn::Lt(over.v, zero));
          const T beyond = below(over) * hn::Set(d, Number(2));
          p.x[u] = p.x[u] - beyond * at(0);
          p.y[u] = p.y[u] - beyond * at(1);
          p.z[u] = p.z[u] - beyond * at(2);
        }
        return;
      case FoldOp::wedge:
        for (std::size_t u = 0; u < count; ++u) {
          const V share = hn::Round(hn::Mul(Angle(p.x[u].v, p.y[u].v), at(1)));
          V sine;
          V cosine;
          SineCosineOf(d, hn::Mul(share, at(0)), sine, cosine);
          const T x = p.x[u] * cosine + p.y[u] * sine;
          const T y = p.y[u] * cosine - p.x[u] * sine;
          trail[u].flip(hn::Lt(y.v, zero));
          p.x[u] = x;
          p.y[u] = Abs(y);
        }
        return;
      case FoldOp::move: {
        const V factor = at(3);
        const V size = hn::Abs(factor);
        for (std::size_t u = 0; u < count; ++u) {
          p.x[u] = (p.x[u] - at(0)) * factor;
          p.y[u] = (p.y[u] - at(1)) * factor;
          p.z[u] = (p.z[u] - at(2)) * factor;
          p.scale[u] = hn::Mul(p.scale[u], size);
        }
        return;
      }
      case FoldOp::place: {
        const V factor = at(12);
        for (std::size_t u = 0; u < count; ++u) {
          const T x = p.x[u] - at(0);
          const T y = p.y[u] - at(1);
          const T z = p.z[u] - at(2);
          const auto row = [&](std::size_t i) {
            return (x * at(i) + y * at(i + 1) + z * at(i + 2)) * factor;
          };
          p.x[u] = row(3);
          p.y[u] = row(6);
          p.z[u] = row(9);
          p.scale[u] = hn::Mul(p.scale[u], hn::Abs(factor));
        }
        return;
      }
      case FoldOp::box: {
        const V half = at(0);
        for (int axis = 0; axis < 3; ++axis) {
          T* a = axis_of(p, axis);
          for (std::size_t u = 0; u < count; ++u) {
            trail[u].flip(hn::Gt(hn::Abs(a[u].v), half));
            const T within = MinWith(MaxWith(a[u], hn::Neg(half)), half);
            a[u] = within + within - a[u];
          }
        }
        return;
      }
      case FoldOp::ball: {
        const V outer = at(0);
        const V most = at(1);
        for (std::size_t u = 0; u < count; ++u) {
          const T length2 = MaxWith(square(p.x[u], p.y[u], p.z[u]), set(1e-30));
          trail[u].flip(hn::Lt(length2.v, outer));
          const T factor = MinWith(MaxWith(T(outer) / length2, set(1)), most);
          p.x[u] = p.x[u] * factor;
          p.y[u] = p.y[u] * factor;
          p.z[u] = p.z[u] * factor;
          p.scale[u] = hn::Mul(p.scale[u], factor.v);
        }
        return;
      }
      case FoldOp::invert:
        for (std::size_t u = 0; u < count; ++u) {
          const T x = p.x[u] - at(0);
          const T y = p.y[u] - at(1);
          const T z = p.z[u] - at(2);
          const T factor = T(at(3)) / MaxWith(square(x, y, z), set(1e-30));
          trail[u].flip(hn::Gt(factor.v, set(1)));
          p.x[u] = x * factor + at(0);
          p.y[u] = y * factor + at(1);
          p.z[u] = z * factor + at(2);
          p.scale[u] = hn::Mul(p.scale[u], factor.v);
        }
        return;
      case FoldOp::start: {
        const V share = at(0);
        for (std::size_t u = 0; u < count; ++u) {
          p.x[u] = p.x[u] + x_[u] * share;
          p.y[u] = p.y[u] + y_[u] * share;
          p.z[u] = p.z[u] + z_[u] * share;
          p.scale[u] = hn::Add(p.scale[u], hn::Abs(share));
        }
        return;
      }
      case FoldOp::stretch:
        for (std::size_t u = 0; u < count; ++u) {
          p.x[u] = p.x[u] * at(0);
          p.y[u] = p.y[u] * at(1);
          p.z[u] = p.z[u] * at(2);
          p.scale[u] = hn::Mul(p.scale[u], at(3));
        }
        return;
    }
  }

  void base(const Places& p, const Number* c, T* value) const {
    const D d;
    const auto at = [&](std::size_t i) { return hn::Set(d, c[i]); };
    switch (program_.base) {
      case FoldProgram::Base::box:
        for (std::size_t u = 0; u < count; ++u) {
          const T x = Abs(p.x[u]) - at(0);
          const T y = Abs(p.y[u]) - at(1);
          const T z = Abs(p.z[u]) - at(2);
          value[u] = below(Max(x, Max(y, z))) + Sqrt(square(above(x), above(y), above(z))) - at(3);
        }
        return;
      case FoldProgram::Base::sphere:
        for (std::size_t u = 0; u < count; ++u) {
          value[u] = Sqrt(square(p.x[u], p.y[u], p.z[u])) - at(0);
        }
        return;
      case FoldProgram::Base::capsule:
        for (std::size_t u = 0; u < count; ++u) {
          const T x = p.x[u] - at(0);
          const T y = p.y[u] - at(1);
          const T z = p.z[u] - at(2);
          const T share =
              MinWith(above((x * at(3) + y * at(4) + z * at(5)) * at(6)), hn::Set(d, Number(1)));
          value[u] = Sqrt(square(x - share * at(3), y - share * at(4), z - share * at(5))) - at(7);
        }
        return;
      case FoldProgram::Base::facets:
        for (std::size_t u = 0; u < count; ++u) {
          const auto along = [&](std::size_t i) {
            return p.x[u] * at(i) + p.y[u] * at(i + 1) + p.z[u] * at(i + 2) - at(i + 3);
          };
          const T over = along(0);
          const T past = along(4);
          const T end = above(along(8));
          const T edge = Sqrt(square(over, past, end));
          value[u] = Select(hn::Gt(past.v, hn::Zero(d)), edge, over);
        }
        return;
      case FoldProgram::Base::field:
        ask_field(p, value);
        return;
    }
  }

  void ask_field(const Places& p, T* to) const {
    const D d;
    const std::size_t lanes = hn::Lanes(d);
    HWY_ALIGN Number place[3][width];
    HWY_ALIGN Number value[width];
    for (std::size_t u = 0; u < count; ++u) {
      hn::Store(p.x[u].v, d, place[0] + u * lanes);
      hn::Store(p.y[u].v, d, place[1] + u * lanes);
      hn::Store(p.z[u].v, d, place[2] + u * lanes);
    }
    const FieldPlaces<Number> places{place[0], place[1], place[2], count * lanes};
    if constexpr (slopes) {
      HWY_ALIGN Number slope[3][width];
      differentiate_tape(*program_.field, places, value,
                         FieldGradients<Number>{slope[0], slope[1], slope[2]});
      for (std::size_t u = 0; u < count; ++u) {
        const auto along = [&](const T& of, int axis) {
          return of * hn::Load(d, slope[axis] + u * lanes);
        };
        const T sum = along(p.x[u], 0) + along(p.y[u], 1) + along(p.z[u], 2);
        to[u] = T(hn::Load(d, value + u * lanes), sum.x, sum.y, sum.z);
      }
    } else {
      evaluate_tape(*program_.field, places, value);
      for (std::size_t u = 0; u < count; ++u) to[u] = T(hn::Load(d, value + u * lanes));
    }
  }

  /// At most how much any way is stretched: the root of the largest sum over a row of the squared
  /// Jacobian, which bounds its eigenvalues.
  static V largest_stretch(const Places& p, std::size_t u) {
    const T* rows[3] = {p.x + u, p.y + u, p.z + u};
    V columns[3][3];
    for (int i = 0; i < 3; ++i) {
      columns[0][i] = rows[i]->x;
      columns[1][i] = rows[i]->y;
      columns[2][i] = rows[i]->z;
    }
    const auto product = [&](int a, int b) {
      return hn::Add(
          hn::Add(hn::Mul(columns[a][0], columns[b][0]), hn::Mul(columns[a][1], columns[b][1])),
          hn::Mul(columns[a][2], columns[b][2]));
    };
    const V xy = hn::Abs(product(0, 1));
    const V xz = hn::Abs(product(0, 2));
    const V yz = hn::Abs(product(1, 2));
    const V first = hn::Add(product(0, 0), hn::Add(xy, xz));
    const V second = hn::Add(product(1, 1), hn::Add(xy, yz));
    const V third = hn::Add(product(2, 2), hn::Add(xz, yz));
    return hn::Sqrt(hn::Max(hn::Max(first, hn::Max(second, third)), set(1e-30)));
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
      for (int i = 0; i < program_.times; ++i) {
        ForEach<count>([&](auto u) HWY_ATTR
                       __attribute__((always_inline)) { part(x[u], y[u], z[u], trail[u]); });
      }
      const V whole = set(program_.cut[1]);
      for (V& one : scale) one = whole;
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
      const T out_x = Abs(x[u]) - set(1);
      const T out_y = Abs(y[u]) - set(1);
      const T out_z = Abs(z[u]) - set(1);
      const T value = below(Max(out_x, Max(out_y, out_z))) +
                      Sqrt(square(above(out_x), above(out_y), above(out_z)));
      value_[u] = value * hn::Div(set(1), scale[u]);
      tell(trail[u], u);
    }
  }

  // Balls taken out of all parts of a cube.

  void balls() {
    const D d;
    const V one = set(1);
    const V third = set(1.0 / 3);
    const V radius = set(program_.cut[0]);
    for (std::size_t u = 0; u < count; ++u) {
      T x = Abs(x_[u]);
      T y = Abs(y_[u]);
      T z = Abs(z_[u]);
      const T out_x = x - one;
      const T out_y = y - one;
      const T out_z = z - one;
      T value = below(Max(out_x, Max(out_y, out_z))) +
                Sqrt(square(above(out_x), above(out_y), above(out_z)));
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
      value_[u] = T(value, hn::Mul(x, unit), hn::Mul(y, unit), hn::Mul(z, unit));
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
    const V c[4] = {set(program_.cut[0]), set(program_.cut[1]), set(program_.cut[2]),
                    set(program_.cut[3])};
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
  const Number* numbers_;
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
