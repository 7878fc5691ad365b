#include "photonlane/light/sky.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/vector.hpp"

namespace photonlane {

std::span<const Knob<Sky>> sky_knobs() {
  static const Knob<Sky> table[] = {
      knob<&Sky::zenith>("zenith", "", {0, 1}, "color straight above"),
      knob<&Sky::horizon>("horizon", "", {0, 1}, "color at the horizon and below"),
  };
  return table;
}

PanoramaPlace panorama_place(float x, float y, float z) {
  constexpr auto turn = static_cast<float>(2 * pi);
  const float across = std::hypot(x, y);
  const float heading = across == 0 ? 0 : std::atan2(y, x);
  return {0.5f - heading / turn, 0.5f + 2 * std::atan2(z, across) / turn};
}

Color sky_color(const Sky& sky, float z) {
  // Most of the change lies low, as in the real sky.
  const float rise = std::sqrt(std::clamp(z, 0.0f, 1.0f));
  return sky.horizon + (sky.zenith - sky.horizon) * rise;
}

}  // namespace photonlane
