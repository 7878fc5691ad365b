#include "live/pace.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace photonlane::live {

std::span<const double> Pace::steps() {
  static constexpr std::array<double, 13> all{1, 1.25, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10, 12, 16};
  return all;
}

Size Pace::divided(Size full, double by) {
  const auto side = [by](int pixels) {
    return std::max(1, static_cast<int>(std::lround(pixels / by)));
  };
  return {side(full.width), side(full.height)};
}

void Pace::took(double pixels, double ms) {
  const double now = ms / std::max(1.0, pixels);
  ms_a_pixel_ = known_ ? 0.5 * (ms_a_pixel_ + now) : now;
  known_ = true;
}

double Pace::guess_ms(Size size) const {
  return ms_a_pixel_ * static_cast<double>(size.width) * static_cast<double>(size.height);
}

Size Pace::size_for(Size full, double ms) {
  // Until something is known, a size that any scene makes soon.
  if (!known_) return divided(full, 8);
  const auto takes = [&](std::size_t step) { return guess_ms(divided(full, steps()[step])); };
  while (step_ + 1 < steps().size() && takes(step_) > 1.1 * ms) ++step_;
  while (step_ > 0 && takes(step_ - 1) < 0.85 * ms) --step_;
  return divided(full, steps()[step_]);
}

}  // namespace photonlane::live
