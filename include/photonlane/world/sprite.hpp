#pragma once

///   scene.room().sprites.push_back({.foot = {2, 3, 0}, .width = 0.8, .material = 0});

#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// An upright picture in a room: a plant, a moth, a sign. Its material's texture covers it once,
/// alpha and all.
struct Sprite {
  Vec3d foot{0, 0, 0};         ///< meters: the middle of its lower edge
  double width = 1;            ///< meters
  double height = 0;           ///< meters; 0: as high as its texels are square
  bool fixed = false;          ///< false: it turns about its upright axis to face the camera
  double heading = 0;          ///< radians: where the front of a fixed one looks
  std::uint32_t material = 0;  ///< index into the scene's materials
};
std::span<const Knob<Sprite>> sprite_knobs();

}  // namespace photonlane
