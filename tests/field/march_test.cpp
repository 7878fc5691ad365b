#include <gmock/gmock.h>

#include <cmath>
#include <functional>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace field;

double uniform(std::uint64_t which, std::uint32_t dimension, double low, double high) {
  return low + (high - low) * random_uniform({.pixel = which}, dimension);
}
Vec3d ball(std::uint64_t which, std::uint32_t first) {
  const double z = uniform(which, first, -1, 1);
  const double angle = uniform(which, first + 1, 0, 2 * pi);
  return {std::sqrt(1 - z * z) * std::cos(angle), std::sqrt(1 - z * z) * std::sin(angle), z};
}

/// Lanes from all around toward the middle and past it.
template <class Number>
LaneBatch<Number> toward_middle(std::uint64_t seed, double far_limit = 100) {
  LaneBatch<Number> lanes;
  lanes.size = 128;
  lanes.far_limit = static_cast<Number>(far_limit);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const std::uint64_t which = seed * 128 + i;
    const Vec3d from = 4 * ball(which, 0);
    const Vec3d to = 0.9 * ball(which, 2);
    const Vec3d way = (to - from).normalized();
    test::aim(lanes, i, from, way);
  }
  return lanes;
}

using test::from_of;
using test::way_of;

double meet_sphere(const Vec3d& from, const Vec3d& way) {
  const double b = from.dot(way);
  const double rest = b * b - from.squaredNorm() + 0.64;
  return rest < 0 ? 1e30 : -b - std::sqrt(rest);
}
double meet_box(const Vec3d& from, const Vec3d& way) {
  double near = -1e30;
  double far = 1e30;
  const Vec3d half(0.6, 0.4, 0.7);
  for (int axis = 0; axis < 3; ++axis) {
    const double one = (-half[axis] - from[axis]) / way[axis];
    const double two = (half[axis] - from[axis]) / way[axis];
    near = std::max(near, std::min(one, two));
    far = std::min(far, std::max(one, two));
  }
  return near <= far ? near : 1e30;
}
double meet_plane(const Vec3d& from, const Vec3d& way) {
  const double t = (0.2 - from.z()) / way.z();
  return t > 0 ? t : 1e30;
}
/// The quartic, followed in small steps and halved.
double meet_torus(const Vec3d& from, const Vec3d& way) {
  const auto value = [&](double t) {
    const Vec3d at = from + t * way;
    return std::hypot(std::hypot(at.x(), at.y()) - 0.7, at.z()) - 0.25;
  };
  // What is shorter than a step is less than a micrometer deep.
  constexpr double step = 1e-3;
  for (double t = 2; t < 8; t += step) {
    if (value(t) >= 0) continue;
    double low = t - step;
    double high = t;
    for (int i = 0; i < 50; ++i) (value(0.5 * (low + high)) < 0 ? high : low) = 0.5 * (low + high);
    return high;
  }
  return 1e30;
}

template <class Number>
void expect_hits(FieldMethod method) {
  struct Case {
    const char* name;
    Field made;
    std::function<double(const Vec3d&, const Vec3d&)> meet;
  };
  const Case cases[] = {{"sphere", sphere(0.8), meet_sphere},
                        {"box", box({1.2, 0.8, 1.4}), meet_box},
                        {"plane", plane({0, 0, 1}, 0.2), meet_plane},
                        {"torus", torus(0.7, 0.25), meet_torus}};
  Budget budget;
  budget.field.method = method;
  budget.field.increment = 0.01;
  budget.field.steps = 100000;
  budget.field.growth = 0;
  const double close = sizeof(Number) == 4 ? 2e-5 : 1e-9;
  for (const Case& one : cases) {
    const CompiledField compiled(one.made);
    const std::uint64_t seeds = test::effort(4);
    int met = 0;
    int differ = 0;
    for (std::uint64_t seed = 0; seed < seeds; ++seed) {
      const LaneBatch<Number> lanes = toward_middle<Number>(seed);
      const HitBatch<Number> hits = compiled.nearest_hit(lanes, budget);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        if (std::string(one.name) == "plane" && from_of(lanes, i).z() < 0.2) continue;
        const double expected = one.meet(from_of(lanes, i), way_of(lanes, i));
        const bool hit = hits.ending[i] == Ending::hit;
        // Lanes that graze may be taken for hits within the tolerance, or be stepped over.
        if (hit != (expected < 100)) {
          ++differ;
          continue;
        }
        if (!hit) continue;
        ++met;
        const Vec3d normal(hits.normal_x[i], hits.normal_y[i], hits.normal_z[i]);
        const double square = -normal.dot(way_of(lanes, i));
        if (square < 0.1) continue;
        EXPECT_NEAR(hits.t[i], expected, close / square) << one.name << " lane " << i;
        const Vec3d at = from_of(lanes, i) + expected * way_of(lanes, i);
        EXPECT_NEAR(normal.norm(), 1, 1e-5);
        if (one.made.kind() == FieldKind::sphere) {
          EXPECT_LT((normal - at.normalized()).norm(), 1e-4);
        }
        EXPECT_EQ(hits.face[i], Face::curved);
      }
    }
    EXPECT_GT(met, 25 * static_cast<int>(seeds)) << one.name;
    EXPECT_LE(differ, 6) << one.name;
  }
}

