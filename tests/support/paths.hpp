#pragma once

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane::test {

/// No fog, no ambient light and no sky's light but what is put there.
inline void empty_air(Room& room) {
  room.fog = {.color = {0, 0, 0}, .start = 1e6, .end = 2e6};
  room.light = {};
  room.light.ambient = {0, 0, 0};
}

/// A closed room, all of whose surfaces emit and throw back the same.
inline Scene glowing_room(float albedo, float emission) {
  Scene scene = drawn(square_room(4));
  empty_air(scene.room());
  scene.materials[0] = {.base = {albedo, albedo, albedo},
                        .emission = {emission, emission, emission}};
  scene.room().floor = scene.room().ceiling = scene.materials[0];
  return scene;
}
/// In its middle, looking a little up.
inline Camera in_room() {
  Camera camera;
  camera.eye = {3, 3, 1.5};
  camera.pitch = 0.2;
  return camera;
}

inline Budget path_budget(int width, int height, int samples, int bounces) {
  Budget budget;
  budget.frame.width = width;
  budget.frame.height = height;
  budget.frame.samples = samples;
  budget.light.transport = Transport::paths;
  budget.bounces.limit = bounces;
  return budget;
}

/// Mean radiance of a frame and the deviation of that mean, by how its pixels differ.
struct Mean {
  double value = 0;
  double error = 0;
};
inline Mean mean_radiance(const Frame& frame, int channel = 1) {
  double sum = 0;
  double squares = 0;
  const Size size = frame.size();
  for (int y = 0; y < size.height; ++y) {
    for (const float value : frame.values(Layer::radiance, channel).row(y)) {
      sum += static_cast<double>(value);
      squares += static_cast<double>(value) * static_cast<double>(value);
    }
  }
  const double count = static_cast<double>(size.width) * size.height;
  const double mean = sum / count;
  return {mean, std::sqrt(std::max(0.0, squares / count - mean * mean) / count)};
}

inline Frame path_frame(const Scene& scene, const Camera& camera, const Budget& budget,
                        LayerSet layers = {Layer::radiance}, int threads = 2) {
  RenderOptions options;
  options.layers = layers;
  options.threads = threads;
  return render(compile(scene), camera, budget, std::move(options));
}

/// A pixel that looks from a place at another, so narrowly that it sees one point.
inline Camera pinhole(const Vec3d& eye, const Vec3d& target) {
  return Camera::look_at(eye, target, degrees(0.01));
}

}  // namespace photonlane::test
