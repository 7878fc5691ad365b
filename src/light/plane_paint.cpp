#include "light/plane_paint.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstdint>

#include "photonlane/light/material.hpp"

namespace photonlane {

namespace {

/// The logarithm to the base of two of a number above 0, to 1e-12, in a form the compiler makes
/// vectors of: of the mantissa by the series of the area hyperbolic tangent.
inline double quick_log2(double value) {
  const auto bits = std::bit_cast<std::uint64_t>(value);
  // The power as a double, by putting it where the lowest bits of 2^52 are.
  const double power = std::bit_cast<double>((bits >> 52) | 0x4330000000000000u) - 0x1p52 - 1023;
  const double part = std::bit_cast<double>((bits & 0x000fffffffffffffu) | 0x3ff0000000000000u) *
                      0.70710678118654752;
  const double t = (part - 1) / (part + 1);
  const double square = t * t;
  double sum = 1.0 / 13;
  for (const double share : {1.0 / 11, 1.0 / 9, 1.0 / 7, 1.0 / 5, 1.0 / 3, 1.0}) {
    sum = sum * square + share;
  }
  return power + 0.5 + 2.8853900817779268 * t * sum;
}

}  // namespace

void smooth_counts(const EscapePlane& plane, const EscapeStop& stop, const EscapeEnds& ends,
                   double* counts) {
  const double of_radius = 1 / std::log2(stop.radius);
  const double of_power = 1 / std::log2(plane.power);
  const std::size_t size = ends.count.size();
  const double* const x = ends.x.data();
  const double* const y = ends.y.data();
  for (std::size_t i = 0; i < size; ++i) {
    const double square = std::clamp(x[i] * x[i] + y[i] * y[i], 1.0 + 1e-9, 1e300);
    const double orders = 0.5 * quick_log2(square) * of_radius;
    counts[i] = std::clamp(1 - quick_log2(std::max(orders, 1e-9)) * of_power, 0.0, 1.0);
  }
  for (std::size_t i = 0; i < size; ++i) counts[i] += static_cast<double>(ends.count[i]);
}

void plane_values(const EscapePlane& plane, const EscapeStop& stop, double pixel,
                  const EscapeEnds& ends, std::vector<double>& scratch, float* values) {
  const std::size_t size = ends.count.size();
  if (plane.tells == PlaneTells::smooth) {
    scratch.resize(size);
    smooth_counts(plane, stop, ends, scratch.data());
  }
  for (std::size_t i = 0; i < size; ++i) {
    double value = 0;
    if (ends.ending[i] == Ending::escaped) {
      switch (plane.tells) {
        case PlaneTells::count:
          value = static_cast<double>(ends.count[i]);
          break;
        case PlaneTells::smooth:
          value = scratch[i];
          break;
        case PlaneTells::distance:
          value = ends.distance[i] / pixel;
          break;
        case PlaneTells::trap:
          value = ends.trap[i];
          break;
      }
    }
    values[i] = static_cast<float>(value);
  }
}

PlanePalette::PlanePalette(const EscapePlane& plane, std::span<const float> shown)
    : scale_(static_cast<float>(1 / plane.palette_length)),
      shift_(static_cast<float>(plane.palette_shift)),
      inside_(plane.inside),
      undecided_(plane.undecided.value_or(spent_color)) {
  const std::size_t count = plane.palette.size();
  colors_.resize(fine);
  for (std::size_t i = 0; i < fine; ++i) {
    const double at = static_cast<double>(i) * static_cast<double>(count) / fine;
    const auto k = static_cast<std::size_t>(at);
    const auto share = static_cast<float>(at - static_cast<double>(k));
    const Color& from = plane.palette[k];
    colors_[i] = from + (plane.palette[(k + 1) % count] - from) * share;
  }
  if (!plane.equalize || shown.empty()) return;
  std::vector<float> sorted(shown.begin(), shown.end());
  std::sort(sorted.begin(), sorted.end());
  ranks_.resize(fine);
  for (std::size_t i = 0; i < fine; ++i) {
    ranks_[i] = sorted[i * (sorted.size() - 1) / (fine - 1)];
  }
}

float PlanePalette::even(float value) const {
  const auto above = std::upper_bound(ranks_.begin(), ranks_.end(), value);
  if (above == ranks_.begin()) return 0;
  if (above == ranks_.end()) return 1;
  const float below = *(above - 1);
  const float part = (value - below) / (*above - below);
  return (static_cast<float>(above - ranks_.begin() - 1) + part) / static_cast<float>(fine - 1);
}

Color PlanePalette::of(Ending ending, float value) const {
  if (ending == Ending::hit) return inside_;
  if (ending == Ending::spent) return undecided_;
  // Evened out, once round holds as many pixels as once round of its length would have had values.
  const float rounds = ranks_.empty() ? value * scale_ : even(value);
  const float turn = rounds + shift_;
  const float place = (turn - std::floor(turn)) * static_cast<float>(fine);
  const auto k = std::min(static_cast<std::size_t>(place), fine - 1);
  const float share = place - static_cast<float>(k);
  return colors_[k] + (colors_[(k + 1) % fine] - colors_[k]) * share;
}

}  // namespace photonlane
