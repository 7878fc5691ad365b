#pragma once

///   scene.room().sky = Sky{.zenith = {0.1f, 0.2f, 0.5f}, .haze = degrees(10)};

#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// What lanes see that leave a room: two colors, or a panorama. Fog does not cover it.
struct Sky {
  Color zenith{0.10f, 0.14f, 0.32f};
  Color horizon{0.80f, 0.52f, 0.36f};
  double haze = 0;  ///< radians above the horizon up to which it fades into the fog's color
  /// Index into the scene's textures: a picture all around, its middle in the east, its left half
  /// toward the north, its upper edge straight above and its lower straight below. -1: none.
  int panorama = -1;
  double strength = 1;  ///< of path-traced light alone: radiance for a color of 1
};
std::span<const Knob<Sky>> sky_knobs();

/// Where a direction lies on a panorama: u from the left, v from below, both in [0, 1].
struct PanoramaPlace {
  float u, v;
};
PanoramaPlace panorama_place(float x, float y, float z);

/// The color of a sky without a panorama in a direction of unit length that rises by z, where fog
/// is of a color.
Color sky_color(const Sky& sky, const Color& fog, float z);

}  // namespace photonlane
