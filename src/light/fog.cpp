#include "photonlane/light/fog.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numbers>

namespace photonlane {

std::span<const Knob<Fog>> fog_knobs() {
  static const Knob<Fog> table[] = {
      knob<&Fog::color>("color", "", {0, 1}, "what everything fades to, and what the open shows"),
      knob<&Fog::start>("start", "meters", {0, 1e7}, "distance up to which there is no fog"),
      knob<&Fog::end>("end", "meters", {0, 1e7, true},
                      "distance from which nothing but fog is seen"),
      knob<&Fog::sunlit>("sunlit", "", {0, 1},
                         "share of the fog's color that is sunlight, and missing in shadows, where "
                         "light.fog is sampled"),
  };
  return table;
}

void validate(const Fog& fog) {
  validate_knobs(fog_knobs(), fog);
  if (!(fog.end > fog.start)) {
    throw Error(
        ErrorKind::input,
        fmt::format("fog ends at {} meters, expected more than its start, {}", fog.end, fog.start));
  }
}

double fog_extinction(const Fog& fog) {
  return fog.end < 1e6 ? 2 * std::numbers::ln2 / (fog.start + fog.end) : 0;
}

float fog_share(const Fog& fog, double distance) {
  if (distance <= fog.start) return 0;
  const double s = std::clamp((distance - fog.start) / (fog.end - fog.start), 0.0, 1.0);
  return static_cast<float>(s * s * (3 - 2 * s));
}

}  // namespace photonlane
