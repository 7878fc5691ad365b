#pragma once

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <limits>
#include <vector>

namespace photonlane {

/// The middle one of some values, the upper one of two; those that are no numbers are the largest.
/// Infinite where there are none.
inline double median(std::vector<double> values) {
  constexpr double infinite = std::numeric_limits<double>::infinity();
  if (values.empty()) return infinite;
  for (double& value : values) {
    if (std::isnan(value)) value = infinite;
  }
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

}  // namespace photonlane
