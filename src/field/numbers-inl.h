// Per-target include: the numbers tapes are evaluated in.

#if defined(PHOTONLANE_FIELD_NUMBERS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_NUMBERS_INL_H_
#undef PHOTONLANE_FIELD_NUMBERS_INL_H_
#else
#define PHOTONLANE_FIELD_NUMBERS_INL_H_
#endif

#include <hwy/highway.h>

#include <cstdint>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Sine and cosine by polynomials on an eighth of a turn (Moshier, "Methods and Programs for
/// Mathematical Functions", 1989), the same bits at every vector width.
template <class D, class V = hn::Vec<D>>
HWY_INLINE void SineCosineOf(D d, V angle, V& sine, V& cosine) {
  using Number = hn::TFromD<D>;
  const hn::RebindToSigned<D> di;
  const auto set = [&](double value) { return hn::Set(d, static_cast<Number>(value)); };
  const V quarters = hn::Round(hn::Mul(angle, set(0.63661977236758134308)));
  V r = angle;
  V s;
  V c;
  const V one = set(1);
  const V half = set(0.5);
  const auto sum = [&](V square, std::initializer_list<double> factors) {
    V result = hn::Zero(d);
    for (const double factor : factors) result = hn::Add(hn::Mul(result, square), set(factor));
    return result;
  };
  if constexpr (sizeof(Number) == 4) {
    for (const double part : {1.5703125, 4.837512969970703125e-4, 7.54978995489188216e-8}) {
      r = hn::Sub(r, hn::Mul(quarters, set(part)));
    }
    const V square = hn::Mul(r, r);
    s = sum(square, {-1.9515295891e-4, 8.3321608736e-3, -1.6666654611e-1});
    c = sum(square, {2.443315711809948e-5, -1.388731625493765e-3, 4.166664568298827e-2});
  } else {
    for (const double part :
         {1.57079625129699707031, 7.54978941586159635335e-8, 5.39030285815811905290e-15}) {
      r = hn::Sub(r, hn::Mul(quarters, set(part)));
    }
    const V square = hn::Mul(r, r);
    s = sum(square,
            {1.58962301576546568060e-10, -2.50507477628578072866e-8, 2.75573136213857245213e-6,
             -1.98412698295895385996e-4, 8.33333333332211858878e-3, -1.66666666666666307295e-1});
    c = sum(square,
            {-1.13585365213876817300e-11, 2.08757008419747316778e-9, -2.75573141792967388112e-7,
             2.48015872888517045348e-5, -1.38888888888730564116e-3, 4.16666666666665929218e-2});
  }
  const V square = hn::Mul(r, r);
  s = hn::Add(r, hn::Mul(hn::Mul(r, square), s));
  c = hn::Add(hn::Sub(one, hn::Mul(half, square)), hn::Mul(hn::Mul(square, square), c));
  const auto turn = hn::ConvertTo(di, quarters);
  const auto bit = [&](auto value, int which) {
    const auto mask = hn::Set(di, which);
    return hn::RebindMask(d, hn::Eq(hn::And(value, mask), mask));
  };
  const auto odd = bit(turn, 1);
  const V sine_size = hn::IfThenElse(odd, c, s);
  const V cosine_size = hn::IfThenElse(odd, s, c);
  sine = hn::IfThenElse(bit(turn, 2), hn::Neg(sine_size), sine_size);
  cosine = hn::IfThenElse(bit(hn::Add(turn, hn::Set(di, 1)), 2), hn::Neg(cosine_size), cosine_size);
}

