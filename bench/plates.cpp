// The races of plates: what a frame costs of which a plate hides four fifths, and what it takes to
// make a plate ready, beside copying its bytes.

#include <algorithm>
#include <limits>

#include "photonlane/photonlane.hpp"
#include "race.hpp"
#include "scattered.hpp"

namespace photonlane::bench {
namespace {

/// A wall 1.5 m before the camera that hides so much of the frame from the left on.
struct Wall {
  Size size;
  std::vector<float> gray, alpha, depth;

  Wall(Size its_size, double share) : size(its_size) {
    const auto count = static_cast<std::size_t>(size.width) * static_cast<std::size_t>(size.height);
    gray.assign(count, 0.5f);
    alpha.assign(count, 1.0f);
    depth.assign(count, 1.5f);
    for (std::size_t i = 0; i < count; ++i) {
      const auto x = static_cast<double>(i % static_cast<std::size_t>(size.width));
      if (x >= share * size.width) alpha[i] = 0;
    }
  }
  Plate plate(const Camera& camera) const {
    const auto image = [&](const std::vector<float>& plane) {
      return PlateImage{size, plane.data(), 1, size.width, {}};
    };
    Plate plate;
    plate.camera = camera;
    plate.red = plate.green = plate.blue = image(gray);
    plate.alpha = image(alpha);
    plate.depth = image(depth);
    return plate;
  }
};

void race_hidden(const std::string& name, std::vector<Race>& races) {
  const Size size{960, 540};
  const Camera camera = Camera::look_at({7, -6, 4}, {0, 0, 0.8}, 0.6);
  const Wall wall(size, 0.8);
  // Lit by the sky alone, and with shadows, which plates are asked for twice.
  for (const bool sunny : {false, true}) {
    Scene open;
    open.wall({.base = {0.6f, 0.55f, 0.45f}});
    Room& room = open.room();
    room.fog.start = 1e6;
    room.fog.end = 2e6;
    room.light.ambient = {0.25f, 0.25f, 0.3f};
    if (sunny) room.light.sun = Sun{.heading = 2.2, .elevation = 0.8};
    room.add(field::made_of(0, scattered_shapes(300, false)));
    Scene hidden = open;
    hidden.room().add(wall.plate(camera));
    Budget budget{.frame = {size.width, size.height, 1}};
    budget.far_limit = 100;
    budget.light.corners = Corners::none;
    std::vector<Runner> runners{{"with a plate", Look{compile(hidden), camera, budget}, {}},
                                {"without", Look{compile(open), camera, budget}, {}}};
    run_rounds(runners, 7);
    races.push_back(race(name + (sunny ? ", sun and shadows" : ", no sun"), runners[0], runners[1],
                         sunny ? 0 : 1 / 0.3));
  }
}

void race_ready(const std::string& name, std::vector<Race>& races) {
  const Size size{1920, 1080};
  const Wall wall(size, 0.8);
  const Plate plate = wall.plate(Camera{});
  std::vector<std::vector<float>> copies(5);
  std::size_t bytes = 0;
  std::vector<Runner> runners{
      {"plate made ready", [&] { bytes += plate.compile({})->memory_bytes(); }, {}},
      {"bytes copied",
       [&] {
         std::size_t at = 0;
         for (const auto* plane : {&wall.gray, &wall.gray, &wall.gray, &wall.alpha, &wall.depth}) {
           copies[at++] = *plane;
         }
       },
       {}}};
  run_rounds(runners, 9);
  races.push_back(race(name, runners[0], runners[1], 1.0 / 3));
}

}  // namespace

void race_plates(const std::string& wanted, std::vector<Race>& races) {
  const auto run = [&](const std::string& name, const auto& work) {
    if (name.find(wanted) != std::string::npos) work(name, races);
  };
  run("plate that hides 80 %: with / without", race_hidden);
  run("plate of 1920x1080: ready / copied", race_ready);
}

}  // namespace photonlane::bench
