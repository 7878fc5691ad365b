#include "photonlane/light/lights.hpp"

#include <algorithm>

#include "photonlane/base/trigonometry.hpp"

namespace photonlane {

std::span<const Knob<Sun>> sun_knobs() {
  static const Knob<Sun> table[] = {
      knob<&Sun::heading>("heading", "degrees", {-36000, 36000},
                          "where it stands, counterclockwise from east", degrees(1)),
      knob<&Sun::elevation>("elevation", "degrees", {0, 90, true}, "how high it stands",
                            degrees(1)),
      knob<&Sun::color>("color", "", {0, 1}, "its light"),
  };
  return table;
}

std::span<const Knob<Lamp>> lamp_knobs() {
  static const Knob<Lamp> table[] = {
      knob<&Lamp::place>("place", "meters", {-1e7, 1e7}, "where it hangs"),
      knob<&Lamp::color>("color", "", {0, 1}, "its light, where it is brightest"),
      knob<&Lamp::range>("range", "meters", {0, 1e6, true}, "how far it reaches"),
  };
  return table;
}

std::span<const Knob<Lighting>> lighting_knobs() {
  static const Knob<Lighting> table[] = {
      knob<&Lighting::ambient>("ambient", "", {0, 1}, "light from everywhere"),
      knob<&Lighting::corner_reach>("corner_reach", "meters", {0, 1000, true},
                                    "how far from walls it is darker"),
  };
  return table;
}

void validate(const Lighting& lighting) {
  validate_knobs(lighting_knobs(), lighting);
  if (lighting.sun) validate_knobs(sun_knobs(), *lighting.sun);
  for (const Lamp& lamp : lighting.lamps) validate_knobs(lamp_knobs(), lamp);
}

Vec3d sun_direction(const Sun& sun) {
  const auto [sine, cosine] = sine_cosine(sun.heading);
  const auto [rise, across] = sine_cosine(sun.elevation);
  return {across * cosine, across * sine, rise};
}

float water_reflectance(float cosine) {
  constexpr float straight = 0.02f;
  const float x = 1 - std::clamp(cosine, 0.0f, 1.0f);
  const float square = x * x;
  return straight + (1 - straight) * square * square * x;
}

}  // namespace photonlane
