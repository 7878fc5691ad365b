#include "photonlane/measure/statistics.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"

namespace photonlane {

double quantile(std::vector<double> values, double share) {
  if (values.empty()) return 0;
  const double place = std::clamp(share, 0.0, 1.0) * static_cast<double>(values.size() - 1);
  const auto low = static_cast<std::size_t>(std::floor(place));
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(low);
  std::nth_element(values.begin(), middle, values.end());
  if (middle + 1 == values.end()) return *middle;
  const double next = *std::min_element(middle + 1, values.end());
  return *middle + (next - *middle) * (place - static_cast<double>(low));
}

Interval interval_of_median(const std::vector<double>& values) {
  if (values.empty()) return {};
  const auto [least, most] = std::minmax_element(values.begin(), values.end());
  if (values.size() < 3) return {*least, *most};
  constexpr std::size_t times = 400;
  std::vector<double> medians;
  std::vector<double> drawn(values.size());
  for (std::size_t k = 0; k < times; ++k) {
    const RandomKey key{.seed = 90, .pixel = k};
    for (std::size_t i = 0; i < drawn.size(); ++i) {
      const double share = random_uniform(key, static_cast<std::uint32_t>(i));
      const auto which = static_cast<std::size_t>(share * static_cast<double>(values.size()));
      drawn[i] = values[std::min(which, values.size() - 1)];
    }
    medians.push_back(quantile(drawn, 0.5));
  }
  return {quantile(medians, 0.05), quantile(medians, 0.95)};
}

Interval interval_of_ratio(const std::vector<double>& values, const std::vector<double>& others) {
  std::vector<double> ratios;
  for (std::size_t i = 0; i < std::min(values.size(), others.size()); ++i) {
    ratios.push_back(values[i] / std::max(others[i], 1e-12));
  }
  return interval_of_median(ratios);
}

Statistics summarize(const std::vector<double>& values) {
  return {quantile(values, 0.5), (quantile(values, 0.75) - quantile(values, 0.25)) / 2};
}

}  // namespace photonlane
