// The races of fields: a court of 30 shapes with blends, repetition and twisted columns, a ray, a
// normal and a ray to the sun for each of 960x540 pixels, and scattered shapes.

#include <algorithm>
#include <cmath>

#include "photonlane/photonlane.hpp"
#include "race.hpp"
#include "scattered.hpp"
#include "textbook/court.hpp"

namespace photonlane::bench {
namespace {

constexpr int width = 960;
constexpr int height = 540;

/// The court as a field; textbook::court_distance is the same by hand.
Field court() {
  using namespace field;
  const auto at = [](double x, double y, double z, const Field& part) {
    return place({x, y, z}, part);
  };
  std::vector<Field> parts{
      plane({0, 0, 1}, -0.03),
      repeat({1, 1, 0}, {0, 0, 0}, at(0, 0, -0.06, box({0.96, 0.96, 0.12}, 0.02))),
      carve(0.06, {at(0, 0, 0.3, cylinder(1.4, 0.6, 0.05)), at(0, 0, 0.5, cylinder(1.2, 0.7))}),
      join(0.12, {at(0, 0, 0.75, cone(0.28, 0.12, 1.1)),
                  carve(0.03, {at(0, 0, 1.3, sphere(0.6)), at(0, 0, 1.55, sphere(0.62))}),
                  at(0, 0, 1.55, capsule({0, 0, -0.3}, {0, 0, 0.3}, 0.07)),
                  at(0, 0, 2.02, sphere(0.17))}),
      at(0, 0, 2.8, torus(3.4, 0.1))};
  for (const double x : {2.4, -2.4}) {
    for (const double y : {2.4, -2.4}) {
      const Field shaft = twist(1.3, box({0.36, 0.36, 2.6}, 0.02));
      parts.push_back(at(x, y, 0,
                         join(0.05, {at(0, 0, 1.4, damp(1 / shaft.stretch(), shaft)),
                                     at(0, 0, 0.12, box({0.66, 0.66, 0.24}, 0.03))})));
    }
  }
  const double far = 3.6;
  for (const Vec2d& place : {Vec2d(far, 0), Vec2d(-far, 0), Vec2d(0, far), Vec2d(0, -far)}) {
    parts.push_back(at(place.x(), place.y(), 0,
                       join({carve(0.03, {at(0, 0, 0.35, cone(0.34, 0.48, 0.7)),
                                          at(0, 0, 0.75, cylinder(0.38, 0.4))}),
                             at(0, 0, 1.1, sphere(0.5))})));
  }
  return join(std::move(parts));
}

Scene lit(const Field& field) {
  Scene scene;
  scene.wall({.base = {0.6f, 0.55f, 0.45f}});
  Room& room = scene.room();
  room.fog.color = {0.3f, 0.35f, 0.5f};
  room.fog.start = 1e6;
  room.fog.end = 2e6;
  room.light.ambient = {0.25f, 0.25f, 0.3f};
  room.light.sun = Sun{.heading = 2.2, .elevation = 0.8, .color = {0.7f, 0.65f, 0.5f}};
  room.add(field::made_of(0, field));
  return scene;
}

textbook::Vec vec(const Vec3d& v) {
  return {static_cast<float>(v.x()), static_cast<float>(v.y()), static_cast<float>(v.z())};
}
textbook::Rgb rgb(const Color& color) { return {color[0], color[1], color[2]}; }

void race_court(const std::string& name, std::vector<Race>& races) {
  const Scene scene = lit(court());
  const World world = compile(scene);
  const Camera camera = Camera::look_at({6.5, -5.2, 3.4}, {0, 0, 0.9}, 0.6);
  Budget budget{.frame = {width, height, 1}};
  budget.far_limit = 100;
  budget.light.corners = Corners::none;

  const Viewing seen = viewing(camera, {width, height});
  const Lighting& light = scene.room().light;
  textbook::CourtView view;
  view.eye = vec(camera.eye);
  const Vec3d forward = seen.ray(0, 0);
  view.forward = vec(forward);
  const Vec3d right = seen.right * seen.u(width);
  const Vec3d up = seen.up * seen.v(0);
  view.right = vec(right);
  view.up = vec(up);
  view.sun = vec(sun_direction(*light.sun));
  view.base = rgb(scene.materials.front().base);
  view.ambient = rgb(light.ambient);
  view.sunlight = rgb(light.sun->color);
  view.open = rgb(scene.room().fog.color);

  std::vector<textbook::Rgb> by_hand(static_cast<std::size_t>(width) * height);
  std::vector<textbook::Rgb> by_tree(by_hand.size());
  const auto tree = textbook::court_tree();
  std::uint64_t asked = 0;
  Frame kept;
  const auto frame = [&](int threads, bool pruning, bool cones) {
    Budget own = budget;
    own.field.pruning = pruning;
    own.field.cones = cones;
    return [&, own, threads] {
      kept = render(world, camera, own,
                    {.layers = {Layer::color},
                     .threads = threads,
                     .progress = {},
                     .recycle = std::move(kept)});
    };
  };
  std::vector<Runner> runners{
      {"two threads", frame(2, true, true), {}},
      {"one thread", frame(1, true, true), {}},
      {"one thread, not pruned", frame(1, false, true), {}},
      {"one thread, without cones", frame(1, true, false), {}},
      {"one thread, neither", frame(1, false, false), {}},
      {"function by hand", [&] { asked = textbook::draw_court(view, width, height, by_hand); }, {}},
      {"tree of nodes",
       [&] { textbook::draw_court_tree(view, *tree, width, height, by_tree); },
       {}}};
  run_rounds(runners, 3);
  const double lanes = static_cast<double>(by_hand.size());
  fmt::print("{}: the function by hand is asked {:.1f} times a pixel\n", name,
             static_cast<double>(asked) / lanes);
  for (std::size_t i = 1; i < 5; ++i) {
    runners[i].work();
    fmt::print("{}: {} asks {:.1f} times a pixel, {:.1f} steps\n", name, runners[i].name,
               static_cast<double>(kept.tally.evaluations) / lanes, kept.tally.steps_per_lane());
  }
  runners[0].work();
  std::size_t wrong = 0;
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const float plain = by_hand[static_cast<std::size_t>(y) * width + x].g;
      wrong += std::abs(plain - kept.values(Layer::color, 1)(x, y)) > 0.02f;
    }
  }
  fmt::print("{}: {:.3f} % of the pixels differ from the function by hand\n", name,
             100.0 * static_cast<double>(wrong) / lanes);
  races.push_back(race(name + ": two threads / function by hand", runners[0], runners[5], 40));
  races.push_back(race(name + ": one thread / function by hand", runners[1], runners[5], 20));
  races.push_back(race(name + ": one thread / tree of nodes", runners[1], runners[6], 40));
  for (std::size_t i = 2; i < 5; ++i) {
    races.push_back(
        race(name + ": " + runners[i].name + " / function by hand", runners[i], runners[5], 0));
  }
}

