#pragma once

#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// What a surface looks like.
struct Material {
  Color base{0.6f, 0.6f, 0.6f};
  int texture = -1;    ///< index into the scene's textures, whose colors multiply `base`; -1: none
  double tile = 1;     ///< meters the texture is wide; as high as its texels are square
  double opacity = 1;  ///< below 1 what is behind shows through, times `tint`
  double density = 0;  ///< above 0 a soft body: a meter of it hides 1 - exp(-density)
  double glow = 0;     ///< how much of its color it shows whatever the light
  double wetness = 0;  ///< of floors: how much of water's reflection is seen on it
  double roughness = 0;  ///< of that reflection: 0 a mirror, 1 wide
  Color tint{1, 1, 1};
};
std::span<const Knob<Material>> material_knobs();

/// What a lane that ran out of budget shows in the color layers: a violet that no scene uses by
/// accident, never faded by fog.
inline const Color spent_color{0.55f, 0.0f, 0.85f};

}  // namespace photonlane
