#pragma once

namespace photonlane {

struct SineCosine {
  double sine = 0;
  double cosine = 1;
};

/// Sine and cosine of an angle in radians by polynomials of our own, so that a picture does not
/// depend on the C library's version. Error below 2e-16 for |angle| < 1e5. Quarter turns given as
/// multiples of pi / 2 come out exact, so that a heading of 90 degrees is parallel to an axis.
SineCosine sine_cosine(double angle);

}  // namespace photonlane