TEST(March, MeetsWhatGeometrySays) {
  for (const FieldMethod method : {FieldMethod::sphere, FieldMethod::relaxed, FieldMethod::fixed}) {
    expect_hits<float>(method);
    expect_hits<double>(method);
  }
}

TEST(March, RelaxedStepsAreFewerAndMeetTheSame) {
  // Many lanes run along the posts before they meet anything.
  const Field made = join({repeat({0.5, 0.5, 0}, {0, 0, 0}, cylinder(0.1, 6)),
                           around(5, place({0.7, 0, 0}, sphere(0.2)))});
  const CompiledField compiled(made);
  std::uint64_t steps[2] = {0, 0};
  int other = 0;
  for (std::uint64_t seed = 0; seed < 20; ++seed) {
    const LaneBatch<float> lanes = toward_middle<float>(seed);
    Budget budget;
    budget.field.method = FieldMethod::sphere;
    const HitBatch<float> sphere_hits = compiled.nearest_hit(lanes, budget);
    budget.field.method = FieldMethod::relaxed;
    const HitBatch<float> relaxed_hits = compiled.nearest_hit(lanes, budget);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      steps[0] += sphere_hits.steps[i];
      steps[1] += relaxed_hits.steps[i];
      const bool same = sphere_hits.ending[i] == relaxed_hits.ending[i] &&
                        (sphere_hits.ending[i] != Ending::hit ||
                         std::abs(sphere_hits.t[i] - relaxed_hits.t[i]) < 1e-4f);
      other += !same;
    }
  }
  EXPECT_LT(steps[1], steps[0]);
  // Grazing lanes alone.
  EXPECT_LT(other, 20 * 128 / 100);
}

TEST(March, NeverStepsThroughWhatIsStretched) {
  for (const Field& made :
       {twist(degrees(140), box({0.9, 0.15, 1.6})), waves(0.05, 0.3, sphere(0.7)),
        join(0.3, {box({0.8, 0.8, 0.2}), box({0.2, 0.8, 0.8})}, Profile::circular)}) {
    const CompiledField compiled(made);
    for (std::uint64_t seed = 0; seed < 6; ++seed) {
      const LaneBatch<double> lanes = toward_middle<double>(seed);
      Budget budget;
      budget.field.steps = 100000;
      budget.field.method = FieldMethod::sphere;
      const HitBatch<double> marched = compiled.nearest_hit(lanes, budget);
      budget.field.method = FieldMethod::fixed;
      budget.field.increment = 0.002;
      const HitBatch<double> fine = compiled.nearest_hit(lanes, budget);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        if (fine.ending[i] != Ending::hit) continue;
        ASSERT_EQ(marched.ending[i], Ending::hit) << name_of(made.kind()) << " " << i;
        ASSERT_LE(marched.t[i], fine.t[i] + 1e-6) << name_of(made.kind()) << " " << i;
      }
    }
  }
}

TEST(March, EqualStepsMissWhatIsThinner) {
  const CompiledField plate(box({0.004, 3, 3}));
  const auto found = [&](FieldMethod method, double increment) {
    int hits = 0;
    LaneBatch<float> lanes;
    lanes.size = 128;
    lanes.far_limit = 10;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      lanes.x[i] = -1.0f - static_cast<float>(uniform(i, 0, 0, 1));
      lanes.y[i] = static_cast<float>(uniform(i, 1, -1, 1));
      lanes.direction_x[i] = 1;
    }
    Budget budget;
    budget.field.method = method;
    budget.field.increment = increment;
    const HitBatch<float> met = plate.nearest_hit(lanes, budget);
    for (std::size_t i = 0; i < lanes.size; ++i) hits += met.ending[i] == Ending::hit;
    return hits;
  };
  EXPECT_EQ(found(FieldMethod::sphere, 0.02), 128);
  EXPECT_EQ(found(FieldMethod::relaxed, 0.02), 128);
  EXPECT_EQ(found(FieldMethod::fixed, 0.003), 128) << "thicker than a step";
}

