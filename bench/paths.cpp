// Path-traced light against a path tracer written by hand: balls under a sky and a sun.

#include <cmath>

#include "race.hpp"
#include "textbook/paths.hpp"

namespace photonlane::bench {
namespace {

struct Balls {
  Scene scene;
  Camera camera;
  textbook::PathScene plain;
  textbook::PathView view;
};

/// So many balls of three kinds on a large one.
Balls balls(int count, int width, int height) {
  Balls result;
  Scene& scene = result.scene;
  for (int k = 0; k < 8; ++k) {
    const RandomKey key{3, static_cast<std::uint64_t>(k)};
    const auto part = [&](std::uint32_t d) { return 0.3f + 0.5f * random_uniform(key, d); };
    scene.wall({.base = {part(0), part(1), part(2)}}, "clay");
  }
  scene.wall({.base = {0.9f, 0.85f, 0.7f}, .metal = 1}, "mirror");
  scene.wall({.base = {1, 1, 1}, .opacity = 0, .index = 1.5}, "glass");
  Spheres spheres;
  const double side = std::sqrt(static_cast<double>(count)) * 0.7;
  const auto add = [&](const Vec3d& at, double radius, int material) {
    spheres.spheres.push_back({.center = at, .radius = radius, .material = material});
    const Material& of = scene.materials[static_cast<std::size_t>(material)];
    result.plain.balls.push_back({static_cast<float>(at.x()), static_cast<float>(at.y()),
                                  static_cast<float>(at.z()), static_cast<float>(radius),
                                  of.base[0], of.base[1], of.base[2],
                                  material == 8   ? 1
                                  : material == 9 ? 2
                                                  : 0});
  };
  add({0, 0, -200}, 200, 0);
  for (int i = 1; i < count; ++i) {
    const RandomKey key{7, static_cast<std::uint64_t>(i)};
    const double radius = 0.15 + 0.3 * static_cast<double>(random_uniform(key, 0));
    const double x = side * (static_cast<double>(random_uniform(key, 1)) - 0.5);
    const double y = side * (static_cast<double>(random_uniform(key, 2)) - 0.5);
    const double ground = -200 + std::sqrt(200.0 * 200 - x * x - y * y);
    add({x, y, ground + radius}, radius, i % 10);
  }
  scene.room().add(std::move(spheres));
  scene.room().fog = {.color = {0, 0, 0}, .start = 1e6, .end = 2e6};
  scene.room().sky = Sky{};
  scene.room().light.sun =
      Sun{.heading = 2.4, .elevation = 0.6, .color = {1, 1, 1}, .size = degrees(8)};
  result.camera = Camera::look_at({0, -0.7 * side - 2, 1.8}, {0, 0, 0.2}, degrees(45));
  const Vec3d toward = sun_direction(*scene.room().light.sun);
  for (int axis = 0; axis < 3; ++axis) result.plain.sun[axis] = static_cast<float>(toward[axis]);
  result.plain.sun_color = 1;
  result.plain.sun_cosine = static_cast<float>(std::cos(0.5 * degrees(8)));
  const Viewing seen = viewing(result.camera, {width, height});
  result.view = {width, height, {}, {}, {}, {}, static_cast<float>(seen.focal)};
  for (int axis = 0; axis < 3; ++axis) {
    result.view.eye[axis] = static_cast<float>(result.camera.eye[axis]);
    result.view.forward[axis] = static_cast<float>(seen.forward[axis]);
    result.view.right[axis] = static_cast<float>(seen.right[axis]);
    result.view.up[axis] = static_cast<float>(seen.up[axis]);
  }
  return result;
}

/// Prints what a frame takes where none, a tenth or all of the balls have moved since the last one;
/// only where it is asked for by name.
void tell_moving(const std::string& wanted) {
  if (wanted != "moving balls") return;
  for (const int count : {64, 1000, 4000}) {
    for (const double share : {0.0, 0.1, 1.0}) {
      Balls all = balls(count, 480, 270);
      Budget budget;
      budget.frame.width = 480;
      budget.frame.height = 270;
      budget.bounces.limit = 100;
      budget.light.transport = Transport::paths;
      World world = compile(all.scene);
      std::vector<double> changing, frames;
      for (int round = -1; round < 7; ++round) {
        Scene scene = all.scene;
        auto spheres = static_cast<const Spheres&>(*scene.room().parts.front());
        for (std::size_t i = 1; i < spheres.spheres.size(); ++i) {
          const bool moves = static_cast<double>(i) < share * count;
          if (moves) spheres.spheres[i].center.x() += 0.01 * (round + 2);
        }
        if (share > 0) {
          scene.room().parts.clear();
          scene.room().add(spheres);
        }
        const double change = milliseconds([&] { world = compile(scene, world); });
        const double frame = milliseconds([&] {
          render(world, all.camera, budget,
                 {.layers = {Layer::display}, .threads = 2, .progress = {}, .recycle = {}});
        });
        if (round < 0) continue;
        changing.push_back(change);
        frames.push_back(frame);
      }
      fmt::print("{} balls, {:.0f} % of them moved: world {:.3f} ms, frame {:.1f} ms\n", count,
                 100 * share, summarize(changing).median, summarize(frames).median);
    }
  }
}

}  // namespace

void race_paths(const std::string& wanted, std::vector<Race>& races) {
  tell_moving(wanted);
  struct Case {
    int count, width, height, rounds;
    double bar;
  };
  for (const Case& one : {Case{64, 960, 540, 5, 20}, Case{1000, 480, 270, 5, 40}}) {
    const std::string name = fmt::format("paths among {} balls, two threads", one.count);
    if (name.find(wanted) == std::string::npos) continue;
    constexpr int samples = 4;
    const Balls all = balls(one.count, one.width, one.height);
    Budget budget;
    budget.frame.width = one.width;
    budget.frame.height = one.height;
    budget.frame.samples = samples;
    budget.bounces.limit = 100;
    budget.light.transport = Transport::paths;
    const World world = compile(all.scene);
    Frame frame;
    std::vector<float> picture;
    std::vector<Runner> runners{
        {"photonlane",
         [&] {
           frame =
               render(world, all.camera, budget,
                      {.layers = {Layer::radiance}, .threads = 2, .progress = {}, .recycle = {}});
         },
         {}},
        {"by hand, one thread",
         [&] { textbook::trace_paths(all.plain, all.view, samples, 100, picture); },
         {}}};
    run_rounds(runners, one.rounds);
    // Both are of the same light.
    double ours = 0;
    double theirs = 0;
    for (int y = 0; y < one.height; ++y) {
      for (const float value : frame.values(Layer::radiance, 1).row(y)) {
        ours += static_cast<double>(value);
      }
    }
    for (std::size_t i = 1; i < picture.size(); i += 3) theirs += static_cast<double>(picture[i]);
    fmt::print("{}: mean radiance {:.5f}, by hand {:.5f}\n", name, ours / (one.width * one.height),
               theirs / (one.width * one.height));
    races.push_back(race(name, runners[0], runners[1], one.bar));
  }
}

}  // namespace photonlane::bench
