#pragma once

#include "shade/illuminate.hpp"

namespace photonlane {

/// Light per channel, a value a lane.
struct Light {
  alignas(64) float red[Surfaces::capacity];
  alignas(64) float green[Surfaces::capacity];
  alignas(64) float blue[Surfaces::capacity];
};

/// Rays start this far off what they leave, in meters: more than rounding and than what is taken
/// for being on it, less than is visible.
float lift(const SceneView& view, float coordinate, float scale = 1);

/// Two directions across a unit vector (Duff and others, "Building an Orthonormal Basis,
/// Revisited", 2017).
struct Across {
  Normal one, two;
  explicit Across(const Normal& n);
};

/// Lanes of a batch that ask for something, side by side.
struct Asking {
  LaneBatch<float> lanes;
  std::size_t of[Surfaces::capacity];

  Asking() { lanes.ending_only = true; }
  void add(const SceneView& view, const RoomView& here, const Surfaces& surfaces, std::size_t i,
           const Normal& normal, float direction_x, float direction_y, float direction_z);
};

/// How much light comes along lanes toward a light from beyond a limit each (null: from as far as
/// they run), by the `way` through portals: nothing through what hides all, the rest through panes.
/// `spread` is the light's radius seen from each lane's start, at a distance of 1; what it makes of
/// shadows is as the budget says.
void come_through(const SceneView& view, const RoomView& here, const LightBudget& budget,
                  const PixelPlace& place, const Asking& asking, const float* limit,
                  const float* spread, std::span<const FaceOf> way, Light& light, Tally& tally);

}  // namespace photonlane