/// The angle of a point, in radians from -pi to pi, to about 2e-8 (Abramowitz and Stegun, "Handbook
/// of Mathematical Functions", 1964, 4.4.49).
template <class V>
HWY_INLINE V Angle(V x, V y) {
  const hn::DFromV<V> d;
  using Number = hn::TFromD<decltype(d)>;
  const auto set = [&](double value) { return hn::Set(d, static_cast<Number>(value)); };
  const V ax = hn::Abs(x);
  const V ay = hn::Abs(y);
  const V t = hn::Div(hn::Min(ax, ay), hn::Max(hn::Max(ax, ay), set(1e-30)));
  const V square = hn::Mul(t, t);
  V sum = set(0.0028662257);
  for (const double factor : {-0.0161657367, 0.0429096138, -0.0752896400, 0.1065626393,
                              -0.1420889944, 0.1999355085, -0.3333314528, 1.0}) {
    sum = hn::Add(hn::Mul(sum, square), set(factor));
  }
  V angle = hn::Mul(sum, t);
  angle = hn::IfThenElse(hn::Gt(ay, ax), hn::Sub(set(1.57079632679489661923), angle), angle);
  angle =
      hn::IfThenElse(hn::Lt(x, hn::Zero(d)), hn::Sub(set(3.14159265358979323846), angle), angle);
  return hn::IfThenElse(hn::Lt(y, hn::Zero(d)), hn::Neg(angle), angle);
}

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

/// A value alone.
template <class D>
struct Plain {
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  V v;
  Plain() = default;
  explicit Plain(V value) : v(value) {}

  void made_of(std::int32_t) {}
  void keep(const Plain&) {}

  friend HWY_INLINE Plain operator+(const Plain& a, const Plain& b) {
    return Plain(hn::Add(a.v, b.v));
  }
  friend HWY_INLINE Plain operator-(const Plain& a, const Plain& b) {
    return Plain(hn::Sub(a.v, b.v));
  }
  friend HWY_INLINE Plain operator*(const Plain& a, const Plain& b) {
    return Plain(hn::Mul(a.v, b.v));
  }
  friend HWY_INLINE Plain operator/(const Plain& a, const Plain& b) {
    return Plain(hn::Div(a.v, b.v));
  }
  friend HWY_INLINE Plain operator+(const Plain& a, V b) { return Plain(hn::Add(a.v, b)); }
  friend HWY_INLINE Plain operator-(const Plain& a, V b) { return Plain(hn::Sub(a.v, b)); }
  friend HWY_INLINE Plain operator-(V a, const Plain& b) { return Plain(hn::Sub(a, b.v)); }
  friend HWY_INLINE Plain operator*(const Plain& a, V b) { return Plain(hn::Mul(a.v, b)); }
  friend HWY_INLINE Plain Neg(const Plain& a) { return Plain(hn::Neg(a.v)); }
  friend HWY_INLINE Plain NegIf(M mask, const Plain& a) {
    return Plain(hn::IfThenElse(mask, hn::Neg(a.v), a.v));
  }
  friend HWY_INLINE Plain Abs(const Plain& a) { return Plain(hn::Abs(a.v)); }
  friend HWY_INLINE Plain Sqrt(const Plain& a) { return Plain(hn::Sqrt(a.v)); }
  friend HWY_INLINE Plain Select(M mask, const Plain& a, const Plain& b) {
    return Plain(hn::IfThenElse(mask, a.v, b.v));
  }
  friend HWY_INLINE Plain Min(const Plain& a, const Plain& b) { return Plain(hn::Min(a.v, b.v)); }
  friend HWY_INLINE Plain Max(const Plain& a, const Plain& b) { return Plain(hn::Max(a.v, b.v)); }
  friend HWY_INLINE Plain MinWith(const Plain& a, V b) { return Plain(hn::Min(a.v, b)); }
  friend HWY_INLINE Plain MaxWith(const Plain& a, V b) { return Plain(hn::Max(a.v, b)); }
  /// The lesser, of whose surface the other has a share.
  friend HWY_INLINE Plain MixedMin(const Plain& a, const Plain& b, V) { return Min(a, b); }
  friend HWY_INLINE Plain Sine(const Plain& a) {
    V sine;
    V cosine;
    SineCosineOf(D(), a.v, sine, cosine);
    return Plain(sine);
  }
  friend HWY_INLINE Plain Cosine(const Plain& a) {
    V sine;
    V cosine;
    SineCosineOf(D(), a.v, sine, cosine);
    return Plain(cosine);
  }
  friend HWY_INLINE Plain AngleOf(const Plain& x, const Plain& y) { return Plain(Angle(x.v, y.v)); }
};

