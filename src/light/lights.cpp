#include "photonlane/light/lights.hpp"

#include <algorithm>

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/light/optics.hpp"

namespace photonlane {

std::span<const Knob<Sun>> sun_knobs() {
  static const Knob<Sun> table[] = {
      knob<&Sun::heading>("heading", "degrees", {-36000, 36000},
                          "where it stands, counterclockwise from east", degrees(1)),
      knob<&Sun::elevation>("elevation", "degrees", {0, 90, true}, "how high it stands",
                            degrees(1)),
      knob<&Sun::color>("color", "", {0, 1}, "its light"),
      knob<&Sun::size>("size", "degrees", {0, 90}, "how wide it is seen, where shadows are soft",
                       degrees(1)),
  };
  return table;
}

std::span<const Knob<Lamp>> lamp_knobs() {
  static const Knob<Lamp> table[] = {
      knob<&Lamp::place>("place", "meters", {-1e7, 1e7}, "where it hangs"),
      knob<&Lamp::color>("color", "", {0, 1}, "its light, where it is brightest"),
      knob<&Lamp::range>("range", "meters", {0, 1e6, true}, "how far it reaches"),
      knob<&Lamp::radius>("radius", "meters", {0, 1000}, "of its ball, where shadows are soft"),
      knob<&Lamp::aim>("aim", "meters", {-1e7, 1e7}, "where a spot shines"),
      knob<&Lamp::cone>("cone", "degrees", {0, 360, true},
                        "how wide a spot shines; 360: all around", degrees(1)),
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
  for (const Lamp& lamp : lighting.lamps) {
    validate_knobs(lamp_knobs(), lamp);
    if (lamp.cone < 2 * pi && (lamp.aim - lamp.place).norm() < 1e-9) {
      throw Error(ErrorKind::input, "a spot that aims at its own place");
    }
  }
}

Vec3d sun_direction(const Sun& sun) {
  const auto [sine, cosine] = sine_cosine(sun.heading);
  const auto [rise, across] = sine_cosine(sun.elevation);
  return {across * cosine, across * sine, rise};
}

float lamp_cone(const Lamp& lamp, float x, float y, float z) {
  if (lamp.cone >= 2 * pi) return 1;
  const Vec3d aim = (lamp.aim - lamp.place).normalized();
  const double cosine = aim.x() * x + aim.y() * y + aim.z() * z;
  const double rim = sine_cosine(0.5 * lamp.cone).cosine;
  const double inner = sine_cosine(0.4 * lamp.cone).cosine;
  const double share = std::clamp((cosine - rim) / (inner - rim), 0.0, 1.0);
  return static_cast<float>(share * share * (3 - 2 * share));
}

float water_reflectance(float cosine) { return mirror_reflectance(cosine, 0.02f); }

}  // namespace photonlane
