#pragma once

#include <cstddef>
#include <span>

namespace photonlane {

/// Turns values into the factors of a quadratic spline that goes through them, in place: `count`
/// values `stride` apart (Unser, "Splines: A Perfect Fit for Signal and Image Processing", 1999).
/// At its ends it goes on straight.
void make_spline(double* values, std::size_t count, std::size_t stride);

/// Where a coordinate lies among the factors of a spline along one axis, and what they weigh.
template <class Number>
struct SplineStencil {
  std::size_t first = 0;  ///< of three factors in a row; of two where there are no more
  Number weight[3]{};
  Number slope[3]{};  ///< what they weigh in its derivative

  /// `place` in steps from the first factor, within 0 and count - 1.
  SplineStencil(Number place, std::size_t count) {
    auto middle = static_cast<std::size_t>(place + Number(0.5));
    if (middle > count - 1) middle = count - 1;
    const Number d = place - static_cast<Number>(middle);
    const Number low = Number(0.5) - d;
    const Number high = Number(0.5) + d;
    const Number w[3] = {Number(0.5) * low * low, Number(0.75) - d * d, Number(0.5) * high * high};
    const Number s[3] = {-low, -2 * d, high};
    // Beyond the ends a factor is as far from the last as that from the one before.
    if (middle == 0) {
      first = 0;
      put(0, w[1] + 2 * w[0], s[1] + 2 * s[0]);
      put(1, w[2] - w[0], s[2] - s[0]);
    } else if (middle == count - 1) {
      first = count - 2;
      put(0, w[0] - w[2], s[0] - s[2]);
      put(1, w[1] + 2 * w[2], s[1] + 2 * s[2]);
    } else {
      first = middle - 1;
      for (int i = 0; i < 3; ++i) put(i, w[i], s[i]);
    }
  }

  /// How many of the three there are.
  std::size_t width(std::size_t count) const { return count - first < 3 ? count - first : 3; }

 private:
  void put(int i, Number its_weight, Number its_slope) {
    weight[i] = its_weight;
    slope[i] = its_slope;
  }
};

}  // namespace photonlane
