// Marching by slopes: no step goes through a surface, lanes meet what they meet by distances, and
// where shapes are convex they take far fewer steps.

#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/targets.hpp"
#include "support/trees.hpp"

namespace photonlane {
namespace {

using test::Chance;
using test::garden;
using test::little_effort;
using test::some_field;

Budget slope_budget(double scale) {
  Budget budget;
  budget.far_limit = 60 * scale;
  budget.field.method = FieldMethod::slope;
  budget.field.tolerance *= scale;
  return budget;
}

template <class Number>
LaneBatch<Number> lanes_around(std::uint64_t seed, const Vec3d& at, double scale, double reach) {
  Chance chance(seed);
  LaneBatch<Number> lanes;
  lanes.size = LaneBatch<Number>::capacity;
  lanes.far_limit = static_cast<Number>(60 * scale);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    // Most toward the middle, some along an axis, as those that go level over the floor.
    const Vec3d from = chance.point(reach);
    Vec3d way = i % 3 == 0 ? chance.point(1) : Vec3d(chance.point(0.3 * reach) - from);
    if (i % 16 == 5) way = Vec3d::Unit(static_cast<int>(i / 16) % 3);
    if (i % 16 == 11) way.z() = 0;
    test::aim(lanes, i, at + scale * from, way.normalized());
  }
  return lanes;
}

/// A shape of those that trees have not, or one in a space that is bent.
Field rare_shape(Chance& chance) {
  using namespace field;
  const Vec2d corners[] = {{-0.4, -0.3}, {0.5, -0.2}, {0.1, 0}, {0.3, 0.5}, {-0.3, 0.3}};
  switch (chance.below(16)) {
    case 0:
      return ellipsoid(chance.size(0.2, 0.8));
    case 1:
      return cone(chance.between(0.2, 0.6), chance.between(0, 0.5), chance.between(0.3, 1));
    case 2:
      return pyramid(chance.between(0.4, 1), chance.between(0.3, 1));
    case 3:
      return frame(chance.size(0.5, 1), 0.1);
    case 4:
      return prism(3 + chance.below(5), chance.between(0.3, 0.6), chance.between(0.3, 1));
    case 5:
      return torus(0.4, 0.1, chance.between(1, 5));
    case 6:
      return octahedron(chance.between(0.3, 0.6));
    case 7:
      return extrude(0.5, star(3 + chance.below(5), 0.6, 0.25), 0.04);
    case 8:
      return extrude(0.4, outline(corners), 0.02);
    case 9:
      return extrude(0.6, arc(0.4, 0.1, chance.between(1, 5)), 0);
    case 10:
      return twist(chance.between(-2, 2), box({0.5, 0.3, 1}, 0.05));
    case 11:
      return taper(1, chance.between(0.4, 0.8), cylinder(0.4, 1, 0.05));
    case 12:
      return bend(chance.between(0.3, 1), box({1.2, 0.3, 0.2}, 0.05));
    case 13:
      return noise(0.03, 0.3, 2, sphere(0.5));
    case 14:
      return damp(0.5, waves(0.03, 0.3, box({0.6, 0.6, 0.6}, 0.1)));
    default:
      return revolve(0.3, star(5, 0.3, 0.15));
  }
}

/// One or two of them, in one of the spaces that lanes are bent in.
Field rare_field(Chance& chance) {
  using namespace field;
  const auto moved = [&](double reach) {
    return place(chance.point(reach), rare_shape(chance), chance.point(3),
                 chance.between(0.6, 1.4));
  };
  const double radius = chance.below(2) == 0 ? 0 : chance.between(0.05, 0.3);
  const Profile profile = chance.below(2) == 0 ? Profile::polynomial : Profile::circular;
  switch (chance.below(8)) {
    case 0:
      return join(radius, {moved(0.8), moved(0.8)}, profile);
    case 1:
      return meet(radius, {moved(0.2), moved(0.2)}, profile);
    case 2:
      return carve(radius, {moved(0.2), moved(0.6)}, profile);
    case 3:
      return mirror(static_cast<SpaceAxis>(chance.below(3)), moved(0.8));
    case 4:
      return repeat({1.5, 0, 1.7}, {0, 0, 3}, moved(0.2));
    case 5:
      return around(2 + chance.below(6), place({0.8, 0, 0}, moved(0.2)));
    case 6:
      return offset(chance.between(-0.05, 0.15), moved(0.3));
    default:
      return fold(chance.point(1) + Vec3d(0, 0, 1.5), elongate(chance.size(0, 0.5), moved(0.5)));
  }
}

/// Looks at many places between the steps of each lane: all are outside, as the step said.
template <class Number>
void expect_clear_steps(const CompiledField& field, LaneBatch<Number> lanes, const Budget& budget,
                        double scale, std::size_t& steps, const std::string& what) {
  StepWatch watch;
  for (std::size_t i = 0; i < lanes.size; ++i) watch.follow(i);
  lanes.watch = &watch;
  field.nearest_hit(lanes, budget);
  constexpr int between = 24;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const std::vector<MarchStep>& way = watch.steps(i);
    std::vector<Vec3d> places;
    std::vector<double> at;
    for (std::size_t k = 0; k + 1 < way.size(); ++k) {
      // From inside lanes go by the distance alone; below the tolerance, where values are less than
      // distances, by how steep they are.
      const double tolerance = budget.field.tolerance + budget.field.growth * way[k].t;
      if (!(way.front().value > 0) || !(way[k].value > tolerance)) continue;
      ++steps;
      for (int n = 1; n < between; ++n) {
        at.push_back(way[k].t + (way[k + 1].t - way[k].t) * n / between);
        places.push_back(test::from_of(lanes, i) + at.back() * test::way_of(lanes, i));
      }
    }
    const std::vector<double> values = field.distances(places);
    for (std::size_t n = 0; n < values.size(); ++n) {
      const double rounding =
          (sizeof(Number) == 4 ? 4e-6 : 1e-9) * (places[n].cwiseAbs().maxCoeff() + at[n] + scale);
      ASSERT_GT(values[n], -rounding) << what << ", lane " << i << " at " << at[n] << " m";
    }
  }
}

