#pragma once

#include "photonlane/io/picture.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane::io {

/// From meters to pixels of the plan, north up.
struct PlanScale {
  double scale, left, top, height;
  Vec2d corner{0, 0};  ///< the south-western one
  double x(double meters) const { return left + (meters - corner.x()) * scale; }
  double y(double meters) const { return top + (height - (meters - corner.y())) * scale; }
  Vec2d place(double x, double y) const {
    return corner + Vec2d((x - left) / scale, height - (y - top) / scale);
  }
};

/// Places in a room's plan besides what stands in it, which are to be on it.
using PlanPlaces = std::vector<Vec2d>;

/// How a room fits into a picture of a size.
PlanScale fit_room(const Room& room, const CompiledRoom& compiled, const PlanPlaces& places,
                   Size size);

/// A room from above, north on top: its cells, or a level cut through its fields at a height.
Picture paint_room(const Scene& scene, std::size_t room, const World& world, const PlanScale& frame,
                   double height, Size size);

/// What a material looks like from far away: its base times the mean of its texture.
std::vector<Color> mean_colors(const Scene& scene);

}  // namespace photonlane::io