/// Derivatives along x, y and z.
template <class D>
struct Slopes {
  using V = hn::Vec<D>;
  V x, y, z;

  static HWY_INLINE Slopes None() { return {hn::Zero(D()), hn::Zero(D()), hn::Zero(D())}; }
  template <class Work>
  static HWY_INLINE Slopes Of(const Slopes& a, const Work& work) {
    return {work(a.x), work(a.y), work(a.z)};
  }
  template <class Work>
  static HWY_INLINE Slopes Of(const Slopes& a, const Slopes& b, const Work& work) {
    return {work(a.x, b.x), work(a.y, b.y), work(a.z, b.z)};
  }
};

/// The derivative along a lane's way.
template <class D>
struct SlopeAlong {
  using V = hn::Vec<D>;
  V along;

  static HWY_INLINE SlopeAlong None() { return {hn::Zero(D())}; }
  template <class Work>
  static HWY_INLINE SlopeAlong Of(const SlopeAlong& a, const Work& work) {
    return {work(a.along)};
  }
  template <class Work>
  static HWY_INLINE SlopeAlong Of(const SlopeAlong& a, const SlopeAlong& b, const Work& work) {
    return {work(a.along, b.along)};
  }
};

/// A value with its derivatives, carried forward (Wengert, "A Simple Automatic Derivative
/// Evaluation Program", 1964). The value's bits are those of Plain.
template <class D, class S = Slopes<D>>
struct Dual : S {
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  V v;
  Dual() = default;
  explicit Dual(V value) : S(S::None()), v(value) {}
  Dual(V value, const S& slopes) : S(slopes), v(value) {}

  void made_of(std::int32_t) {}
  void keep(const Dual&) {}

  /// A value whose derivatives are those of another times a factor.
  static HWY_INLINE Dual Chain(V value, const Dual& of, V factor) {
    return {value, S::Of(of, [&](V a) HWY_ATTR { return hn::Mul(a, factor); })};
  }
  static HWY_INLINE Dual Weighed(V value, const Dual& a, V of_a, const Dual& b, V of_b) {
    return {value, S::Of(a, b, [&](V da, V db) HWY_ATTR {
              return hn::Add(hn::Mul(da, of_a), hn::Mul(db, of_b));
            })};
  }

