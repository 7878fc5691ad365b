#include "light/plane_paint.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/light/material.hpp"

namespace photonlane {

double smooth_part(double x, double y, double radius, int power) {
  const double size = 0.5 * std::log(x * x + y * y);
  const double part = 1 - std::log(size / std::log(radius)) / std::log(power);
  return std::isfinite(part) ? std::clamp(part, 0.0, 1.0) : 0.0;
}

void plane_values(const EscapePlane& plane, const EscapeStop& stop, double pixel,
                  const EscapeEnds& ends, float* values) {
  const std::size_t size = ends.count.size();
  for (std::size_t i = 0; i < size; ++i) {
    double value = 0;
    if (ends.ending[i] == Ending::escaped) {
      switch (plane.tells) {
        case PlaneTells::count:
          value = static_cast<double>(ends.count[i]);
          break;
        case PlaneTells::smooth:
          value = static_cast<double>(ends.count[i]) +
                  smooth_part(ends.x[i], ends.y[i], stop.radius, plane.power);
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