TEST(March, LanesOutOfStepsAreSpentAndThoseInsideLookForTheWayOut) {
  const CompiledField compiled(sphere(0.8));
  LaneBatch<double> lanes;
  lanes.size = 3;
  lanes.far_limit = 50;
  const Vec3d starts[] = {{-0.79, 0.5, 0}, {0.2, 0, 0}, {-3, 0, 0}};
  for (std::size_t i = 0; i < 3; ++i) {
    lanes.x[i] = starts[i].x();
    lanes.y[i] = starts[i].y();
    lanes.direction_x[i] = 1;
  }
  Budget budget;
  const HitBatch<double> hits = compiled.nearest_hit(lanes, budget);
  EXPECT_NEAR(hits.t[0], 0.79 - std::sqrt(0.64 - 0.25), 1e-9);
  EXPECT_NEAR(hits.t[1], 0.6, 1e-9) << "from inside";
  EXPECT_NEAR(hits.normal_x[1], -1, 1e-6) << "toward the lane";
  EXPECT_NEAR(hits.t[2], 2.2, 1e-9);
  budget.field.steps = 2;
  const HitBatch<double> few = compiled.nearest_hit(lanes, budget);
  EXPECT_EQ(few.ending[0], Ending::spent);
  EXPECT_LE(few.steps[0], 2u);
  // From beyond the first surface on, the second is met; before a limit, none.
  lanes.any_start = true;
  std::fill_n(lanes.start, 128, 2.3);
  EXPECT_NEAR(compiled.nearest_hit(lanes, Budget{}).t[2], 3.8, 1e-9);
  lanes.any_start = false;
  lanes.any_limit = true;
  std::fill_n(lanes.limit, 128, 2.1);
  EXPECT_EQ(compiled.nearest_hit(lanes, Budget{}).ending[2], Ending::escaped);
}

/// A ball over the floor of a room with a sun, and a field of two materials.
Scene ball_in_a_room() {
  Scene scene = test::drawn(test::square_room(10));
  scene.materials.push_back({.base = {0.8f, 0.1f, 0.1f}});
  scene.materials.push_back({.base = {0.1f, 0.1f, 0.9f}});
  Room& room = scene.room();
  room.has_ceiling = false;
  room.fog = {.start = 500, .end = 600};
  room.light.ambient = {0.2f, 0.2f, 0.2f};
  room.light.sun = Sun{.heading = degrees(180), .elevation = degrees(45), .color = {1, 1, 1}};
  room.add(place({6, 6, 1}, sphere(0.5).made_of(2)));
  room.add(place({4, 7, 0.4}, join(0.2, {box({0.8, 0.8, 0.8}).made_of(2),
                                         place({0, 0, 0.5}, sphere(0.35)).made_of(3)})));
  return scene;
}

TEST(FieldsInRooms, HideAndAreHiddenAndThrowShadowsWhereGeometrySays) {
  const World world = compile(ball_in_a_room());
  const Camera camera = Camera::look_at({2.5, 6, 2.4}, {7, 6, 0.3}, degrees(60));
  Budget budget{.frame = {160, 100, 1}};
  budget.light.corners = Corners::none;
  const Frame frame = render(world, camera, budget, test::with_layers(test::everything));
  const Viewing view = viewing(camera, {160, 100});
  const Vec3d sun = Vec3d(-1, 0, 1).normalized();
  int shaded = 0;
  int on_ball = 0;
  for (int y = 0; y < 100; ++y) {
    for (int x = 0; x < 160; ++x) {
      const Vec3d ray = view.ray(view.u(x + 0.5), view.v(y + 0.5));
      const Vec3d from = camera.eye - Vec3d(6, 6, 1);
      const double b = from.dot(ray);
      const double rest = b * b - from.squaredNorm() + 0.25;
      const float distance = frame.values(Layer::ray_distance)(x, y);
      if (rest > 1e-3 && std::abs(distance - (-b - std::sqrt(rest))) < 1e-4) {
        EXPECT_EQ(static_cast<Face>(frame.codes(Layer::face)(x, y)), Face::curved);
        ++on_ball;
      }
      if (static_cast<Face>(frame.codes(Layer::face)(x, y)) != Face::floor) continue;
      const Vec3d at = camera.eye + distance * ray;
      const Vec3d to_ball = Vec3d(6, 6, 1) - at;
      const double past = (to_ball - to_ball.dot(sun) * sun).norm();
      // Nothing else may throw a shadow here.
      if (at.x() < 5 || at.y() > 6.5 || std::abs(past - 0.5) < 0.02) continue;
      const bool shade = past < 0.5;
      const float lit = frame.values(Layer::color, 0)(x, y) / 0.22f;
      EXPECT_NEAR(lit, shade ? 0.2 : 1 - 0.8 * (1 - std::sqrt(0.5)), 2e-3) << x << " " << y;
      shaded += shade;
    }
  }
  EXPECT_GT(on_ball, 150);
  EXPECT_GT(shaded, 60);
}

