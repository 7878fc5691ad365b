// Per-target include: the steps that fold space, and what stands where they lead to.

#if defined(PHOTONLANE_FIELD_FOLD_STEPS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_FOLD_STEPS_INL_H_
#undef PHOTONLANE_FIELD_FOLD_STEPS_INL_H_
#else
#define PHOTONLANE_FIELD_FOLD_STEPS_INL_H_
#endif

#include <hwy/highway.h>

#include <cstddef>
#include <type_traits>
#include <vector>

#include "field/field_kernel.hpp"
#include "field/fold_program.hpp"
#include "field/numbers-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// What folds calculate with. T is Plain<D> or Dual<D>.
template <class D, class T>
struct FoldTools {
  using V = hn::Vec<D>;
  static V set(double value) { return hn::Set(D(), static_cast<hn::TFromD<D>>(value)); }
  static T below(const T& a) { return MinWith(a, hn::Zero(D())); }
  static T above(const T& a) { return MaxWith(a, hn::Zero(D())); }
  static T square(const T& x, const T& y, const T& z) { return x * x + y * y + z * z; }
  /// How far outside a box, by how far past its sides.
  static T past_box(const T& x, const T& y, const T& z) {
    return below(Max(x, Max(y, z))) + Sqrt(square(above(x), above(y), above(z)));
  }
};

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

/// The steps of a program, `count` vectors at a time.
template <class D, class T, std::size_t count, bool tints>
class FoldSteps {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using Tools = FoldTools<D, T>;
  static constexpr bool slopes = std::is_same_v<T, Dual<D>>;
  static constexpr std::size_t width = count * hn::MaxLanes(D());

 public:
  struct Places {
    T x[count], y[count], z[count];
    V scale[count];  ///< how much longer lengths have become
  };

  /// Places begin at x, y, z.
  FoldSteps(const FoldProgram& program, const T* x, const T* y, const T* z)
      : program_(program), numbers_(program.numbers_as<Number>()), x_(x), y_(y), z_(z) {}

  /// All steps once.
  HWY_INLINE void iterate(Places& p, FoldTrail<D, tints>* trail) const {
    run(program_.ops, numbers_, p, trail);
  }

  /// Values of the base where places are; the facets of one are found by mirrors of their own.
  void base(Places p, T* value) const {
    const D d;
    FoldTrail<D, false> unused[count];
    const Number* c = run(program_.last_ops, numbers_ + numbers_of(program_.ops), p, unused);
    const auto at = [&](std::size_t i) { return hn::Set(d, c[i]); };
    switch (program_.base) {
      case FoldProgram::Base::box:
        for (std::size_t u = 0; u < count; ++u) {
          value[u] =
              Tools::past_box(Abs(p.x[u]) - at(0), Abs(p.y[u]) - at(1), Abs(p.z[u]) - at(2)) -
              at(3);
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

 private:
  static V set(double value) { return Tools::set(value); }
  static T below(const T& a) { return Tools::below(a); }
  static T above(const T& a) { return Tools::above(a); }
  static T square(const T& x, const T& y, const T& z) { return Tools::square(x, y, z); }

  static std::size_t numbers_of(const std::vector<FoldOp>& ops) {
    std::size_t sum = 0;
    for (const FoldOp op : ops) sum += fold_op_numbers(op);
    return sum;
  }

  /// Some ops; where their numbers end.
  template <class Trail>
  HWY_INLINE const Number* run(const std::vector<FoldOp>& ops, const Number* c, Places& p,
                               Trail* trail) const {
    for (const FoldOp op : ops) {
      step(op, c, p, trail);
      c += fold_op_numbers(op);
    }
    return c;
  }

  static T* axis_of(Places& p, int axis) { return axis == 0 ? p.x : axis == 1 ? p.y : p.z; }

  template <class Trail>
  HWY_INLINE void step(FoldOp op, const Number* c, Places& p, Trail* trail) const {
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
        to[u] = T(hn::Load(d, value + u * lanes), {sum.x, sum.y, sum.z});
      }
    } else {
      evaluate_tape(*program_.field, places, value);
      for (std::size_t u = 0; u < count; ++u) to[u] = T(hn::Load(d, value + u * lanes));
    }
  }

  const FoldProgram& program_;
  const Number* numbers_;
  const T* x_;
  const T* y_;
  const T* z_;
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