TEST(Slopes, NoStepGoesThroughASurface) {
  struct Where {
    Vec3d at;
    double scale;
  };
  std::size_t steps = 0;
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(little_effort(60)); ++seed) {
    for (const Where& where : {Where{{0, 0, 0}, 1}, Where{{3e4, -2e4, 5}, 1},
                               Where{{0.001, 0, 0}, 1e-4}, Where{{0, 0, 0}, 1e4}}) {
      Chance chance(seed);
      const Field tree = seed % 5 == 4  ? garden(seed)
                         : seed % 5 > 1 ? rare_field(chance)
                                        : some_field(chance, 1 + seed % 4);
      const CompiledField field(field::place(where.at, tree, {0, 0, 0}, where.scale));
      for (const auto& [pruning, memory] : {std::pair{true, 64.0}, {true, 0.0}, {false, 0.0}}) {
        Budget budget = slope_budget(where.scale);
        budget.field.pruning = pruning;
        budget.field.place_memory = memory;
        const std::string what = "seed " + std::to_string(seed) + ", scale " +
                                 std::to_string(where.scale) +
                                 (pruning ? ", pruned " : ", whole ") + std::to_string(memory);
        expect_clear_steps(field, lanes_around<double>(seed, where.at, where.scale, 4), budget,
                           where.scale, steps, what);
        if (HasFatalFailure()) return;
        if (where.at.x() > 1) continue;
        expect_clear_steps(field, lanes_around<float>(seed, where.at, where.scale, 4), budget,
                           where.scale, steps, what + ", float");
        if (HasFatalFailure()) return;
      }
    }
  }
  EXPECT_GT(steps, static_cast<std::size_t>(little_effort(60)) * 1500);
}

TEST(Slopes, MeetWhatDistancesMeet) {
  std::size_t hits = 0;
  std::size_t other = 0;
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(little_effort(40)); ++seed) {
    const CompiledField field(garden(seed));
    const LaneBatch<double> lanes = lanes_around<double>(seed, {0, 0, 1}, 1, 6);
    Budget budget = slope_budget(1);
    const HitBatch<double> by_slope = field.nearest_hit(lanes, budget);
    budget.field.method = FieldMethod::sphere;
    budget.field.pruning = false;
    const HitBatch<double> by_distance = field.nearest_hit(lanes, budget);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      hits += by_distance.ending[i] == Ending::hit;
      // Lanes that pass by within the tolerance may end there or not.
      other += by_slope.ending[i] != by_distance.ending[i] ||
               std::abs(by_slope.t[i] - by_distance.t[i]) > 2e-3 * (1 + by_distance.t[i]);
    }
  }
  EXPECT_GT(hits, static_cast<std::size_t>(little_effort(40)) * 60);
  EXPECT_LT(200 * other, hits);
}

