#pragma once

#include <Eigen/Core>
#include <vector>

#include "photonlane/photonlane.hpp"

namespace photonlane::bench {

using Vec3f = Eigen::Vector3f;

/// Lanes of a picture, batch by batch as a frame asks for them, and from where they end toward a
/// sun.
struct EyeLanes {
  std::vector<LaneBatch<float>> eye, sun;

  static constexpr int wide = 640;
  static constexpr int high = 400;

  /// `lift`: how far off a surface lanes toward the sun start.
  EyeLanes(const Solid& solid, const Camera& camera, const Eigen::Vector3f& sun_way,
           float lift = 1e-4f) {
    const Viewing seen = viewing(camera, {wide, high});
    const Vec3f toward = sun_way.normalized();
    for (int y = 0; y < high; y += 16) {
      for (int x = 0; x < wide; x += 8) {
        LaneBatch<float> lanes;
        lanes.size = lanes.capacity;
        lanes.far_limit = 4096;
        lanes.together = true;
        for (std::size_t i = 0; i < lanes.size; ++i) {
          const Vec3d way = seen.ray(seen.u(x + 0.5 + static_cast<double>(i % 8)),
                                     seen.v(y + 0.5 + static_cast<double>(i / 8)));
          put(lanes, i, camera.eye.cast<float>(), way.cast<float>());
        }
        const HitBatch<float> hits = solid.nearest_hit(lanes, Budget{});
        for (std::size_t i = 0; i < lanes.size; ++i) {
          if (hits.ending[i] != Ending::hit) continue;
          const Vec3f normal(hits.normal_x[i], hits.normal_y[i], hits.normal_z[i]);
          const Vec3f way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
          const Vec3f place = camera.eye.cast<float>() + hits.t[i] * way + lift * normal;
          // Batches are filled up, as frames do.
          if (sun.empty() || sun.back().size == LaneBatch<float>::capacity) {
            sun.emplace_back().far_limit = 4096;
          }
          put(sun.back(), sun.back().size++, place, toward);
        }
        eye.push_back(lanes);
      }
    }
  }
  static void put(LaneBatch<float>& lanes, std::size_t i, const Vec3f& from, const Vec3f& way) {
    lanes.x[i] = from.x();
    lanes.y[i] = from.y();
    lanes.z[i] = from.z();
    lanes.direction_x[i] = way.x();
    lanes.direction_y[i] = way.y();
    lanes.direction_z[i] = way.z();
  }
};

/// What lanes find, so that nothing is left out by the compiler.
inline double found = 0;

inline void meet(const Solid& solid, const std::vector<LaneBatch<float>>& all) {
  for (const LaneBatch<float>& lanes : all) {
    found += static_cast<double>(solid.nearest_hit(lanes, Budget{}).t[0]);
  }
}
inline void hide(const Solid& solid, const std::vector<LaneBatch<float>>& all) {
  for (const LaneBatch<float>& lanes : all) {
    bool hidden[LaneBatch<float>::capacity] = {};
    found += static_cast<double>(solid.hide(lanes, Budget{}, hidden));
  }
}

}  // namespace photonlane::bench
