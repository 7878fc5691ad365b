#pragma once

#include <cstdint>
#include <vector>

namespace photonlane::textbook {

/// A ball: what it is made of is diffuse, a mirror or glass.
struct Ball {
  float x, y, z, radius;
  float red, green, blue;
  int kind = 0;  ///< 0 diffuse, 1 mirror, 2 glass
};

/// Balls under a sky and a sun, on a ball that is their ground.
struct PathScene {
  std::vector<Ball> balls;
  float sun[3];      ///< toward it
  float sun_color;   ///< irradiance over pi
  float sun_cosine;  ///< of half its angle
};

struct PathView {
  int width, height;
  float eye[3], forward[3], right[3], up[3];
  float focal;  ///< pixels
};

/// A path tracer as one writes it first: a pixel, a sample and a ray at a time, every ball looked
/// at for each ray, one ray toward the sun at every diffuse surface, roulette where little is
/// carried. Gives red, green and blue of every pixel.
void trace_paths(const PathScene& scene, const PathView& view, int samples, int bounces,
                 std::vector<float>& picture);

}  // namespace photonlane::textbook
