#include "photonlane/room/swell.hpp"

#include <gtest/gtest.h>

#include <cmath>

#include "support/scenes.hpp"

namespace photonlane {
namespace {

const Swell swell{.at = {0, 0, 0}, .radius = 2, .axis = {0.2, 0.1, 1}, .stretch = 2.5};

/// A lane all through the swell, by steps within a tolerance.
struct Passed {
  BentLane end;
  double length = 0;
  double worst_energy = 0;
  int steps = 0;
};

Passed pass(const Vec3d& from, const Vec3d& way, double tolerance,
            BendMethod method = BendMethod::fifth) {
  Passed result{bent_lane(swell, from, way)};
  double stride = 1;
  do {
    const BentStep step = bend_on(swell, result.end, stride, tolerance, method);
    result.end = step.end;
    result.length += step.length;
    stride = step.next;
    result.worst_energy = std::max(result.worst_energy, std::abs(energy(swell, result.end) - 1));
    ++result.steps;
  } while (result.end.place.norm() < swell.radius && result.steps < 1'000'000);
  return result;
}

const Vec3d from(-1.9, 0.3, -0.5);
const Vec3d way = Vec3d(1, 0.1, 0.35).normalized();

TEST(Swells, StretchAlongTheAxisAndFadeOut) {
  EXPECT_NEAR(swell_factor(swell, {0, 0, 0}).stretch, 2.5, 1e-12);
  EXPECT_EQ(swell_factor(swell, {0, 2.1, 0}).stretch, 1);
  // The slope is that of the factor.
  const Vec3d at(0.4, -0.7, 0.5);
  const SwellFactor factor = swell_factor(swell, at);
  for (int axis = 0; axis < 3; ++axis) {
    const Vec3d step = 1e-5 * Vec3d::Unit(axis);
    const double difference =
        swell_factor(swell, at + step).stretch - swell_factor(swell, at - step).stretch;
    EXPECT_NEAR(factor.slope[axis], difference / 2e-5, 1e-6);
  }
}

TEST(Swells, KeepTheEnergyToTheTolerance) {
  for (const double tolerance : {1e-3, 1e-5, 1e-7}) {
    EXPECT_LT(pass(from, way, tolerance).worst_energy, 10 * tolerance);
  }
}

TEST(Swells, ErrorsShrinkWithTheTolerance) {
  const Passed best = pass(from, way, 1e-11);
  const auto off = [&](double tolerance) {
    const Passed one = pass(from, way, tolerance);
    // The last step ends beyond the rim: back to the same place along it.
    const Vec3d along = one.end.momentum.normalized();
    const Vec3d between = best.end.place - one.end.place;
    return (between - between.dot(along) * along).norm();
  };
  EXPECT_LT(off(1e-3), 2e-2);
  EXPECT_LT(off(1e-5), 2e-4);
  EXPECT_LT(off(1e-7), 2e-6);
  EXPECT_GT(pass(from, way, 1e-7).steps, pass(from, way, 1e-3).steps);
}

TEST(Swells, MethodsAreOfTheirOrders) {
  // Short steps of one length: half of it leaves an error smaller by two to the order's power.
  const Passed best = pass(from, way, 1e-12);
  const auto error = [&](BendMethod method, double length) {
    Passed one{bent_lane(swell, from, way)};
    for (double left = 1.6; left > 1e-9; left -= length) {
      one.end = bend_on(swell, one.end, length, 1, method).end;
    }
    Passed fine{bent_lane(swell, from, way)};
    for (int i = 0; i < 1024; ++i) {
      fine.end = bend_on(swell, fine.end, 1.6 / 1024, 1, BendMethod::fifth).end;
    }
    return (one.end.place - fine.end.place).norm();
  };
  const int orders[] = {2, 3, 5};
  for (const BendMethod method : {BendMethod::second, BendMethod::third, BendMethod::fifth}) {
    const int order = orders[static_cast<int>(method)];
    const double ratio = error(method, 0.1) / error(method, 0.05);
    EXPECT_GT(ratio, 0.6 * std::pow(2, order)) << name_of(method);
    EXPECT_LT(pass(from, way, 1e-6, method).worst_energy, 1e-4) << name_of(method);
    const Passed one = pass(from, way, 1e-6, method);
    EXPECT_LT((way_of(swell, one.end) - way_of(swell, best.end)).norm(), 1e-4) << name_of(method);
  }
  // The lower the order the more steps for the same.
  EXPECT_GE(pass(from, way, 1e-9, BendMethod::second).steps,
            pass(from, way, 1e-9, BendMethod::fifth).steps);
}

TEST(Swells, LanesRunBackTheWayTheyCame) {
  const Passed there = pass(from, way, 1e-9);
  Passed back;
  back.end = {there.end.place, -there.end.momentum};
  double left = there.length;
  while (left > 1e-12) {
    const BentStep step = bend_on(swell, back.end, left, 1e-9);
    back.end = step.end;
    left -= step.length;
  }
  EXPECT_LT((back.end.place - from).norm(), 1e-6);
}

TEST(Swells, AreTheShortestWay) {
  // The length of a broken line by the metric, from end to end of a lane, bent a little off it.
  std::vector<Vec3d> places{from};
  BentLane lane = bent_lane(swell, from, way);
  double length = 0;
  while (length < 2.5) {
    const BentStep step = bend_on(swell, lane, 0.02, 1e-8);
    lane = step.end;
    length += step.length;
    places.push_back(lane.place);
  }
  const Vec3d axis = swell.axis.normalized();
  const auto measure = [&](const Vec3d& off) {
    double sum = 0;
    for (std::size_t i = 0; i + 1 < places.size(); ++i) {
      const double share = static_cast<double>(i) / (places.size() - 1);
      const double next = static_cast<double>(i + 1) / (places.size() - 1);
      const Vec3d a = places[i] + std::sin(pi * share) * off;
      const Vec3d b = places[i + 1] + std::sin(pi * next) * off;
      const double stretch = swell_factor(swell, 0.5 * (a + b)).stretch;
      const double along = axis.dot(b - a);
      sum += std::sqrt((b - a).squaredNorm() + (stretch * stretch - 1) * along * along);
    }
    return sum;
  };
  EXPECT_NEAR(measure({0, 0, 0}), length, 1e-4);
  for (const Vec3d& off :
       {Vec3d(0, 0.03, 0), Vec3d(0, -0.03, 0), Vec3d(0, 0, 0.03), Vec3d(0, 0, -0.03)}) {
    EXPECT_GT(measure(off), measure({0, 0, 0}));
  }
}

Scene pool_scene(double stretch) {
  Scene scene;
  scene.wall({.base = {0.6f, 0.5f, 0.4f}}, "sand");
  scene.room().add(field::place({0, 3, 0}, field::box({9, 0.5, 9})).made_of(0));
  scene.room().add(field::place({0.3, 0.4, 0.2}, field::sphere(0.3)).made_of(0));
  scene.room().swells.push_back(
      {.at = {0, 0, 0}, .radius = 1.5, .axis = {0, 0, 1}, .stretch = stretch});
  return scene;
}

TEST(Swells, OfNoStretchAreNotSeen) {
  const Camera camera = Camera::look_at({0, -4, 0.3}, {0, 0, 0}, degrees(50));
  Budget budget = Budget{}.reference();
  budget.frame = {40, 25, 1};
  const Frame bent = render(compile(pool_scene(1)), camera, budget,
                            test::with_layers({Layer::ray_distance, Layer::ending}));
  Scene plain = pool_scene(1);
  plain.room().swells.clear();
  const Frame straight =
      render(compile(plain), camera, budget, test::with_layers({Layer::ray_distance}));
  for (int y = 0; y < 25; ++y) {
    for (int x = 0; x < 40; ++x) {
      const float expected = straight.values(Layer::ray_distance)(x, y);
      const float found = bent.values(Layer::ray_distance)(x, y);
      EXPECT_TRUE(found == expected || std::abs(found - expected) < 2e-4f) << found;
    }
  }
}

TEST(Swells, FramesConvergeWithTheTolerance) {
  const World world = compile(pool_scene(3));
  // The eye within too, so that lanes are bent from their start on.
  for (const Vec3d& eye : {Vec3d(0, -4, 0.3), Vec3d(0.2, -0.8, -0.1)}) {
    const Camera camera = Camera::look_at(eye, {0, 1, 0.2}, degrees(50));
    const auto ends = [&](double tolerance) {
      Budget budget = Budget{}.reference();
      budget.frame = {20, 12, 1};
      budget.crossings.tolerance = tolerance;
      std::vector<Vec3d> places;
      for (int i = 0; i < 8; ++i) {
        const LaneLog log = log_lane(world, camera, budget, 4 + i, 2 + i);
        places.push_back(log.legs.back().meetings.back().place);
      }
      return places;
    };
    const std::vector<Vec3d> best = ends(1e-6);
    const auto error = [&](double tolerance) {
      const std::vector<Vec3d> places = ends(tolerance);
      std::vector<double> errors;
      for (std::size_t i = 0; i < places.size(); ++i) {
        errors.push_back((places[i] - best[i]).norm());
      }
      std::sort(errors.begin(), errors.end());
      return errors[5];
    };
    const double coarse = error(1e-2);
    const double fine = error(1e-4);
    EXPECT_LT(coarse, 0.2);
    EXPECT_LT(fine, 2e-3);
    EXPECT_LT(fine, coarse / 4);
  }
}

TEST(Swells, StepsAreCountedAndGrowAsTheToleranceFalls) {
  const World world = compile(pool_scene(3));
  const Camera camera = Camera::look_at({0, -4, 0.3}, {0, 0, 0}, degrees(20));
  std::uint64_t before = 0;
  for (const double tolerance : {1e-2, 1e-3, 1e-4}) {
    Budget budget{.frame = {40, 25, 1}};
    budget.crossings.tolerance = tolerance;
    budget.crossings.method = BendMethod::second;
    const Frame second = render(world, camera, budget, test::with_layers({Layer::color}));
    EXPECT_GT(second.tally.bent_steps, before);
    before = second.tally.bent_steps;
    budget.crossings.method = BendMethod::fifth;
    const Frame fifth = render(world, camera, budget, test::with_layers({Layer::color}));
    EXPECT_LE(fifth.tally.bent_steps, before);
    EXPECT_EQ(fifth.tally.crossings, 0u);
  }
}

TEST(Swells, OutOfStepsIsSpent) {
  Budget budget;
  budget.frame = {40, 25, 1};
  budget.crossings.steps = 2;
  budget.crossings.tolerance = 1e-5;
  const Camera camera = Camera::look_at({0, -4, 0.3}, {0, 0, 0}, degrees(20));
  const Frame frame = render(compile(pool_scene(3)), camera, budget,
                             test::with_layers({Layer::color, Layer::ending}));
  EXPECT_GT(frame.tally.spent, 500u);
  EXPECT_EQ(frame.codes(Layer::ending)(20, 2), static_cast<std::uint32_t>(Ending::spent));
}

TEST(Swells, RefuseWhatCannotBe) {
  const auto message = [](const Swell& one) -> std::string {
    Scene scene = pool_scene(2);
    scene.room().swells = {one};
    try {
      compile(scene);
    } catch (const Error& error) {
      return error.message();
    }
    return "";
  };
  EXPECT_NE(message({.stretch = 0.001}).find("stretch"), std::string::npos);
  EXPECT_NE(message({.radius = 0}).find("radius"), std::string::npos);
  EXPECT_NE(message({.axis = {0, 0, 0}}).find("axis"), std::string::npos);
  Scene two = pool_scene(2);
  two.room().swells.push_back({.at = {1, 0, 0}, .radius = 1});
  EXPECT_THROW(compile(two), Error);
}

}  // namespace
}  // namespace photonlane
