// The races of solids that fold: values where lanes march, and lanes to their ends, against the
// same formula one place after another; what leaving out detail and derivatives of nine numbers
// bring.

#include <algorithm>
#include <cmath>

#include "photonlane/photonlane.hpp"
#include "race.hpp"
#include "textbook/folds.hpp"

namespace photonlane::bench {
namespace {

constexpr int width = 480;
constexpr int height = 360;
constexpr int sponge_times = 6;
constexpr int bulb_times = 10;
constexpr float bulb_limit = 8;

float sponge_of(float x, float y, float z) {
  return textbook::sponge_distance(x, y, z, sponge_times);
}
float bulb_of(float x, float y, float z) {
  return textbook::bulb_distance(x, y, z, bulb_times, bulb_limit);
}

/// The rays of a frame, pixel by pixel.
struct Rays {
  std::vector<float> x{}, y{}, z{}, way_x{}, way_y{}, way_z{};

  explicit Rays(const Camera& camera) {
    const Viewing seen = viewing(camera, {width, height});
    for (int row = 0; row < height; ++row) {
      for (int column = 0; column < width; ++column) {
        const Eigen::Vector3f way =
            seen.ray(seen.u(column + 0.5), seen.v(row + 0.5)).normalized().cast<float>();
        const Eigen::Vector3f eye = camera.eye.cast<float>();
        x.push_back(eye.x());
        y.push_back(eye.y());
        z.push_back(eye.z());
        way_x.push_back(way.x());
        way_y.push_back(way.y());
        way_z.push_back(way.z());
      }
    }
  }
  std::size_t size() const { return x.size(); }
};

void race_solid(const std::string& name, const Field& field, textbook::Distance distance,
                const Camera& camera, double bar, std::vector<Race>& races) {
  const CompiledField compiled(field);
  Rays rays(camera);
  std::vector<float> t(rays.size());
  const FieldBudget budget{};
  const auto by_hand = [&] {
    return textbook::march(rays.x.data(), rays.y.data(), rays.z.data(), rays.way_x.data(),
                           rays.way_y.data(), rays.way_z.data(), rays.size(), 20,
                           static_cast<float>(budget.tolerance), static_cast<float>(budget.growth),
                           distance, t.data());
  };
  const std::size_t steps = by_hand();

  // Places a little before the surface, where most steps are taken.
  std::vector<float> x, y, z;
  for (std::size_t i = 0; i < rays.size(); ++i) {
    if (t[i] >= 20) continue;
    const float at = t[i] - 0.02f * static_cast<float>(i % 5);
    x.push_back(rays.x[i] + at * rays.way_x[i]);
    y.push_back(rays.y[i] + at * rays.way_y[i]);
    z.push_back(rays.z[i] + at * rays.way_z[i]);
  }
  std::vector<float> ours(x.size());
  std::vector<float> theirs(x.size());
  std::vector<Runner> values{
      {"values",
       [&] { compiled.distances(x.data(), y.data(), z.data(), x.size(), ours.data()); },
       {}},
      {"by hand",
       [&] {
         for (std::size_t i = 0; i < x.size(); ++i) theirs[i] = distance(x[i], y[i], z[i]);
       },
       {}}};
  run_rounds(values, 7);
  double other = 0;
  for (std::size_t i = 0; i < x.size(); ++i) {
    // Inside ours is a bound that theirs is not.
    if (theirs[i] > 0) other = std::max(other, static_cast<double>(std::abs(ours[i] - theirs[i])));
  }
  races.push_back(race(name + ", values", values[0], values[1], bar));
  fmt::print("{}: {} places, values differ by {:.2g} at most\n", name, x.size(), other);

  Scene scene;
  scene.wall({});
  scene.room().add(field::made_of(0, field));
  Budget frame_budget{.frame = {width, height, 1}};
  frame_budget.far_limit = 20;
  frame_budget.field.normals = FieldNormals::difference;
  Look look{compile(scene), camera, frame_budget, Layer::depth};
  Look cut = look;
  cut.budget.field.detail = 1;
  std::vector<Runner> frames{{"depth of a frame", [&] { look(); }, {}},
                             {"with detail of a pixel", [&] { cut(); }, {}},
                             {"lanes by hand, without normals", by_hand, {}}};
  run_rounds(frames, 5);
  fmt::print("{}: by hand {:.1f} steps a ray, ours {:.1f}, with detail {:.1f}\n", name,
             static_cast<double>(steps) / static_cast<double>(rays.size()),
             look.kept.tally.steps_per_lane(), cut.kept.tally.steps_per_lane());
  races.push_back(race(name + ", a frame", frames[0], frames[2], 0));
  races.push_back(race(name + ", detail of a pixel", frames[1], frames[0], 0));
}

/// What an estimate by nine numbers costs, and how many steps it takes.
void race_derivatives(std::vector<Race>& races) {
  Scene scene;
  scene.wall({});
  const Camera camera = Camera::look_at({0, -2.9, 1.1}, {0, 0, 0}, degrees(45));
  const auto look = [&](FoldDerivative derivative) {
    Scene own = scene;
    own.room().add(field::made_of(0, field::bulb(8, bulb_times, derivative)));
    return Look{compile(own), camera, Budget{.frame = {width, height, 1}}, Layer::depth};
  };
  Look scalar = look(FoldDerivative::scalar);
  Look jacobian = look(FoldDerivative::jacobian);
  std::vector<Runner> runners{{"by one number", [&] { scalar(); }, {}},
                              {"by nine", [&] { jacobian(); }, {}}};
  run_rounds(runners, 3);
  fmt::print("bulb: {:.1f} steps a lane by one number, {:.1f} by nine\n",
             scalar.kept.tally.steps_per_lane(), jacobian.kept.tally.steps_per_lane());
  races.push_back(race("bulb, one number", runners[0], runners[1], 0));
}

/// The nearest places of a sponge, beside its values alone.
void race_nearest(std::vector<Race>& races) {
  const CompiledField compiled(field::sponge(2, sponge_times));
  std::vector<Vec3d> places;
  for (std::uint64_t i = 0; i < 20000; ++i) {
    const auto at = [&](std::uint32_t axis) {
      return 3 * random_uniform({.pixel = i}, axis) - 1.5;
    };
    places.emplace_back(at(0), at(1), at(2));
  }
  std::vector<Runner> runners{{"distances", [&] { compiled.distances(places); }, {}},
                              {"slopes", [&] { compiled.slopes(places); }, {}},
                              {"closest points", [&] { compiled.closest_points(places); }, {}}};
  run_rounds(runners, 5);
  races.push_back(race("sponge, distance beside slope", runners[0], runners[1], 0));
  races.push_back(race("sponge, distance beside closest point", runners[0], runners[2], 0));
}

}  // namespace

void race_folds(const std::string& wanted, std::vector<Race>& races) {
  const auto asked = [&](const char* name) {
    return wanted.empty() || std::string(name).find(wanted) != std::string::npos;
  };
  if (asked("folds sponge")) {
    race_solid("folds sponge", field::sponge(2, sponge_times), sponge_of,
               Camera::look_at({2.4, -3.6, 2.1}, {0, 0, 0}, degrees(42)), 14, races);
  }
  if (asked("folds bulb")) {
    race_solid("folds bulb", field::bulb(8, bulb_times), bulb_of,
               Camera::look_at({0, -2.9, 1.1}, {0, 0, 0}, degrees(45)), 8, races);
  }
  if (asked("folds derivative")) race_derivatives(races);
  if (asked("folds nearest")) race_nearest(races);
}

}  // namespace photonlane::bench