void race_scattered(const std::string& name, bool grows, std::vector<Race>& races) {
  const Camera camera = Camera::look_at({7, -6, 4}, {0, 0, 0.8}, 0.6);
  Budget budget{.frame = {width, height, 1}};
  budget.far_limit = 100;
  budget.light.corners = Corners::none;
  std::vector<World> worlds;
  for (const int count : {30, 300, 3000})
    worlds.push_back(compile(lit(scattered_shapes(count, grows))));
  std::vector<Runner> runners;
  std::vector<double> asked(worlds.size());
  for (std::size_t i = 0; i < worlds.size(); ++i) {
    runners.push_back(
        {fmt::format("{} shapes", std::array{30, 300, 3000}[i]),
         [&, i] {
           const Frame frame =
               render(worlds[i], camera, budget,
                      {.layers = {Layer::color}, .threads = 1, .progress = {}, .recycle = {}});
           asked[i] = static_cast<double>(frame.tally.evaluations) / (width * height);
         },
         {}});
  }
  run_rounds(runners, 5);
  fmt::print("{}: asked {:.1f}, {:.1f}, {:.1f} times a pixel\n", name, asked[0], asked[1],
             asked[2]);
  races.push_back(race(name + ": 300 / 30", runners[1], runners[0], 0.5));
  races.push_back(race(name + ": 3000 / 30", runners[2], runners[0], 0));
}

}  // namespace

void race_fields(const std::string& wanted, std::vector<Race>& races) {
  const auto run = [&](const std::string& name, const auto& work) {
    if (name.find(wanted) != std::string::npos) work(name);
  };
  run("field of 30 shapes", [&](const std::string& name) { race_court(name, races); });
  run("field of scattered shapes, the same in all",
      [&](const std::string& name) { race_scattered(name, false, races); });
  run("field of scattered shapes, as large",
      [&](const std::string& name) { race_scattered(name, true, races); });
}

}  // namespace photonlane::bench