TEST(Slopes, PassConvexShapesInFewSteps) {
  // Along a lane toward a ball the next step ends where the tangent does: for a ball of radius 1 in
  // the origin and a lane at height b, from t: (sqrt(t^2 + b^2) - 1) * sqrt(t^2 + b^2) / -t on.
  const CompiledField ball(field::sphere(1));
  LaneBatch<double> lanes;
  lanes.size = 3;
  lanes.far_limit = 100;
  const double heights[] = {0.5, 0.999, 1.2};
  for (std::size_t i = 0; i < 3; ++i) test::aim(lanes, i, {-20, heights[i], 0}, {1, 0, 0});
  StepWatch watch;
  for (std::size_t i = 0; i < 3; ++i) watch.follow(i);
  lanes.watch = &watch;
  Budget budget = slope_budget(1);
  budget.field.cones = false;
  budget.field.pruning = false;
  const HitBatch<double> hits = ball.nearest_hit(lanes, budget);
  for (std::size_t i = 0; i < 3; ++i) {
    const std::vector<MarchStep>& steps = watch.steps(i);
    for (std::size_t k = 0; k + 1 < steps.size(); ++k) {
      const double x = steps[k].t - 20;
      const double out = std::hypot(x, heights[i]);
      EXPECT_NEAR(steps[k].value, out - 1, 1e-12);
      if (x < 0) {
        EXPECT_NEAR(steps[k + 1].t - steps[k].t, (out - 1) * out / -x, 1e-6);
      }
    }
  }
  EXPECT_NEAR(hits.t[0], 20 - std::sqrt(0.75), 1e-6);
  EXPECT_EQ(hits.ending[2], Ending::escaped);
  EXPECT_LE(hits.steps[2], 8u);
}

TEST(Slopes, TakeFewerStepsWhereShapesAreScattered) {
  Chance chance(3);
  std::vector<Field> parts{field::plane({0, 0, 1}, -1.5)};
  for (int i = 0; i < 60; ++i) {
    const Field shape = i % 3 == 0   ? field::sphere(0.3)
                        : i % 3 == 1 ? field::box({0.4, 0.5, 0.6}, 0.05)
                                     : field::cylinder(0.2, 0.7, 0.02);
    parts.push_back(field::place(chance.point(5), shape, chance.point(3)));
  }
  const CompiledField field(field::join(std::move(parts)));
  std::uint64_t steps[2] = {};
  for (std::uint64_t seed = 0; seed < 8; ++seed) {
    const LaneBatch<float> lanes = lanes_around<float>(seed, {0, 0, 0}, 1, 5);
    for (const bool slope : {false, true}) {
      Budget budget = slope_budget(1);
      budget.field.pruning = false;
      if (!slope) budget.field.method = FieldMethod::relaxed;
      const HitBatch<float> hits = field.nearest_hit(lanes, budget);
      for (std::size_t i = 0; i < lanes.size; ++i) steps[slope] += hits.steps[i];
    }
  }
  EXPECT_LT(4 * steps[1], 3 * steps[0]);
}

TEST(Slopes, GoByDistancesWhereThereAreEstimates) {
  const CompiledField bulb(field::bulb(8, 6));
  const LaneBatch<float> lanes = lanes_around<float>(5, {0, 0, 0}, 1, 2);
  Budget budget = slope_budget(1);
  const HitBatch<float> by_slope = bulb.nearest_hit(lanes, budget);
  budget.field.method = FieldMethod::relaxed;
  const HitBatch<float> relaxed = bulb.nearest_hit(lanes, budget);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    EXPECT_EQ(by_slope.t[i], relaxed.t[i]);
    EXPECT_EQ(by_slope.steps[i], relaxed.steps[i]);
  }
}

TEST(Slopes, TheSameForEveryVectorWidth) {
  const CompiledField field(garden(9));
  const LaneBatch<float> lanes = lanes_around<float>(9, {0, 0, 0}, 1, 6);
  for (const double memory : {0.0, 64.0}) {
    Budget budget = slope_budget(1);
    budget.field.place_memory = memory;
    const HitBatch<float> widest = field.nearest_hit(lanes, budget);
    test::for_each_target([&](const char* name) {
      const HitBatch<float> hits = field.nearest_hit(lanes, budget);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        EXPECT_EQ(hits.t[i], widest.t[i]) << name << ", lane " << i;
        EXPECT_EQ(hits.steps[i], widest.steps[i]) << name << ", lane " << i;
      }
    });
  }
}

}  // namespace
}  // namespace photonlane
