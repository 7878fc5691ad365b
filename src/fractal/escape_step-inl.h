// Per-target include: one step of an orbit.

#if defined(PHOTONLANE_FRACTAL_ESCAPE_STEP_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FRACTAL_ESCAPE_STEP_INL_H_
#undef PHOTONLANE_FRACTAL_ESCAPE_STEP_INL_H_
#else
#define PHOTONLANE_FRACTAL_ESCAPE_STEP_INL_H_
#endif

#include <hwy/highway.h>

#include "fractal/escape_numbers-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {

/// One step of the orbit: z^power + c of what the family makes of z.
template <int power, bool plain, class Real>
HWY_INLINE void Step(const Folding<Real>& folding, const Real& cx, const Real& cy, Real& x,
                     Real& y) {
  if constexpr (!plain) Fold(folding, x, y);
  if constexpr (power == 2) {
    const Real xx = Square(x);
    const Real yy = Square(y);
    y = Twice(x * y) + cy;
    x = (xx - yy) + cx;
    return;
  }
  // By repeated squaring.
  const auto times = [](Real& ax, Real& ay, const Real& bx, const Real& by) {
    const Real re = ax * bx - ay * by;
    ay = ax * by + ay * bx;
    ax = re;
  };
  const auto square = [](Real& ax, Real& ay) {
    const Real re = Square(ax) - Square(ay);
    ay = Twice(ax * ay);
    ax = re;
  };
  Real px = x;
  Real py = y;
  square(px, py);
  if constexpr (power == 3 || power == 7) {
    if constexpr (power == 7) {
      times(px, py, x, y);
      square(px, py);
    }
    times(px, py, x, y);
  } else if constexpr (power == 6) {
    times(px, py, x, y);
    square(px, py);
  } else if constexpr (power >= 4) {
    square(px, py);
    if constexpr (power == 5) times(px, py, x, y);
    if constexpr (power == 8) square(px, py);
  }
  x = px + cx;
  y = py + cy;
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