/// Everything that is left out of a tape in some way: copies, groups of a large join, twists,
/// seams.
Scene crowded() {
  Scene scene;
  for (int i = 0; i < 4; ++i) scene.wall({.base = {0.2f * static_cast<float>(i), 0.5f, 0.4f}});
  Room& room = scene.room();
  room.fog = {.start = 500, .end = 600};
  room.light.ambient = {0.3f, 0.3f, 0.3f};
  room.light.sun = Sun{.heading = 1, .elevation = 0.7, .color = {0.7f, 0.7f, 0.6f}};
  std::vector<Field> parts;
  for (std::uint64_t i = 0; i < 70; ++i) {
    const auto chance = [&](std::uint32_t which, double low, double high) {
      return low + (high - low) * random_uniform({.pixel = i}, which);
    };
    const Vec3d at(chance(0, -3, 3), chance(1, -3, 3), chance(2, 0, 2));
    const double size = chance(3, 0.1, 0.3);
    parts.push_back(place(at, i % 3 == 0 ? box(Vec3d::Constant(size), 0.02) : sphere(size))
                        .made_of(static_cast<int>(i % 4)));
  }
  room.add(join(std::move(parts)));
  room.add(
      repeat({1, 1, 0}, {0, 0, 0}, place({0.1, 0, -0.1}, box({0.7, 0.8, 0.2}, 0.02))).made_of(0));
  room.add(place({0, 0, 1}, twist(2, join(0.1, {box({0.5, 0.3, 2}), sphere(0.5).made_of(2)}))));
  room.add(
      around(7, place({2.5, 0.2, 0.5}, carve(0.05, {box({0.3, 0.5, 1}), sphere(0.35).made_of(1)}),
                      {0.1, 0.2, 0.3}))
          .made_of(3));
  for (const Profile profile : {Profile::polynomial, Profile::circular}) {
    const double side = profile == Profile::circular ? 1.5 : -1.5;
    room.add(
        place({side, 1.5, 0.6}, join(0.2, {sphere(0.4), box({1, 0.2, 0.2}).made_of(1)}, profile)));
    room.add(place({side, -1.5, 0.6},
                   noise(0.03, 0.3, 2, meet(0.1, {sphere(0.5), box({0.7, 0.7, 0.7})}, profile))));
  }
  return scene;
}

TEST(FieldsInRooms, WhatIsLeftOutOfTapesIsNotMissed) {
  const World world = compile(crowded());
  const Camera camera = Camera::look_at({5, -4, 3}, {0, 0, 0.6}, degrees(50));
  const auto try_number = [&](const char* target, NumberType number) {
    Budget budget{.frame = {test::effort(40), test::effort(30), 1}, .number = number};
    budget.far_limit = 60;
    // Equal steps are the same ones whatever is left out: so is every byte.
    budget.field.method = FieldMethod::fixed;
    budget.field.increment = 0.1;
    budget.field.pruning = false;
    const Frame whole = render(world, camera, budget, test::with_layers(test::everything));
    budget.field.pruning = true;
    const Frame pruned = render(world, camera, budget, test::with_layers(test::everything));
    for (const Layer layer : {Layer::color, Layer::depth, Layer::face, Layer::steps}) {
      EXPECT_EQ(test::hash_of(pruned, layer), test::hash_of(whole, layer))
          << target << " " << name_of(layer);
    }
    EXPECT_LT(pruned.tally.hits, pruned.tally.lanes);
    EXPECT_GT(pruned.tally.hits, pruned.tally.lanes / 2);
  };
  // The narrower vectors are, the more blocks of balls are looked at one after the other.
  test::for_each_target([&](const char* target) {
    try_number(target, NumberType::float32);
    try_number(target, NumberType::float64);
  });
}

