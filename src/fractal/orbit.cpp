#include "fractal/orbit.hpp"

#include <mpfr.h>

#include <algorithm>
#include <cmath>

namespace photonlane {
namespace {

/// A number of a fixed count of bits.
class Big {
 public:
  explicit Big(long bits) {
    mpfr_init2(value_, bits);
    mpfr_set_zero(value_, 1);
  }
  ~Big() { mpfr_clear(value_); }
  Big(const Big&) = delete;
  Big& operator=(const Big&) = delete;

  operator mpfr_ptr() { return value_; }

 private:
  mpfr_t value_;
};

FarComplex far(Big& number) {
  long power = 0;
  const double part = mpfr_get_d_2exp(&power, number, MPFR_RNDN);
  return FarComplex(Complex{part, 0}, power);
}

/// As a double; what is too near to 0 for those is the smallest whose sign is left.
double near(Big& big) {
  const mpfr_ptr number = big;
  const double value = mpfr_get_d(number, MPFR_RNDN);
  if (value != 0 || mpfr_zero_p(number) != 0) return value;
  return mpfr_sgn(number) > 0 ? 0x1p-1000 : -0x1p-1000;
}

void put(Big& to, const Decimal& from) { mpfr_set_str(to, from.text().c_str(), 10, MPFR_RNDN); }

}  // namespace

ReferenceOrbit reference_orbit(const EscapePlane& plane, const DecimalPoint& point, bool of_zero,
                               std::uint64_t limit, double radius, long bits) {
  // With its skips some 600 MiB; past them lanes go on from the start.
  constexpr std::uint64_t most = std::uint64_t{1} << 22;
  Big cx(bits), cy(bits), x(bits), y(bits), px(bits), py(bits), a(bits), b(bits);
  put(cx, plane.julia ? plane.julia->x : point.x);
  put(cy, plane.julia ? plane.julia->y : point.y);
  if (plane.julia && !of_zero) {
    put(x, point.x);
    put(y, point.y);
  }
  ReferenceOrbit orbit;
  const std::uint64_t steps = std::min(limit, most);
  for (std::uint64_t step = 0;; ++step) {
    const double zx = near(x);
    const double zy = near(y);
    orbit.z.push_back({zx, zy});
    // Of the folded family each component by itself decides something, unless it is exactly 0.
    const auto small = [](double value) { return value != 0 && std::abs(value) < 0x1p-450; };
    const bool tiny = plane.family == PlaneFamily::folded
                          ? small(zx) || small(zy)
                          : std::max(std::abs(zx), std::abs(zy)) < 0x1p-450;
    if (step > 0 && tiny) orbit.tiny[orbit.z.size() - 1] = {far(x), far(y)};
    orbit.escaped = !(zx * zx + zy * zy <= radius * radius);
    if (orbit.escaped || step == steps) return orbit;
    if (plane.family == PlaneFamily::folded) {
      mpfr_abs(x, x, MPFR_RNDN);
      mpfr_abs(y, y, MPFR_RNDN);
    } else if (plane.family == PlaneFamily::conjugate) {
      mpfr_neg(y, y, MPFR_RNDN);
    }
    if (plane.power == 2) {
      mpfr_sqr(a, x, MPFR_RNDN);
      mpfr_sqr(b, y, MPFR_RNDN);
      mpfr_mul(y, x, y, MPFR_RNDN);
      mpfr_mul_2ui(y, y, 1, MPFR_RNDN);
      mpfr_sub(x, a, b, MPFR_RNDN);
    } else {
      mpfr_set(px, x, MPFR_RNDN);
      mpfr_set(py, y, MPFR_RNDN);
      for (int k = 1; k < plane.power; ++k) {
        mpfr_fmms(a, px, x, py, y, MPFR_RNDN);
        mpfr_fmma(py, px, y, py, x, MPFR_RNDN);
        mpfr_set(px, a, MPFR_RNDN);
      }
      mpfr_set(x, px, MPFR_RNDN);
      mpfr_set(y, py, MPFR_RNDN);
    }
    mpfr_add(x, x, cx, MPFR_RNDN);
    mpfr_add(y, y, cy, MPFR_RNDN);
  }
}

}  // namespace photonlane