  friend HWY_INLINE Dual operator+(const Dual& a, const Dual& b) {
    return {hn::Add(a.v, b.v), S::Of(a, b, [](V da, V db) HWY_ATTR { return hn::Add(da, db); })};
  }
  friend HWY_INLINE Dual operator-(const Dual& a, const Dual& b) {
    return {hn::Sub(a.v, b.v), S::Of(a, b, [](V da, V db) HWY_ATTR { return hn::Sub(da, db); })};
  }
  friend HWY_INLINE Dual operator*(const Dual& a, const Dual& b) {
    return Weighed(hn::Mul(a.v, b.v), a, b.v, b, a.v);
  }
  friend HWY_INLINE Dual operator/(const Dual& a, const Dual& b) {
    const V inverse = hn::Div(hn::Set(D(), 1), b.v);
    const V value = hn::Div(a.v, b.v);
    return Weighed(value, a, inverse, b, hn::Neg(hn::Mul(value, inverse)));
  }
  friend HWY_INLINE Dual operator+(const Dual& a, V b) { return a.with(hn::Add(a.v, b)); }
  friend HWY_INLINE Dual operator-(const Dual& a, V b) { return a.with(hn::Sub(a.v, b)); }
  friend HWY_INLINE Dual operator-(V a, const Dual& b) { return Neg(b).with(hn::Sub(a, b.v)); }
  friend HWY_INLINE Dual operator*(const Dual& a, V b) { return Chain(hn::Mul(a.v, b), a, b); }
  friend HWY_INLINE Dual Neg(const Dual& a) {
    return {hn::Neg(a.v), S::Of(a, [](V da) HWY_ATTR { return hn::Neg(da); })};
  }
  friend HWY_INLINE Dual NegIf(M mask, const Dual& a) { return Select(mask, Neg(a), a); }
  friend HWY_INLINE Dual Abs(const Dual& a) {
    return NegIf(hn::Lt(a.v, hn::Zero(D())), a.with(hn::Abs(a.v))).with(hn::Abs(a.v));
  }
  friend HWY_INLINE Dual Sqrt(const Dual& a) {
    const D d;
    const V root = hn::Sqrt(a.v);
    const V half = hn::IfThenElseZero(hn::Gt(root, hn::Zero(d)),
                                      hn::Div(hn::Set(d, hn::TFromD<D>(0.5)), root));
    return Chain(root, a, half);
  }
  friend HWY_INLINE Dual Select(M mask, const Dual& a, const Dual& b) {
    return {hn::IfThenElse(mask, a.v, b.v),
            S::Of(a, b, [&](V da, V db) HWY_ATTR { return hn::IfThenElse(mask, da, db); })};
  }
  friend HWY_INLINE Dual Min(const Dual& a, const Dual& b) {
    return Select(hn::Lt(a.v, b.v), a, b).with(hn::Min(a.v, b.v));
  }
  friend HWY_INLINE Dual Max(const Dual& a, const Dual& b) {
    return Select(hn::Gt(a.v, b.v), a, b).with(hn::Max(a.v, b.v));
  }
  friend HWY_INLINE Dual MinWith(const Dual& a, V b) {
    // Where both are the same, the one that changes: on a surface as well there is a gradient.
    return Select(hn::Le(a.v, b), a, Dual(b)).with(hn::Min(a.v, b));
  }
  friend HWY_INLINE Dual MaxWith(const Dual& a, V b) {
    return Select(hn::Gt(a.v, b), a, Dual(b)).with(hn::Max(a.v, b));
  }
  friend HWY_INLINE Dual MixedMin(const Dual& a, const Dual& b, V) { return Min(a, b); }
  friend HWY_INLINE Dual Sine(const Dual& a) {
    V sine;
    V cosine;
    SineCosineOf(D(), a.v, sine, cosine);
    return Chain(sine, a, cosine);
  }
  friend HWY_INLINE Dual Cosine(const Dual& a) {
    V sine;
    V cosine;
    SineCosineOf(D(), a.v, sine, cosine);
    return Chain(cosine, a, hn::Neg(sine));
  }
  friend HWY_INLINE Dual AngleOf(const Dual& x, const Dual& y) {
    const D d;
    const V square = hn::Add(hn::Mul(x.v, x.v), hn::Mul(y.v, y.v));
    const V inverse = hn::IfThenElseZero(hn::Gt(square, hn::Zero(d)),
                                         hn::Div(hn::Set(d, hn::TFromD<D>(1)), square));
    return Weighed(Angle(x.v, y.v), x, hn::Neg(hn::Mul(y.v, inverse)), y, hn::Mul(x.v, inverse));
  }

 private:
  HWY_INLINE Dual with(V value) const { return {value, *this}; }
};

/// A value with what the surface there is made of: a material, and the share of another.
template <class D>
struct Made {
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using VI = hn::Vec<hn::RebindToSigned<D>>;
  V v;
  VI material, other;
  V share;
  Made() = default;
  explicit Made(V value) : v(value) { made_of(-1); }

  void made_of(std::int32_t which) {
    const hn::RebindToSigned<D> di;
    material = other = hn::Set(di, which);
    share = hn::Zero(D());
  }
  /// Of the two materials of a row between which a share of it lies.
  void made_of(const hn::TFromD<D>* row, hn::TFromD<D> count, V along) {
    const D d;
    const hn::RebindToSigned<D> di;
    const V last = hn::Set(d, count - 1);
    const V place =
        hn::Mul(hn::Min(hn::Max(along, hn::Zero(d)), hn::Set(d, hn::TFromD<D>(1))), last);
    const V first = hn::Min(hn::Floor(place), hn::Sub(last, hn::Set(d, hn::TFromD<D>(1))));
    const auto index = hn::ConvertTo(di, first);
    material = hn::ConvertTo(di, hn::GatherIndex(d, row, index));
    other = hn::ConvertTo(di, hn::GatherIndex(d, row + 1, index));
    share = hn::Sub(place, first);
  }
  void keep(const Made& from) {
    material = from.material;
    other = from.other;
    share = from.share;
  }
  HWY_INLINE Made with(V value) const {
    Made result = *this;
    result.v = value;
    return result;
  }

