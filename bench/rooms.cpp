// The races of rooms: what a crossing costs, a hall by portals against one that is built, and
// swells against straight lanes.

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "race.hpp"

namespace photonlane::bench {
namespace {

constexpr int width = 640;
constexpr int height = 400;

/// Sections of a hall along x, each 4 m: one between a pair of portals, or so many that are built.
Scene hall(int built, bool closed) {
  Scene scene;
  scene.wall({.base = {0.6f, 0.55f, 0.45f}});
  Room& room = scene.room();
  room.fog.start = 1e6;
  room.fog.end = 2e6;
  const auto put = [&](const Field& field) {
    const Field one = field::made_of(0, field);
    room.add(built == 0 ? one
                        : field::place({2.0 * (built - 1), 0, 0},
                                       field::repeat({4, 0, 0}, {double(built), 1, 1}, one)));
  };
  for (const Vec3d& normal : {Vec3d(0, 0, 1), Vec3d(0, 0, -1), Vec3d(0, 1, 0), Vec3d(0, -1, 0)}) {
    room.add(field::made_of(0, field::plane(normal, normal.z() > 0   ? 0
                                                    : normal.z() < 0 ? -3
                                                                     : -2)));
  }
  for (const double side : {-1.5, 1.5}) {
    put(field::join(0.1, {field::place({0, side, 1.5}, field::cylinder(0.2, 3)),
                          field::place({0, side, 0.2}, field::box({0.6, 0.6, 0.4}, 0.05))}));
  }
  put(field::place({1, 1.2, 0.3}, field::sphere(0.3)));
  if (closed) room.add(field::made_of(0, field::plane({-1, 0, 0}, -2)));
  if (built > 0 || closed) return scene;
  Portal west;
  west.name = "west";
  west.opening = {.width = 4, .height = 3};
  west.stance = {.at = {-2, 0, 1.5}};
  west.to = PortalTarget{.portal = "east"};
  Portal east = west;
  east.name = "east";
  east.stance = {.at = {2, 0, 1.5}, .heading = pi};
  east.to = PortalTarget{.portal = "west"};
  room.portals = {west, east};
  return scene;
}

Budget one_ray(int crossings) {
  Budget budget{.frame = {width, height, 1}};
  budget.far_limit = 1000;
  budget.light.corners = Corners::none;
  budget.crossings.limit = crossings;
  return budget;
}

void race_crossings(const std::string& name, std::vector<Race>& races) {
  // So narrow that most lanes go through all the portals.
  const Camera camera{.eye = {-1.9, 0.1, 1.5}, .field_of_view = degrees(3)};
  std::vector<Runner> runners;
  const auto add = [&](const std::string& what, const Scene& scene, int crossings) {
    auto look = std::make_shared<Look>(Look{compile(scene), camera, one_ray(crossings)});
    runners.push_back({what, [look] { (*look)(); }, {}});
    return look;
  };
  add("no portal", hall(0, true), 0);
  std::vector<std::shared_ptr<Look>> looks;
  for (const int count : {1, 4, 16, 64}) {
    looks.push_back(add(fmt::format("{} crossings", count), hall(0, false), count));
  }
  run_rounds(runners, 9);
  for (std::size_t i = 0; i < looks.size(); ++i) {
    const int count = std::array{1, 4, 16, 64}[i];
    const double legs = 1 + static_cast<double>(looks[i]->kept.tally.crossings) / (width * height);
    Race one = race(fmt::format("{}: {} legs / so many plain lanes", name, count + 1),
                    runners[i + 1], runners[0], 0);
    one.ratio *= legs;
    one.spread *= legs;
    one.bar = 1 / 1.2;
    races.push_back(one);
  }
  races.push_back(race(name + ": 64 crossings / 16", runners[4], runners[3], 0));
}

void race_hall(const std::string& name, std::vector<Race>& races) {
  const Camera camera{.eye = {-1.9, 0.1, 1.5}, .field_of_view = degrees(60)};
  Look portals{compile(hall(0, false)), camera, one_ray(32)};
  Look built{compile(hall(33, false)), camera, one_ray(32)};
  std::vector<Runner> runners{{"32 repeats by portals", [&] { portals(); }, {}},
                              {"33 sections built", [&] { built(); }, {}}};
  run_rounds(runners, 9);
  fmt::print("{}: {:.2f} crossings a lane; {:.1f} and {:.1f} evaluations\n", name,
             static_cast<double>(portals.kept.tally.crossings) / (width * height),
             static_cast<double>(portals.kept.tally.evaluations) / (width * height),
             static_cast<double>(built.kept.tally.evaluations) / (width * height));
  races.push_back(race(name + ": by portals / built", runners[0], runners[1], 1));
}

void race_swell(const std::string& name, std::vector<Race>& races) {
  Scene scene = hall(33, false);
  const Camera camera{.eye = {-1.9, 0.1, 1.5}, .field_of_view = degrees(60)};
  Look straight{compile(scene), camera, one_ray(32)};
  scene.room().swells.push_back(
      {.at = {1, 0, 1.4}, .radius = 1.4, .axis = {0, 0, 1}, .stretch = 2});
  Look bent{compile(scene), camera, one_ray(32)};
  bent.budget.crossings.tolerance = 1e-6;
  bent.budget.crossings.steps = 100000;
  bent();
  const Frame best = bent.kept;
  // By each method the loosest tolerance that is good enough, and of those the cheapest.
  struct Choice {
    BendMethod method;
    double tolerance, ms;
  };
  std::optional<Choice> chosen;
  for (const BendMethod method : {BendMethod::second, BendMethod::third, BendMethod::fifth}) {
    bent.budget.crossings.method = method;
    for (const double tolerance : {3e-2, 1e-2, 3e-3, 1e-3, 3e-4, 1e-4}) {
      bent.budget.crossings.tolerance = tolerance;
      bent();
      const double ms = milliseconds([&] { bent(); });
      const double rmse = compare(bent.kept, best).rmse;
      fmt::print("{}: {} at {:g}: RMSE {:.5f}, {:.1f} steps a lane, {:.0f} ms\n", name,
                 name_of(method), tolerance, rmse,
                 static_cast<double>(bent.kept.tally.bent_steps) / (width * height), ms);
      if (rmse > 1e-3) continue;
      if (!chosen || ms < chosen->ms) chosen = Choice{method, tolerance, ms};
      break;
    }
  }
  bent.budget.crossings.method = chosen->method;
  bent.budget.crossings.tolerance = chosen->tolerance;
  std::vector<Runner> runners{
      {fmt::format("bent, {} at {:g}", name_of(chosen->method), chosen->tolerance),
       [&] { bent(); },
       {}},
      {"straight", [&] { straight(); }, {}}};
  run_rounds(runners, 7);
  races.push_back(race(name + ": bent / straight", runners[0], runners[1], 1.0 / 3));
}

}  // namespace

void race_rooms(const std::string& wanted, std::vector<Race>& races) {
  const auto run = [&](const std::string& name, const auto& work) {
    if (name.find(wanted) != std::string::npos) work(name, races);
  };
  run("rooms, crossings", race_crossings);
  run("rooms, hall", race_hall);
  run("rooms, swell", race_swell);
}

}  // namespace photonlane::bench
