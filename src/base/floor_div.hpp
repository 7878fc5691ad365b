#pragma once

#include <cstdint>

namespace photonlane {

/// A quotient rounded down, also below 0; `by` is above 0.
inline std::int64_t floor_div(std::int64_t value, std::int64_t by) {
  return value >= 0 ? value / by : -((by - 1 - value) / by);
}

}  // namespace photonlane
