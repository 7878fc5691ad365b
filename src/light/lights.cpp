#include "photonlane/light/lights.hpp"

#include <algorithm>

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/light/optics.hpp"

namespace photonlane {

std::span<const Knob<Sun>> sun_knobs() {
  static const Knob<Sun> table[] = {
      knob<&Sun::heading>("heading", "degrees", {-36000, 36000},
                          "direction of the sun, counterclockwise from east", degrees(1)),
      knob<&Sun::elevation>("elevation", "degrees", {0, 90, true},
                            "height of the sun above the horizon", degrees(1)),
      knob<&Sun::color>("color", "", {0, 1}, "color of the sun's light"),
      knob<&Sun::size>("size", "degrees", {0, 90}, "angular diameter, for soft shadows",
                       degrees(1)),
      knob<&Sun::strength>("strength", "radiance", {0, 1e6},
                           "where light.transport is paths: radiance of a white surface squarely "
                           "in the sun, times the color"),
  };
  return table;
}

std::span<const Knob<Lamp>> lamp_knobs() {
  static const Knob<Lamp> table[] = {
      knob<&Lamp::place>("place", "meters", {-1e7, 1e7}, "position of the lamp"),
      knob<&Lamp::color>("color", "", {0, 1}, "color of the light close to the lamp"),
      knob<&Lamp::range>("range", "meters", {0, 1e6, true},
                         "distance at which the light has faded out"),
      knob<&Lamp::radius>("radius", "meters", {0, 1000}, "radius of the lamp, for soft shadows"),
      knob<&Lamp::power>("power", "radiance m^2", {0, 1e9},
                         "where light.transport is paths: radiant flux; a white surface squarely "
                         "lit from d meters has the radiance power / (4 pi^2 d^2); 0 takes what "
                         "makes it as bright at half of the range as it is without paths"),
      knob<&Lamp::aim>("aim", "meters", {-1e7, 1e7}, "point a spotlight is aimed at"),
      knob<&Lamp::cone>("cone", "degrees", {0, 360, true},
                        "opening angle of a spotlight; 360 shines all around", degrees(1)),
  };
  return table;
}

std::span<const Knob<Lighting>> lighting_knobs() {
  static const Knob<Lighting> table[] = {
      knob<&Lighting::ambient>("ambient", "", {0, 1},
                               "ambient light, the same from all directions"),
      knob<&Lighting::corner_reach>(
          "corner_reach", "meters", {0, 1000, true},
          "distance from walls and surfaces within which ambient light is occluded"),
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

double lamp_power(const Lamp& lamp) {
  if (lamp.power > 0) return lamp.power;
  // (1 - 1/4)^2 at half of the range.
  return 0.5625 * 4 * pi * pi * 0.25 * lamp.range * lamp.range;
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
