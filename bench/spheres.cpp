// Sets of spheres against the tree that is written first: making it, and lanes from the eye and
// toward the sun; moving spheres; and, asked for by name, a table by size.

#include <sys/resource.h>

#include <cmath>
#include <numbers>

#include "eye_lanes.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "race.hpp"
#include "textbook/spheres.hpp"

namespace photonlane::bench {
namespace {

/// A disc of spheres twenty times as wide as high, as single numbers in memory.
struct Disc {
  struct Place {
    float x, y, z;
  };
  std::vector<Place> places;
  double radius = 0;

  explicit Disc(std::uint64_t count) : places(count) {
    radius = 0.25 * std::cbrt(60.0 * 60.0 * 3.0 / static_cast<double>(count));
    for (std::uint64_t i = 0; i < count; ++i) {
      const RandomKey key{.seed = 7, .pixel = i};
      const float away = 30 * std::sqrt(random_uniform(key, 0));
      const SineCosine turn =
          sine_cosine(2 * std::numbers::pi * static_cast<double>(random_uniform(key, 1)));
      places[i] = {away * static_cast<float>(turn.cosine), away * static_cast<float>(turn.sine),
                   3 * (random_uniform(key, 2) - 0.5f)};
    }
  }
  std::shared_ptr<const SphereSet> set(SphereKeeping keeping = SphereKeeping::compact) const {
    StridedSpheres source;
    source.count = places.size();
    source.center = &places[0].x;
    source.radius = radius;
    return SphereSet::make(source, {.keeping = keeping, .working_file = {}, .progress = {}});
  }
  std::vector<textbook::SphereTree::Ball> balls() const {
    std::vector<textbook::SphereTree::Ball> all;
    for (const Place& at : places) all.push_back({at.x, at.y, at.z, static_cast<float>(radius)});
    return all;
  }
};

textbook::SphereTree::Ray ray(const LaneBatch<float>& lanes, std::size_t i) {
  return {lanes.x[i],           lanes.y[i],           lanes.z[i], lanes.direction_x[i],
          lanes.direction_y[i], lanes.direction_z[i], 4096};
}

using bench::hide;
using bench::meet;

void meet(const textbook::SphereTree& tree, const std::vector<LaneBatch<float>>& all) {
  for (const LaneBatch<float>& lanes : all) {
    for (std::size_t i = 0; i < lanes.size; ++i) {
      float t = 0;
      found += static_cast<double>(tree.nearest(ray(lanes, i), t));
    }
  }
}
void hide(const textbook::SphereTree& tree, const std::vector<LaneBatch<float>>& all) {
  for (const LaneBatch<float>& lanes : all) {
    for (std::size_t i = 0; i < lanes.size; ++i) found += tree.hides(ray(lanes, i)) ? 1 : 0;
  }
}

bool named(const std::string& name, const std::string& wanted) {
  return name.find(wanted) != std::string::npos;
}

void race_size(std::uint64_t count, const std::string& words, int rounds, const std::string& wanted,
               std::vector<Race>& races) {
  const std::string making = "spheres: making, " + words;
  const std::string eye = "spheres: from the eye, " + words;
  const std::string sun = "spheres: toward the sun, " + words;
  const std::string memory = "spheres: memory, " + words;
  if (!named(making, wanted) && !named(eye, wanted) && !named(sun, wanted)) return;
  const Disc disc(count);
  const auto balls = disc.balls();
  std::shared_ptr<const SphereSet> set;
  std::unique_ptr<textbook::SphereTree> tree;
  std::vector<Runner> makers{
      {"set", [&] { set = disc.set(); }, {}},
      {"textbook tree", [&] { tree = std::make_unique<textbook::SphereTree>(balls); }, {}}};
  for (int round = 0; round < rounds; ++round) {
    for (Runner& maker : makers) maker.times.push_back(milliseconds(maker.work));
  }
  races.push_back(race(making, makers[0], makers[1], 6));
  Race bytes{memory,
             static_cast<double>(tree->bytes()) / static_cast<double>(set->bytes()),
             0,
             5,
             fmt::format("set {:.2f} bytes",
                         static_cast<double>(set->bytes()) / static_cast<double>(count)),
             fmt::format("textbook tree {:.2f} bytes",
                         static_cast<double>(tree->bytes()) / static_cast<double>(count))};
  races.push_back(bytes);
  const auto solid = Spheres(set).compile({.materials = 1});
  const EyeLanes lanes(*solid, Camera::look_at({0, -55, 25}, {0, 0, 0}, degrees(66)),
                       {0.5f, 0.3f, 0.4f});
  std::vector<Runner> eyes{{"set", [&] { meet(*solid, lanes.eye); }, {}},
                           {"textbook tree", [&] { meet(*tree, lanes.eye); }, {}}};
  run_rounds(eyes, 5);
  races.push_back(race(eye, eyes[0], eyes[1], 4));
  std::vector<Runner> suns{{"set", [&] { hide(*solid, lanes.sun); }, {}},
                           {"textbook tree", [&] { hide(*tree, lanes.sun); }, {}}};
  run_rounds(suns, 5);
  races.push_back(race(sun, suns[0], suns[1], 4));
}

/// Moving all of so many: the update against the frame that follows.
void race_moving(const std::string& wanted, std::vector<Race>& races) {
  const std::string name = "spheres: a frame against moving all of 100,000";
  if (!named(name, wanted)) return;
  const Disc disc(100000);
  std::vector<Sphere> all;
  for (const Disc::Place& at : disc.places) {
    all.push_back(
        {Vec3d(static_cast<double>(at.x), static_cast<double>(at.y), static_cast<double>(at.z)),
         disc.radius, -1});
  }
  MovingSpheres moving(all, 1);
  std::vector<Vec3d> centers(all.size());
  int step = 0;
  std::vector<Runner> runners{{"update",
                               [&] {
                                 ++step;
                                 for (std::size_t i = 0; i < all.size(); ++i) {
                                   centers[i] = all[i].center + 0.01 * step * Vec3d(1, 0.3, 0.1);
                                 }
                                 moving.move(centers);
                               },
                               {}},
                              {"frame at 640x400", [] {}, {}}};
  const auto solid = Spheres(moving.set()).compile({.materials = 1});
  const EyeLanes lanes(*solid, Camera::look_at({0, -55, 25}, {0, 0, 0}, degrees(66)),
                       {0.5f, 0.3f, 0.4f});
  runners[1].work = [&] {
    const auto now = Spheres(moving.set()).compile({.materials = 1});
    meet(*now, lanes.eye);
    hide(*now, lanes.sun);
  };
  run_rounds(runners, 5);
  races.push_back(race(name, runners[0], runners[1], 3));
}

/// What each size costs, and each way to move.
void tell_sizes(const std::string& wanted) {
  if (wanted != "large spheres" && wanted != "some spheres") return;
  const std::uint64_t most = wanted == "large spheres" ? 256000000 : 4000000;
  fmt::print("{:>11} {:>7} {:>6} {:>7} {:>7} {:>7} {:>7} {:>6} {:>6} {:>6}\n", "spheres", "make s",
             "times", "B each", "peak B", "Meye/s", "Msun/s", "eye", "sun", "spread");
  double before = 0;
  for (std::uint64_t count = 1000000; count <= most; count *= 2) {
    const Disc disc(count);
    std::shared_ptr<const SphereSet> set;
    const double made = milliseconds([&] { set = disc.set(); }) / 1000;
    const auto solid = Spheres(set).compile({.materials = 1});
    const EyeLanes lanes(*solid, Camera::look_at({0, -55, 25}, {0, 0, 0}, degrees(66)),
                         {0.5f, 0.3f, 0.4f});
    std::vector<Runner> runners{{"eye", [&] { meet(*solid, lanes.eye); }, {}},
                                {"sun", [&] { hide(*solid, lanes.sun); }, {}}};
    run_rounds(runners, 3);
    std::size_t suns = 0;
    for (const LaneBatch<float>& batch : lanes.sun) suns += batch.size;
    const Statistics eye = summarize(runners[0].times);
    const Statistics sun = summarize(runners[1].times);
    fmt::print(
        "{:>11} {:>7.2f} {:>6.2f} {:>7.2f} {:>7.2f} {:>7.2f} {:>7.2f} {:>6.0f} {:>6.0f} "
        "{:>5.0f}%\n",
        count, made, before > 0 ? made / before : 1,
        static_cast<double>(set->bytes()) / static_cast<double>(count),
        static_cast<double>(set->cost().peak_bytes) / static_cast<double>(count),
        EyeLanes::wide * EyeLanes::high / eye.median / 1000,
        static_cast<double>(suns) / sun.median / 1000, eye.median, sun.median,
        100 * eye.spread / eye.median);
    std::fflush(stdout);
    before = made;
  }
  fmt::print("\nmoving, on one thread: ms for each, by how far all go\n");
  for (const std::size_t count : {64u, 1000u, 100000u, 10000000u}) {
    if (count > most) break;
    const Disc disc(count);
    std::vector<Sphere> all;
    for (const Disc::Place& at : disc.places) {
      all.push_back(
          {Vec3d(static_cast<double>(at.x), static_cast<double>(at.y), static_cast<double>(at.z)),
           disc.radius, -1});
    }
    MovingSpheres moving(all, 1);
    std::vector<Vec3d> centers(count);
    const auto all_by = [&](double far) {
      for (std::size_t i = 0; i < count; ++i) {
        const RandomKey key{.seed = 5, .pixel = i};
        centers[i] = all[i].center + far * (Vec3d(random_uniform(key, 0), random_uniform(key, 1),
                                                  random_uniform(key, 2)) -
                                            Vec3d::Constant(0.5));
      }
      return moving.move(centers);
    };
    std::string line = fmt::format("{:>9}", count);
    for (const double far : {0.5 * disc.radius, 60.0}) {
      const SphereUpdate update = all_by(far);
      line += fmt::format("  all {:.3g} ({}, grown {:.2f})", 1000 * update.seconds,
                          name_of(update.kind), update.grown);
    }
    const std::uint32_t which[] = {7};
    const Vec3d to[] = {{1, 2, 0}};
    double least = 1e9;
    for (int i = 0; i < 5; ++i) least = std::min(least, moving.move(which, to).seconds);
    fmt::print("{}  one {:.3g}\n", line, 1000 * least);
  }
}

}  // namespace

void race_spheres(const std::string& wanted, std::vector<Race>& races) {
  tell_sizes(wanted);
  race_size(1000000, "1 million", 3, wanted, races);
  if (wanted == "10 million" || wanted == "spheres: all")
    race_size(10000000, "10 million", 1, "10 million", races);
  race_moving(wanted, races);
}

}  // namespace photonlane::bench
