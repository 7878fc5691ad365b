#include "photonlane/measure/statistics.hpp"

#include <algorithm>
#include <cmath>

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

Statistics summarize(const std::vector<double>& values) {
  return {quantile(values, 0.5), (quantile(values, 0.75) - quantile(values, 0.25)) / 2};
}

}  // namespace photonlane