  friend HWY_INLINE Made operator+(const Made& a, const Made& b) {
    return a.with(hn::Add(a.v, b.v));
  }
  friend HWY_INLINE Made operator-(const Made& a, const Made& b) {
    return a.with(hn::Sub(a.v, b.v));
  }
  friend HWY_INLINE Made operator*(const Made& a, const Made& b) {
    return a.with(hn::Mul(a.v, b.v));
  }
  friend HWY_INLINE Made operator/(const Made& a, const Made& b) {
    return a.with(hn::Div(a.v, b.v));
  }
  friend HWY_INLINE Made operator+(const Made& a, V b) { return a.with(hn::Add(a.v, b)); }
  friend HWY_INLINE Made operator-(const Made& a, V b) { return a.with(hn::Sub(a.v, b)); }
  friend HWY_INLINE Made operator-(V a, const Made& b) { return b.with(hn::Sub(a, b.v)); }
  friend HWY_INLINE Made operator*(const Made& a, V b) { return a.with(hn::Mul(a.v, b)); }
  friend HWY_INLINE Made Neg(const Made& a) { return a.with(hn::Neg(a.v)); }
  friend HWY_INLINE Made NegIf(M mask, const Made& a) {
    return a.with(hn::IfThenElse(mask, hn::Neg(a.v), a.v));
  }
  friend HWY_INLINE Made Abs(const Made& a) { return a.with(hn::Abs(a.v)); }
  friend HWY_INLINE Made Sqrt(const Made& a) { return a.with(hn::Sqrt(a.v)); }
  friend HWY_INLINE Made Select(M mask, const Made& a, const Made& b) {
    const hn::RebindToSigned<D> di;
    const auto its = hn::RebindMask(di, mask);
    Made result;
    result.v = hn::IfThenElse(mask, a.v, b.v);
    result.material = hn::IfThenElse(its, a.material, b.material);
    result.other = hn::IfThenElse(its, a.other, b.other);
    result.share = hn::IfThenElse(mask, a.share, b.share);
    return result;
  }
  friend HWY_INLINE Made Min(const Made& a, const Made& b) {
    return Select(hn::Lt(a.v, b.v), a, b).with(hn::Min(a.v, b.v));
  }
  friend HWY_INLINE Made Max(const Made& a, const Made& b) {
    return Select(hn::Gt(a.v, b.v), a, b).with(hn::Max(a.v, b.v));
  }
  friend HWY_INLINE Made MinWith(const Made& a, V b) { return a.with(hn::Min(a.v, b)); }
  friend HWY_INLINE Made MaxWith(const Made& a, V b) { return a.with(hn::Max(a.v, b)); }
  friend HWY_INLINE Made MixedMin(const Made& a, const Made& b, V seam) {
    const D d;
    const hn::RebindToSigned<D> di;
    const M first = hn::Lt(a.v, b.v);
    Made lesser = Select(first, a, b).with(hn::Min(a.v, b.v));
    const Made greater = Select(first, b, a);
    // Of the shares in two seams the larger one is kept.
    const M mixed = hn::Gt(seam, lesser.share);
    const auto its =
        hn::AndNot(hn::Eq(lesser.material, greater.material), hn::RebindMask(di, mixed));
    lesser.other = hn::IfThenElse(its, greater.material, lesser.other);
    lesser.share = hn::IfThenElse(hn::RebindMask(d, its), seam, lesser.share);
    return lesser;
  }
  friend HWY_INLINE Made Sine(const Made& a) {
    V sine;
    V cosine;
    SineCosineOf(D(), a.v, sine, cosine);
    return a.with(sine);
  }
  friend HWY_INLINE Made Cosine(const Made& a) {
    V sine;
    V cosine;
    SineCosineOf(D(), a.v, sine, cosine);
    return a.with(cosine);
  }
  friend HWY_INLINE Made AngleOf(const Made& x, const Made& y) { return x.with(Angle(x.v, y.v)); }
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
