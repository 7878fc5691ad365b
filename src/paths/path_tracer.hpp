#pragma once

#include <memory>
#include <span>
#include <vector>

#include "paths/path_lights.hpp"
#include "photonlane/lane/tally.hpp"

namespace photonlane {

/// The lights of every room, for paths.
struct PathScene {
  explicit PathScene(const SceneView& seen);

  const SceneView& view;
  std::vector<RoomLights> lights;  ///< by room
  std::vector<float> extinction;   ///< of fog, by room, per meter
};

/// A path from the eye that starts: its pixel, and which way it goes.
struct PathStart {
  std::uint32_t x = 0, y = 0;  ///< of its pixel in the whole frame
  std::uint32_t sample = 0;    ///< its number in the pixel
  Vec3d way{1, 0, 0};
};

/// Most bounces whose light is told apart.
inline constexpr int told_bounces = 8;

/// Light of a path, or of several.
struct PathColor {
  float red = 0, green = 0, blue = 0;
  void add(const Color& light) {
    red += light[0];
    green += light[1];
    blue += light[2];
  }
};
/// What paths brought, an entry each in the order of their starts.
struct PathResults {
  std::vector<PathColor> radiance;
  std::vector<PathColor> straight;  ///< of that, what was not thrown back
  std::vector<std::uint32_t> bounces;
  std::vector<std::uint32_t> work;   ///< steps and evaluations
  bool tell = false;                 ///< whether what follows is asked for
  std::vector<PathColor> by_bounce;  ///< told_bounces a path
  std::vector<PathColor> emission, albedo;

  void start(std::size_t count);
};

/// Follows paths of some pixels until all have ended; `spread` is how far lanes of neighboring
/// pixels are apart at a distance of 1. Which paths are asked for together decides how lanes are
/// batched, so that the same ones give the same bytes.
void trace_paths(const PathScene& scene, std::span<const PathStart> starts, double spread,
                 PathResults& results, Tally& tally);

}  // namespace photonlane
