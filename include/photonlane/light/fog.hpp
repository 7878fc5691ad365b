#pragma once

///   scene.room().fog = {.color = {0.7f, 0.7f, 0.8f}, .start = 5, .end = 60};

#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// Everything fades to one color with the distance along the ray: not at all before `start`,
/// completely from `end` on, between them by s * s * (3 - 2 * s), s being the share of the way, so
/// that neither end shows as a line. It is also the color of lanes that escape, so that
/// floor, ceiling and the open meet at the horizon without a line.
struct Fog {
  Color color{0.20f, 0.17f, 0.26f};
  double start = 4;  ///< meters
  double end = 60;   ///< meters
  /// How much of its color is the sun's light, which shadows take where fog is sampled.
  double sunlit = 0.6;
};
std::span<const Knob<Fog>> fog_knobs();

/// Of path-traced light: extinction of a fog, per meter. Half of the light is left where half of it
/// is fog without paths; a fog that ends a million meters away or farther is none.
double fog_extinction(const Fog& fog);

/// Throws Error (input) where the fog does not end behind its start.
void validate(const Fog& fog);

/// The share of fog at a distance in meters, in [0, 1].
float fog_share(const Fog& fog, double distance);

}  // namespace photonlane
