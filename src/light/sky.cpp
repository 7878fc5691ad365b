#include "photonlane/light/sky.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"

namespace photonlane {

std::span<const Knob<Sky>> sky_knobs() {
  static const Knob<Sky> table[] = {
      knob<&Sky::zenith>("zenith", "", {0, 1}, "color straight above"),
      knob<&Sky::horizon>("horizon", "", {0, 1}, "color at the horizon and below"),
      knob<&Sky::haze>(
          "haze", "degrees", {0, 90},
          "height above the horizon up to which the sky fades into the fog's color, so "
          "that what vanishes in fog and the sky meet without a line",
          degrees(1)),
      knob<&Sky::strength>("strength", "radiance", {0, 1e6},
                           "where light.transport is paths: radiance of the sky, times its color"),
  };
  return table;
}

PanoramaPlace panorama_place(float x, float y, float z) {
  constexpr auto turn = static_cast<float>(2 * pi);
  const float across = std::hypot(x, y);
  const float heading = across == 0 ? 0 : std::atan2(y, x);
  return {0.5f - heading / turn, 0.5f + 2 * std::atan2(z, across) / turn};
}

Color sky_color(const Sky& sky, const Color& fog, float z) {
  // Most of the change lies low, as in the real sky.
  const float rise = std::sqrt(std::clamp(z, 0.0f, 1.0f));
  const Color clear = sky.horizon + (sky.zenith - sky.horizon) * rise;
  if (sky.haze == 0) return clear;
  const auto top = static_cast<float>(sine_cosine(sky.haze).sine);
  const float up = std::clamp(z / top, 0.0f, 1.0f);
  return fog + (clear - fog) * (up * up * (3 - 2 * up));
}

}  // namespace photonlane
