#include "frame/pixel_sums.hpp"

namespace photonlane {

PixelSums::Slot PixelSums::slot(const Onward& lane) const {
  const int x = static_cast<int>(lane.x) - blocks.front().x;
  const int y = static_cast<int>(lane.y) - blocks.front().y;
  const int column = x / block_width_;
  const int row = y / block_height_;
  const std::size_t block = static_cast<std::size_t>(row) * across_ + column;
  return {block, static_cast<std::size_t>((y - row * block_height_) * blocks[block].width + x -
                                          column * block_width_)};
}

void PixelSums::add(const Onward& lane, float red, float green, float blue) {
  const Slot at = slot(lane);
  Colors& sums = blocks[at.block].sums;
  sums.red[at.lane] += red;
  sums.green[at.lane] += green;
  sums.blue[at.lane] += blue;
}

void PixelSums::uncover(const Onward& lane, float share) {
  const Slot at = slot(lane);
  blocks[at.block].sums.alpha[at.lane] += share;
}

void PixelSums::spend(const Onward& lane, float ticks, float work) {
  const Slot at = slot(lane);
  blocks[at.block].followed_ticks[at.lane] += ticks;
  blocks[at.block].followed_work[at.lane] += work;
}

void PixelSums::settle(const Onward& lane, const Surfaces& surfaces, std::size_t i) {
  const Slot at = slot(lane);
  Surfaces& solid = blocks[at.block].seen.surfaces;
  solid.copy(surfaces, i, at.lane);
  solid.steps[at.lane] += lane.steps;
  solid.evaluations[at.lane] += lane.evaluations;
  solid.room[at.lane] = lane.room;
  solid.crossings[at.lane] = lane.crossings;
  solid.any_curved = solid.any_curved || surfaces.face[i] == Face::curved;
  solid.any_panel = solid.any_panel || surfaces.face[i] == Face::panel;
  // As if the way had been straight, in the eye's measure.
  const double t = (lane.path + static_cast<double>(lane.metric * surfaces.t[i])) / lane.scale;
  const Vec3d way = view_.ray(view_.u(lane.x + 0.5), view_.v(lane.y + 0.5));
  solid.t[at.lane] = static_cast<float>(t);
  solid.x[at.lane] = static_cast<float>(t * way.x());
  solid.y[at.lane] = static_cast<float>(t * way.y());
  solid.z[at.lane] = static_cast<float>(t * way.z());
}

}  // namespace photonlane
