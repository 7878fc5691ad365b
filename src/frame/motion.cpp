#include "photonlane/frame/motion.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/parallel.hpp"
#include "frame/parts.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

/// How far what an item of a room moves, where it moves as a whole.
class Movers {
 public:
  Movers(const CompiledRoom& now, const CompiledRoom& then) {
    const auto one = now.parts();
    const auto other = then.parts();
    for (std::size_t k = 0; k < std::min(one.size(), other.size()); ++k) {
      if (one[k] != other[k]) pairs_.push_back({one[k].get(), other[k].get()});
    }
  }

  Vec3d moved(const Vec3d& place, std::uint32_t item) const {
    for (const auto& [now, then] : pairs_) {
      const auto here = now->ball(item);
      const auto there = then->ball(item);
      if (!here || !there) continue;
      // Several solids may have an item of that number: the one on which the place lies.
      const double off = std::abs((place - here->middle).norm() - here->radius);
      if (off > 1e-4 * (here->radius + place.cwiseAbs().maxCoeff())) continue;
      return there->middle - here->middle;
    }
    return {0, 0, 0};
  }

 private:
  std::vector<std::pair<const Solid*, const Solid*>> pairs_;
};

}  // namespace

void add_motion(Frame& frame, const World& world, const Camera& camera, const World& next,
                const Camera& next_camera) {
  if (world.plane() != nullptr || next.plane() != nullptr) {
    throw Error(ErrorKind::usage, "planes have no layer motion");
  }
  for (const Layer layer : motion_layers.list()) {
    if (frame.has(layer)) continue;
    throw Error(ErrorKind::usage, std::string("motion goes by the layer ") +
                                      std::string(name_of(layer)) +
                                      ", which the frame does not have");
  }
  const std::size_t room = world.room_index(camera.room);
  if (next.room_index(next_camera.room) != room) {
    throw Error(ErrorKind::usage, "motion between cameras in different rooms, expected one room");
  }
  const Size whole = frame.budget.frame.size();
  const PixelPart part = frame.part.value_or(PixelPart{0, 0, whole});
  const Viewing now = viewing(camera, whole);
  const Viewing then = viewing(next_camera, whole);
  const Movers movers(world.rooms()[room], next.rooms()[room]);
  frame.add(Layer::motion);
  const auto distance = std::as_const(frame).values(Layer::ray_distance);
  const auto item = std::as_const(frame).codes(Layer::cell);
  const auto ending = std::as_const(frame).codes(Layer::ending);
  const auto crossings = std::as_const(frame).codes(Layer::crossings);
  const auto right = frame.values(Layer::motion, 0);
  const auto down = frame.values(Layer::motion, 1);
  parallel_for(0, static_cast<std::size_t>(frame.size().height), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < frame.size().width; ++x) {
      const double px = part.x + x + 0.5;
      const double py = part.y + y + 0.5;
      const Vec3d way = now.ray(now.u(px), now.v(py));
      const double t = static_cast<double>(distance(x, y));
      // What was not met is infinitely far: only turning moves it.
      Vec3d to = way;
      if (ending(x, y) == static_cast<std::uint32_t>(Ending::hit) && std::isfinite(t)) {
        // Behind portals that stay where they are all lies as if the way had been straight.
        Vec3d place = camera.eye + t * way;
        if (crossings(x, y) == 0) place += movers.moved(place, item(x, y));
        to = place - next_camera.eye;
      }
      const auto seen = then.pixel(to);
      constexpr float infinite = std::numeric_limits<float>::infinity();
      right(x, y) = seen ? static_cast<float>(seen->x() - px) : infinite;
      down(x, y) = seen ? static_cast<float>(seen->y() - py) : infinite;
    }
  });
}

}  // namespace photonlane
