#pragma once

///   scene.room().light.ambient = {0.3f, 0.3f, 0.4f};
///   scene.room().light.sun = Sun{.heading = degrees(230), .elevation = degrees(30)};
///   scene.room().light.lamps.push_back({.place = {0, 0, 2.5}, .range = 8});

#include <optional>
#include <span>
#include <vector>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// A light so far away that it comes from one direction.
struct Sun {
  double heading = 2.4;     ///< radians, counterclockwise from east: where it stands
  double elevation = 0.35;  ///< radians above the horizon
  Color color{0.95f, 0.70f, 0.45f};
  double size = degrees(0.53);  ///< radians: how wide it is seen, where shadows are soft
  /// Of path-traced light alone: a white surface squarely in the sun has this radiance times the
  /// color, so the irradiance is pi times that.
  double strength = 1;
};
std::span<const Knob<Sun>> sun_knobs();

/// A lamp that reaches as far as its range: (1 - (distance / range)^2)^2 of its color.
struct Lamp {
  Vec3d place{0, 0, 2};
  Color color{1, 0.85f, 0.6f};
  double range = 6;      ///< meters
  double radius = 0.05;  ///< meters: of its ball, where shadows are soft
  /// Of path-traced light alone: radiant flux, so that a white surface squarely lit from d meters
  /// has the radiance power * color / (4 pi^2 d^2). Of spots what they would send all around. 0:
  /// as much as makes that surface as bright at half of the range as `range` does.
  double power = 0;
  /// A spot shines toward `aim`, over an angle of `cone` radians from side to side, at its rim
  /// softened over the outer fifth. All around at 2 pi.
  Vec3d aim{0, 0, 0};
  double cone = 2 * pi;
};
std::span<const Knob<Lamp>> lamp_knobs();

/// The light in a room. What comes from several places adds up as 1 - (1 - a)(1 - b)..., so that no
/// number of lights makes more than white, and none is cut off.
struct Lighting {
  Color ambient{1, 1, 1};     ///< from everywhere; alone it leaves all colors as they are
  double corner_reach = 0.8;  ///< meters: how far corners are darker
  std::optional<Sun> sun;
  std::vector<Lamp> lamps;

  bool lit() const { return sun || !lamps.empty() || (ambient != 1.0f).any(); }
};
std::span<const Knob<Lighting>> lighting_knobs();

/// Throws Error (input) for values out of range.
void validate(const Lighting& lighting);

/// Toward the sun, unit length.
Vec3d sun_direction(const Sun& sun);

/// Its flux: `power`, or what that is by its range.
double lamp_power(const Lamp& lamp);

/// How much of a lamp's light goes a way, a unit vector from the lamp.
float lamp_cone(const Lamp& lamp, float x, float y, float z);

/// The share of light that water throws back, seen at an angle of that cosine from its normal
/// (Schlick, "An Inexpensive BRDF Model for Physically-based Rendering", 1994; index 1.33).
float water_reflectance(float cosine);

}  // namespace photonlane