TEST(FieldsInRooms, LanesLedTogetherArriveAtTheSamePlaces) {
  const World world = compile(crowded());
  const Camera camera = Camera::look_at({5, -4, 3}, {0, 0, 0.6}, degrees(50));
  for (const FieldMethod method : {FieldMethod::sphere, FieldMethod::relaxed}) {
    Budget budget{.frame = {96, 72, 1}, .number = NumberType::float64};
    budget.field.method = method;
    budget.field.growth = 0;
    budget.field.tolerance = 1e-5;
    budget.field.pruning = budget.field.cones = false;
    const Frame alone = render(world, camera, budget, test::with_layers(test::everything));
    budget.field.pruning = budget.field.cones = true;
    const Frame led = render(world, camera, budget, test::with_layers(test::everything));
    EXPECT_LT(led.tally.steps, alone.tally.steps);
    EXPECT_EQ(led.tally.spent, 0u);
    int far = 0;
    for (int y = 0; y < 72; ++y) {
      for (int x = 0; x < 96; ++x) {
        const float one = led.values(Layer::ray_distance)(x, y);
        const float two = alone.values(Layer::ray_distance)(x, y);
        far += one != two && !(std::abs(one - two) < 1e-4f);
      }
    }
    // Lanes that graze an edge within the tolerance may end at it or behind it.
    EXPECT_LE(far, 4);
  }
}

TEST(FieldsInRooms, TheSameBytesForEveryVectorWidthAndThreadCount) {
  const World world = compile(ball_in_a_room());
  const Camera camera = Camera::look_at({2.5, 4.5, 2.4}, {5, 6.5, 0.6}, degrees(60));
  for (const NumberType number : {NumberType::float32, NumberType::float64}) {
    Budget budget{.frame = {83, 51, 2}, .number = number};
    std::optional<std::uint64_t> expected;
    test::for_each_target([&](const char* target) {
      for (const int threads : {1, 2}) {
        const Frame frame =
            render(world, camera, budget, test::with_layers({Layer::color, Layer::depth}, threads));
        const std::uint64_t hash =
            test::hash_of(frame, Layer::color) ^ test::hash_of(frame, Layer::depth);
        if (!expected) expected = hash;
        EXPECT_EQ(hash, *expected) << target;
      }
    });
  }
}

TEST(FieldsInRooms, CheckTellsWhatTheyAreAndWhereTheEyeIs) {
  Scene scene = ball_in_a_room();
  const SceneReport sound = check(scene, {.eye = {2.5, 4.5, 2}}, {});
  EXPECT_EQ(sound.fields, 2);
  EXPECT_GT(sound.field_operations, 5u);
  EXPECT_THAT(sound.warnings, testing::Not(testing::Contains(testing::HasSubstr("field"))));
  EXPECT_THAT(check(scene, {.eye = {6, 6, 1.2}}, {}).warnings,
              testing::Contains(testing::HasSubstr("is inside field 1")));
}

TEST(FieldsInRooms, ARoomOfFieldsAloneHasNoFloor) {
  Scene scene;
  scene.room().add(sphere(1));
  const World world = compile(scene);
  const Camera camera = Camera::look_at({0, -4, -1}, {0, 0, 0}, degrees(50));
  const Frame frame =
      render(world, camera, {.frame = {41, 31, 1}}, test::with_layers(test::everything));
  EXPECT_NEAR(frame.values(Layer::ray_distance)(20, 15), std::sqrt(17.0) - 1, 1e-4);
  EXPECT_EQ(static_cast<Ending>(frame.codes(Layer::ending)(0, 30)), Ending::escaped);
  EXPECT_THROW(render(world, {.eye = {0, -4, 1}}, {.frame = {9, 9, 1}, .rays = Rays::columns}),
               Error);
  scene.room().add(sphere(1).made_of(4));
  EXPECT_THROW(compile(scene), Error);
  EXPECT_THROW(compile(Scene{}), Error);
}

}  // namespace
}  // namespace photonlane
