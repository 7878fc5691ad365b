// What orbits are made of: a vector of numbers, or of pairs of doubles that stand for one number
// each.

#if defined(PHOTONLANE_FRACTAL_ESCAPE_NUMBERS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FRACTAL_ESCAPE_NUMBERS_INL_H_
#undef PHOTONLANE_FRACTAL_ESCAPE_NUMBERS_INL_H_
#else
#define PHOTONLANE_FRACTAL_ESCAPE_NUMBERS_INL_H_
#endif

#include <hwy/highway.h>

#include "fractal/escape_kernel.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// One number a lane.
template <class D_>
struct Single {
  using D = D_;
  using V = hn::Vec<D>;
  static constexpr std::size_t planes = 1;
  using One = Single<hn::CappedTag<hn::TFromD<D>, 1>>;
  V value;

  V high() const { return value; }
  friend HWY_INLINE Single operator+(const Single& a, const Single& b) {
    return {hn::Add(a.value, b.value)};
  }
  friend HWY_INLINE Single operator-(const Single& a, const Single& b) {
    return {hn::Sub(a.value, b.value)};
  }
  friend HWY_INLINE Single operator*(const Single& a, const Single& b) {
    return {hn::Mul(a.value, b.value)};
  }
  friend HWY_INLINE Single Square(const Single& a) { return {hn::Mul(a.value, a.value)}; }
  friend HWY_INLINE Single Twice(const Single& a) { return {hn::Add(a.value, a.value)}; }
  friend HWY_INLINE Single Signed(const Single& a, V flip) { return {hn::Xor(a.value, flip)}; }
  friend HWY_INLINE hn::Mask<D> Equal(const Single& a, const Single& b) {
    return hn::Eq(a.value, b.value);
  }
  friend HWY_INLINE Single Choose(hn::Mask<D> yes, const Single& a, const Single& b) {
    return {hn::IfThenElse(yes, a.value, b.value)};
  }
};

/// A number of two doubles a lane (Dekker, "A Floating-Point Technique for Extending the Available
/// Precision", 1971; Hida, Li and Bailey, "Algorithms for Quad-Double Precision Floating Point
/// Arithmetic", 2001).
template <class D_>
struct Pair {
  using D = D_;
  using V = hn::Vec<D>;
  static constexpr std::size_t planes = 2;
  using One = Pair<hn::CappedTag<hn::TFromD<D>, 1>>;
  V upper, lower;

  V high() const { return upper; }

  /// a + b where a is not less in size.
  static HWY_INLINE Pair QuickSum(V a, V b) {
    const V sum = hn::Add(a, b);
    return {sum, hn::Sub(b, hn::Sub(sum, a))};
  }
  static HWY_INLINE Pair Sum(V a, V b) {
    const V sum = hn::Add(a, b);
    const V part = hn::Sub(sum, a);
    return {sum, hn::Add(hn::Sub(a, hn::Sub(sum, part)), hn::Sub(b, part))};
  }
  static HWY_INLINE Pair Halves(V a) {
    const V big = hn::Mul(hn::Set(D(), 134217729.0), a);
    const V upper = hn::Sub(big, hn::Sub(big, a));
    return {upper, hn::Sub(a, upper)};
  }
  /// The product and all that it rounds off: the same bits with fused arithmetic and without.
  static HWY_INLINE Pair Product(V a, V b) {
    const V product = hn::Mul(a, b);
#if HWY_NATIVE_FMA
    return {product, hn::MulSub(a, b, product)};
#else
    const Pair p = Halves(a);
    const Pair q = Halves(b);
    V off = hn::Sub(hn::Mul(p.upper, q.upper), product);
    off = hn::Add(off, hn::Mul(p.upper, q.lower));
    off = hn::Add(off, hn::Mul(p.lower, q.upper));
    return {product, hn::Add(off, hn::Mul(p.lower, q.lower))};
#endif
  }

  friend HWY_INLINE Pair operator+(const Pair& a, const Pair& b) {
    const Pair sum = Sum(a.upper, b.upper);
    return QuickSum(sum.upper, hn::Add(sum.lower, hn::Add(a.lower, b.lower)));
  }
  friend HWY_INLINE Pair operator-(const Pair& a, const Pair& b) {
    return a + Pair{hn::Neg(b.upper), hn::Neg(b.lower)};
  }
  friend HWY_INLINE Pair operator*(const Pair& a, const Pair& b) {
    const Pair product = Product(a.upper, b.upper);
    const V rest = hn::Add(hn::Mul(a.upper, b.lower), hn::Mul(a.lower, b.upper));
    return QuickSum(product.upper, hn::Add(product.lower, rest));
  }
  friend HWY_INLINE Pair Square(const Pair& a) {
    const Pair product = Product(a.upper, a.upper);
    const V rest = hn::Mul(a.upper, a.lower);
    return QuickSum(product.upper, hn::Add(product.lower, hn::Add(rest, rest)));
  }
  friend HWY_INLINE Pair Twice(const Pair& a) {
    return {hn::Add(a.upper, a.upper), hn::Add(a.lower, a.lower)};
  }
  friend HWY_INLINE Pair Signed(const Pair& a, V flip) {
    return {hn::Xor(a.upper, flip), hn::Xor(a.lower, flip)};
  }
  friend HWY_INLINE hn::Mask<D> Equal(const Pair& a, const Pair& b) {
    return hn::And(hn::Eq(a.upper, b.upper), hn::Eq(a.lower, b.lower));
  }
  friend HWY_INLINE Pair Choose(hn::Mask<D> yes, const Pair& a, const Pair& b) {
    return {hn::IfThenElse(yes, a.upper, b.upper), hn::IfThenElse(yes, a.lower, b.lower)};
  }
};

