#include "photonlane/base/trigonometry.hpp"

#include <cmath>
#include <cstdint>

namespace photonlane {

SineCosine sine_cosine(double angle) {
  // Cody and Waite, "Software Manual for the Elementary Functions", 1980: subtract the nearest
  // multiple of pi / 2 in three parts, then Taylor's series on [-pi / 4, pi / 4].
  constexpr double part_1 = 1.57079632673412561417e+00;
  constexpr double part_2 = 6.07710050630396597660e-11;
  constexpr double part_3 = 2.02226624879595063154e-21;
  const double turns = std::nearbyint(angle * 0.63661977236758134308);
  double x = ((angle - turns * part_1) - turns * part_2) - turns * part_3;
  if (std::fabs(x) < 1e-15 * (1 + std::fabs(angle))) x = 0;
  const double x2 = x * x;
  const double sine =
      x + x * x2 *
              (-1.0 / 6 +
               x2 * (1.0 / 120 +
                     x2 * (-1.0 / 5040 +
                           x2 * (1.0 / 362880 +
                                 x2 * (-1.0 / 39916800 +
                                       x2 * (1.0 / 6227020800 + x2 * (-1.0 / 1307674368000)))))));
  const double cosine =
      1 + x2 * (-0.5 +
                x2 * (1.0 / 24 +
                      x2 * (-1.0 / 720 + x2 * (1.0 / 40320 +
                                               x2 * (-1.0 / 3628800 +
                                                     x2 * (1.0 / 479001600 +
                                                           x2 * (-1.0 / 87178291200 +
                                                                 x2 * (1.0 / 20922789888000))))))));
  switch (static_cast<std::int64_t>(turns) & 3) {
    case 0:
      return {sine, cosine};
    case 1:
      return {cosine, -sine};
    case 2:
      return {-sine, -cosine};
    default:
      return {-cosine, sine};
  }
}

}  // namespace photonlane
