#pragma once

#include <vector>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane::test {

inline constexpr LayerSet told{Layer::color,  Layer::depth, Layer::ray_distance,
                               Layer::ending, Layer::room,  Layer::crossings};

/// Double precision, and no trick that depends on where lanes start.
inline Budget exact(int width, int height) {
  Budget budget = Budget{}.reference();
  budget.frame = {width, height, 1};
  budget.light.corners = Corners::none;
  return budget;
}

/// What stands in the room behind portals.
inline std::vector<Field> things() {
  return {field::place({0, 3, 0.4}, field::sphere(0.7)).made_of(1),
          field::place({1.2, 4, 0}, field::box({0.8, 0.8, 3})).made_of(2),
          field::plane({0, 0, 1}, -1).made_of(0)};
}

inline Scene with_materials() {
  Scene scene;
  scene.wall({.base = {0.6f, 0.5f, 0.4f}}, "sand");
  scene.wall({.base = {0.2f, 0.5f, 0.3f}}, "leaf");
  scene.wall({.base = {0.5f, 0.3f, 0.2f}}, "clay");
  return scene;
}

/// The way from a place before a portal to what is beyond it, by the definition: what lies y to the
/// right and z up as one stands before the front comes out y to the left of the way out, z up, at a
/// scale, and going ahead is going that way.
inline Vec3d beyond(const Stance& here, const Stance& there, double scale, const Vec3d& place) {
  const Vec3d own = here.frame().inverse().place(place);
  return there.frame().place(scale * Vec3d(-own.x(), -own.y(), own.z()));
}

/// One lane of a frame, by its log.
inline LaneLog lane_of(const Scene& scene, const Camera& camera, const Budget& budget, int x,
                       int y) {
  return log_lane(compile(scene), camera, budget, x, y);
}

}  // namespace photonlane::test