/// What a family does to z before the power: which signs it takes off, and which it turns.
template <class Real>
struct Folding {
  typename Real::V take_off;  ///< the sign bit where signs are taken off
  typename Real::V turn;      ///< of the imaginary part
};
template <class Real>
HWY_INLINE Folding<Real> folding_of(PlaneFamily family) {
  const typename Real::D d;
  const auto sign = hn::Set(d, hn::TFromD<typename Real::D>(-0.0));
  const auto none = hn::Zero(d);
  return {family == PlaneFamily::folded ? sign : none,
          family == PlaneFamily::conjugate ? sign : none};
}
template <class Real>
HWY_INLINE void Fold(const Folding<Real>& folding, Real& x, Real& y) {
  x = Signed(x, hn::And(folding.take_off, x.high()));
  y = Signed(y, hn::Xor(hn::And(folding.take_off, y.high()), folding.turn));
}

/// Numbers in memory, a vector's worth side by side.
template <class Real, std::size_t slots>
class Stored {
 public:
  using D = typename Real::D;
  using Number = hn::TFromD<D>;

  HWY_INLINE Real Load(std::size_t v) const {
    const D d;
    if constexpr (Real::planes == 1) return {hn::Load(d, values_[0] + v * hn::Lanes(d))};
    if constexpr (Real::planes == 2) {
      return {hn::Load(d, values_[0] + v * hn::Lanes(d)),
              hn::Load(d, values_[1] + v * hn::Lanes(d))};
    }
  }
  HWY_INLINE void Store(std::size_t v, const Real& real) {
    const D d;
    if constexpr (Real::planes == 1) {
      hn::Store(real.value, d, values_[0] + v * hn::Lanes(d));
    } else {
      hn::Store(real.upper, d, values_[0] + v * hn::Lanes(d));
      hn::Store(real.lower, d, values_[1] + v * hn::Lanes(d));
    }
  }
  /// The same from any number on.
  HWY_INLINE Real LoadAt(std::size_t i) const {
    const D d;
    if constexpr (Real::planes == 1) return {hn::LoadU(d, values_[0] + i)};
    if constexpr (Real::planes == 2) {
      return {hn::LoadU(d, values_[0] + i), hn::LoadU(d, values_[1] + i)};
    }
  }
  HWY_INLINE void StoreAt(std::size_t i, const Real& real) {
    const D d;
    if constexpr (Real::planes == 1) {
      hn::StoreU(real.value, d, values_[0] + i);
    } else {
      hn::StoreU(real.upper, d, values_[0] + i);
      hn::StoreU(real.lower, d, values_[1] + i);
    }
  }
  /// Some of a vector's, one behind the other; what is behind them up to a vector's worth may be
  /// lost.
  HWY_INLINE void CompressAt(std::size_t i, const Real& real, hn::Mask<D> some) {
    const D d;
    if constexpr (Real::planes == 1) {
      hn::CompressStore(real.value, some, d, values_[0] + i);
    } else {
      hn::CompressStore(real.upper, some, d, values_[0] + i);
      hn::CompressStore(real.lower, some, d, values_[1] + i);
    }
  }
  /// One of them alone.
  HWY_INLINE typename Real::One One(std::size_t slot) const {
    const typename Real::One::D d;
    if constexpr (Real::planes == 1) return {hn::Set(d, values_[0][slot])};
    if constexpr (Real::planes == 2) {
      return {hn::Set(d, values_[0][slot]), hn::Set(d, values_[1][slot])};
    }
  }
  DoubleDouble Get(std::size_t slot) const {
    DoubleDouble value{static_cast<double>(values_[0][slot]), 0};
    if constexpr (Real::planes == 2) value.low = values_[1][slot];
    return value;
  }
  void Put(std::size_t slot, const DoubleDouble& value) {
    values_[0][slot] = static_cast<Number>(value.high);
    if constexpr (Real::planes == 2) values_[1][slot] = static_cast<Number>(value.low);
  }

 private:
  alignas(64) Number values_[Real::planes][slots];
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
