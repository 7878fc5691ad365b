#pragma once

#include <mpfr.h>

#include <cstdint>
#include <string>

#include "photonlane/fractal/escape_plane.hpp"

namespace photonlane::test {

/// How many steps a point takes until |z| is above a radius, in numbers of so many bits: a second
/// way to what planes count. `limit` where it does not.
inline std::uint64_t exact_steps(const EscapePlane& plane, const DecimalPoint& point, long bits,
                                 std::uint64_t limit) {
  mpfr_t cx, cy, x, y, px, py, a, b;
  mpfr_inits2(bits, cx, cy, x, y, px, py, a, b, nullptr);
  const auto put = [](mpfr_ptr to, const Decimal& from) {
    mpfr_set_str(to, from.text().c_str(), 10, MPFR_RNDN);
  };
  put(cx, plane.julia ? plane.julia->x : point.x);
  put(cy, plane.julia ? plane.julia->y : point.y);
  put(x, plane.julia ? point.x : Decimal());
  put(y, plane.julia ? point.y : Decimal());
  std::uint64_t steps = 0;
  for (;; ++steps) {
    mpfr_hypot(a, x, y, MPFR_RNDN);
    if (mpfr_cmp_d(a, plane.escape_radius) > 0 || steps == limit) break;
    if (plane.family == PlaneFamily::folded) {
      mpfr_abs(x, x, MPFR_RNDN);
      mpfr_abs(y, y, MPFR_RNDN);
    }
    if (plane.family == PlaneFamily::conjugate) mpfr_neg(y, y, MPFR_RNDN);
    mpfr_set(px, x, MPFR_RNDN);
    mpfr_set(py, y, MPFR_RNDN);
    for (int k = 1; k < plane.power; ++k) {
      mpfr_fmms(a, px, x, py, y, MPFR_RNDN);
      mpfr_fmma(b, px, y, py, x, MPFR_RNDN);
      mpfr_swap(px, a);
      mpfr_swap(py, b);
    }
    mpfr_add(x, px, cx, MPFR_RNDN);
    mpfr_add(y, py, cy, MPFR_RNDN);
  }
  mpfr_clears(cx, cy, x, y, px, py, a, b, nullptr);
  return steps;
}

}  // namespace photonlane::test
