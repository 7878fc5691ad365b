#include "field/spline.hpp"

#include <vector>

namespace photonlane {

void make_spline(double* values, std::size_t count, std::size_t stride) {
  if (count < 3) return;
  // (f[i-1] + 6 f[i] + f[i+1]) / 8 is the value at i; the ends are as they are. Solved forward and
  // back.
  const auto at = [&](std::size_t i) -> double& { return values[i * stride]; };
  std::vector<double> above(count);
  double before = at(0);
  for (std::size_t i = 1; i + 1 < count; ++i) {
    const double inverse = 1 / (6 - (i == 1 ? 0 : above[i - 1]));
    above[i] = inverse;
    before = (8 * at(i) - before) * inverse;
    at(i) = before;
  }
  for (std::size_t i = count - 1; i-- > 1;) at(i) -= above[i] * at(i + 1);
}

}  // namespace photonlane
