// Sets of spheres: where lanes meet them against long doubles one by one, pictures of them against
// pictures of the same balls as fields, and everything else a solid of a room has to do.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cmath>
#include <limits>

#include "photonlane/base/random.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/pictures.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

double chance(std::uint64_t i, std::uint32_t dimension) {
  return static_cast<double>(
      random_uniform({.seed = 5, .pixel = static_cast<std::uint32_t>(i)}, dimension));
}

/// Balls scattered over a cube of that size about a place.
Spheres scattered(std::size_t count, const Vec3d& about, double size) {
  Spheres set;
  for (std::size_t i = 0; i < count; ++i) {
    const Vec3d off(chance(i, 20), chance(i, 21), chance(i, 22));
    const double small = std::pow(10.0, -2.5 * chance(i, 23));
    set.spheres.push_back({about + size * (off - Vec3d::Constant(0.5)), 0.12 * size * small, -1});
  }
  return set;
}

std::shared_ptr<const Solid> made(const Spheres& set) {
  return set.compile({.materials = 3, .plain = 7});
}

/// The nearest root beyond a start, in long doubles, and which sphere's; `sure` unless another
/// answer is as good: a lane that grazes a sphere.
struct Truth {
  long double t = std::numeric_limits<long double>::infinity();
  int sphere = -1;
  bool sure = true;
};
Truth truth(const Spheres& set, const Vec3d& from, const Vec3d& way, double start, double limit,
            double number_error) {
  using Wide = Eigen::Matrix<long double, 3, 1>;
  Truth best;
  const Wide along = way.cast<long double>();
  for (std::size_t i = 0; i < set.spheres.size(); ++i) {
    const Wide off = set.spheres[i].center.cast<long double>() - from.cast<long double>();
    const long double radius = set.spheres[i].radius;
    const long double square = along.squaredNorm();
    const long double middle = off.dot(along) / square;
    const long double beside = (off - middle * along).norm();
    if (std::abs(beside - radius) < 1e-12L * (radius + off.norm())) best.sure = false;
    if (beside > radius) continue;
    const long double half = std::sqrt((radius - beside) * (radius + beside) / square);
    for (const long double t : {middle - half, middle + half}) {
      // Where a limit falls on a surface, rounding decides.
      const long double slack = static_cast<long double>(number_error) * (1 + std::abs(t));
      for (const double end : {start, limit}) best.sure &= std::abs(t - end) > slack;
      if (t > start && t < limit && t < best.t) {
        best.t = t;
        best.sphere = static_cast<int>(i);
      }
    }
  }
  return best;
}

template <class Number>
void compare_with_truth(const Spheres& set, const Vec3d& about, double size, std::uint32_t seed) {
  const std::shared_ptr<const Solid> solid = made(set);
  LaneBatch<Number> lanes;
  lanes.size = LaneBatch<Number>::capacity;
  lanes.far_limit = static_cast<Number>(100 * size);
  lanes.any_start = lanes.any_limit = true;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const std::uint64_t k = 1000 * seed + i;
    const Vec3d from =
        about +
        1.5 * size * (Vec3d(chance(k, 1), chance(k, 2), chance(k, 3)) - Vec3d::Constant(0.5));
    // Half of them at a sphere, many of those at its rim.
    const Sphere& aimed = set.spheres[k % set.spheres.size()];
    const Vec3d any(chance(k, 4) - 0.5, chance(k, 5) - 0.5, chance(k, 6) - 0.5);
    const Vec3d rim = aimed.center + aimed.radius * any.normalized();
    test::aim(lanes, i, from, (i % 2 == 0 ? any : Vec3d(rim - from)).normalized());
    lanes.start[i] = i % 5 == 0 ? static_cast<Number>(0.3 * size) : Number(0);
    lanes.limit[i] = i % 7 == 0 ? static_cast<Number>(0.8 * size) : lanes.far_limit;
  }
  const HitBatch<Number> hits = solid->nearest_hit(lanes, Budget{});
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const double start = static_cast<double>(lanes.start[i]);
    const double limit = static_cast<double>(lanes.limit[i]);
    const double error = std::numeric_limits<Number>::epsilon();
    const Truth best =
        truth(set, test::from_of(lanes, i), test::way_of(lanes, i), start, limit, 4 * error);
    if (!best.sure) continue;
    SCOPED_TRACE(fmt::format("lane {} of {} spheres of size {}", i, set.spheres.size(), size));
    ASSERT_EQ(hits.ending[i] == Ending::hit, best.sphere >= 0);
    if (best.sphere < 0) continue;
    ASSERT_NEAR(static_cast<double>(hits.t[i]), static_cast<double>(best.t),
                2 * error * static_cast<double>(best.t) + 1e-9 * size * (error < 1e-9 ? 1 : 0));
    if (error > 1e-9) continue;  // Floats may tell two places alike.
    ASSERT_EQ(hits.item[i], static_cast<std::uint32_t>(best.sphere));
    const Vec3d normal(hits.normal_x[i], hits.normal_y[i], hits.normal_z[i]);
    const Vec3d met = test::from_of(lanes, i) + hits.t[i] * test::way_of(lanes, i);
    const Sphere& sphere = set.spheres[hits.item[i]];
    EXPECT_LT(normal.dot(test::way_of(lanes, i)), 1e-6);
    EXPECT_NEAR(std::abs(normal.dot(met - sphere.center)) / sphere.radius, 1, 1e-5);
  }
}

TEST(Spheres, AreMetWhereLongDoublesSay) {
  for (const double size : {1e-4, 1.0, 1e4}) {
    for (const double far : {0.0, 20.0}) {
      const Vec3d about(far * size, -far * size, 3 * far * size);
      for (const int count : {1, 2, 7, 16, 17, 400, test::effort(5000)}) {
        const Spheres set = scattered(static_cast<std::size_t>(count), about, size);
        for (std::uint32_t seed = 0; seed < test::little_effort(6); ++seed) {
          compare_with_truth<double>(set, about, size, seed);
          compare_with_truth<float>(set, about, size, seed);
        }
      }
    }
  }
}

TEST(Spheres, AreMetAlikeByEveryTarget) {
  const Spheres set = scattered(333, {1, 2, 3}, 2);
  const std::shared_ptr<const Solid> solid = made(set);
  LaneBatch<float> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = 100;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Vec3d at = set.spheres[i].center + set.spheres[i].radius * Vec3d(0.3, 0.9, 0.2);
    test::aim(lanes, i, {-3, 0, 1}, (at - Vec3d(-3, 0, 1)).normalized());
  }
  const auto told = [&] {
    const HitBatch<float> hits = solid->nearest_hit(lanes, Budget{});
    std::string text;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      text += fmt::format("{} {} {} {};", hits.t[i], hits.item[i], hits.steps[i], hits.normal_x[i]);
    }
    return text;
  };
  const std::string plain = told();
  test::for_each_target([&](const char* name) { EXPECT_EQ(told(), plain) << name; });
}

TEST(Spheres, LanesFromASurfaceGoOnToTheNextOne) {
  // Through a row of balls: in and out of each, none met twice.
  Spheres row;
  for (int i = 0; i < 20; ++i) row.spheres.push_back({{3.1 * i, 0.01 * i, 0}, 0.7, i % 3});
  const std::shared_ptr<const Solid> solid = made(row);
  LaneBatch<float> lanes;
  lanes.size = 1;
  lanes.far_limit = 1000;
  lanes.any_start = true;
  test::aim(lanes, 0, {-5, 0, 0}, Vec3d(1, 0.002, 0).normalized());
  lanes.start[0] = 0;
  int met = 0;
  for (;; ++met) {
    const HitBatch<float> hits = solid->nearest_hit(lanes, Budget{});
    if (hits.ending[0] != Ending::hit) break;
    ASSERT_EQ(hits.item[0], static_cast<std::uint32_t>(met / 2));
    EXPECT_EQ(hits.material[0], static_cast<std::uint32_t>(met / 2 % 3));
    EXPECT_GT(hits.t[0], lanes.start[0]);
    EXPECT_LT(hits.normal_x[0], 0) << "toward the lane, also from inside";
    lanes.start[0] = hits.t[0];
    ASSERT_LT(met, 41);
  }
  EXPECT_EQ(met, 40);
}

TEST(Spheres, HideWhatHasSomethingOnItsWay) {
  const Spheres set = scattered(900, {0, 0, 0}, 4);
  const std::shared_ptr<const Solid> solid = made(set);
  LaneBatch<float> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = 50;
  lanes.any_limit = true;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Vec3d way(chance(i, 31) - 0.5, chance(i, 32) - 0.5, chance(i, 33) - 0.5);
    test::aim(lanes, i, {0.1, 0.2, 3.5}, way.normalized());
    lanes.limit[i] = 1 + 0.03f * static_cast<float>(i);
  }
  bool hidden[128] = {};
  hidden[5] = true;
  solid->hide(lanes, Budget{}, hidden);
  const HitBatch<float> hits = solid->nearest_hit(lanes, Budget{});
  int some = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    some += hidden[i];
    EXPECT_EQ(hidden[i], i == 5 || hits.ending[i] == Ending::hit) << i;
  }
  EXPECT_GT(some, 10);
  EXPECT_LT(some, 120);
}

TEST(Spheres, KnowTheirDistances) {
  for (const std::size_t count : {1u, 15u, 3000u}) {
    const Spheres set = scattered(count, {10, 0, 0}, 2);
    const std::shared_ptr<const Solid> solid = made(set);
    for (std::uint64_t i = 0; i < 300; ++i) {
      const Vec3d place = Vec3d(10, 0, 0) +
                          3 * Vec3d(chance(i, 41) - 0.5, chance(i, 42) - 0.5, chance(i, 43) - 0.5);
      double least = 1e9;
      std::size_t nearest = 0;
      for (std::size_t s = 0; s < count; ++s) {
        const double distance = (place - set.spheres[s].center).norm() - set.spheres[s].radius;
        if (distance < least) {
          least = distance;
          nearest = s;
        }
      }
      double value = 0;
      double slope[3] = {};
      solid->measure({.count = 1,
                      .x = &place.x(),
                      .y = &place.y(),
                      .z = &place.z(),
                      .value = &value,
                      .slope_x = slope,
                      .slope_y = slope + 1,
                      .slope_z = slope + 2});
      ASSERT_DOUBLE_EQ(value, least);
      const Vec3d out = (place - set.spheres[nearest].center).normalized();
      EXPECT_LT((Vec3d(slope[0], slope[1], slope[2]) - out).norm(), 1e-12);
      const ClosestSurface closest = solid->closest(place).value();
      EXPECT_DOUBLE_EQ(closest.least, std::abs(least));
      if (least > 0) {
        EXPECT_NEAR((closest.place - place).norm(), least, 1e-12);
      }
    }
  }
}

TEST(Spheres, SayWhereTheyKnowNoNearestPlace) {
  // From the middle of the lens of two, what is nearest of one lies in the other.
  const auto lens = made(Spheres({{{0, 0, 0}, 1, -1}, {{0.1, 0, 0}, 1.2, -1}}));
  const ClosestSurface closest = lens->closest({0, 0, 0.2}).value();
  EXPECT_TRUE(std::isfinite(closest.distance));
  const auto hidden = made(Spheres({{{0, 0, 0}, 1, -1}, {{0.9, 0, 0}, 1, -1}}));
  EXPECT_TRUE(std::isinf(hidden->closest({0.45, 0, 0}).value().distance));
}

/// A court with a floor, lights and some balls, as spheres or as fields.
Scene court(bool as_fields, const Material& of, int seed) {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.45f, 0.4f}}, of, {.base = {0.2f, 0.5f, 0.3f}}};
  Room& room = scene.room();
  room.light.ambient = {0.35f, 0.35f, 0.4f};
  room.light.sun.emplace();
  room.light.lamps.push_back({.place = {1, -1, 2.5}});
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  Spheres set;
  set.material = 1;
  for (int i = 0; i < 12; ++i) {
    const auto k = static_cast<std::uint64_t>(20 * seed + i);
    const double radius = 0.15 + 0.2 * chance(k, 50);
    // None within another: of fields that are joined nothing is seen inside.
    const double x = 0.8 * (i % 4) - 1.2 + 0.04 * chance(k, 51);
    const double y = 0.8 * (i / 4) - 0.8 + 0.04 * chance(k, 52);
    const double z = radius + 0.02 + 0.8 * chance(k, 53);
    set.spheres.push_back({{x, y, z}, radius, i % 3 == 0 ? 2 : -1});
  }
  if (!as_fields) {
    room.add(set);
  } else {
    std::vector<Field> balls;
    for (const Sphere& sphere : set.spheres) {
      room.add(field::place(sphere.center, field::sphere(sphere.radius))
                   .made_of(sphere.material >= 0 ? sphere.material : 1));
    }
  }
  return scene;
}

double difference_of(const Material& of, Budget budget) {
  const Size size{test::effort(160), test::effort(100)};
  budget.frame = {size.width, size.height, 1};
  budget.rays = Rays::pixels;
  budget.field.tolerance = 1e-6;
  budget.field.growth = 0;
  budget.field.steps = 2000;
  budget.number = NumberType::float64;
  const Camera camera = Camera::look_at({3.2, -3, 2}, {0, 0, 0.5}, 0.9);
  double worst = 0;
  for (int seed = 0; seed < 2; ++seed) {
    const auto shot = [&](bool as_fields) {
      return render(compile(court(as_fields, of, seed)), camera, budget,
                    test::with_layers({Layer::color, Layer::depth, Layer::normal, Layer::ending,
                                       Layer::material, Layer::face}));
    };
    const Frame spheres = shot(false);
    const Frame fields = shot(true);
    EXPECT_LT(test::surfaces_apart(spheres, fields, 2e-3), 16) << "silhouettes, " << seed;
    const Difference difference = compare(spheres, fields);
    worst = std::max(worst, difference.rmse);
    // Where they differ at all, it is at a few silhouettes, seen straight or in one another.
    EXPECT_LT(std::count_if(difference.errors.begin(), difference.errors.end(),
                            [](float error) { return error > 0.02f; }),
              48)
        << seed << ", opacity " << of.opacity << ", index " << of.index << ", metal " << of.metal
        << ", softness " << name_of(budget.light.softness);
  }
  return worst;
}

TEST(Spheres, LookLikeTheSameBallsAsFields) {
  Budget plain;
  EXPECT_LT(difference_of({.base = {0.8f, 0.3f, 0.2f}}, plain), 2e-3);
  Budget quick;
  quick.light.softness = Softness::quick;
  EXPECT_LT(difference_of({.base = {0.8f, 0.3f, 0.2f}}, quick), 4e-3);
  Budget sampled;
  sampled.light.softness = Softness::sampled;
  sampled.light.corners = Corners::sampled;
  EXPECT_LT(difference_of({.base = {0.8f, 0.3f, 0.2f}}, sampled), 4e-3);
  // Looked through, mirroring, and of glass.
  EXPECT_LT(difference_of({.base = {0.8f, 0.3f, 0.2f}, .opacity = 0.4f}, plain), 6e-3);
  EXPECT_LT(difference_of({.base = {0.8f, 0.8f, 0.8f}, .specular = 0.6f, .metal = 1}, plain), 4e-3);
  Budget bounces;
  bounces.bounces.limit = 6;
  EXPECT_LT(difference_of({.opacity = 0.05f, .specular = 0.04f, .index = 1.5f}, bounces), 1.5e-2);
}

TEST(Spheres, AreSeenThroughPortals) {
  // A ball two meters behind an opening, and the same room without one.
  const auto seen = [](bool ball) {
    Scene scene;
    scene.materials.push_back({.base = {0.9f, 0.2f, 0.1f}});
    scene.rooms.clear();
    for (const char* name : {"near", "far"}) {
      Room& room = scene.add_room(name);
      room.add(field::plane({0, 0, 1}, 0).made_of(0));
    }
    Portal gate;
    gate.name = "gate";
    gate.stance = {.at = {2, 0, 1}, .heading = pi};
    gate.to = PortalTarget{.room = "far", .stance = {.at = {0, 0, 1}}};
    scene.rooms[0].portals.push_back(gate);
    if (ball) scene.rooms[1].add(Spheres({{{2, 0, 1}, 0.3, 0}}));
    Budget budget{.frame = {65, 49, 1}};
    return render(compile(scene), {.eye = {0, 0, 1}, .room = "near"}, budget,
                  test::with_layers({Layer::ray_distance, Layer::room, Layer::ending}));
  };
  const Frame with = seen(true);
  EXPECT_EQ(with.codes(Layer::room)(32, 24), 1u);
  EXPECT_NEAR(with.values(Layer::ray_distance)(32, 24), 2 + 2 - 0.3, 1e-3);
  EXPECT_GT(seen(false).values(Layer::ray_distance)(32, 24), 100);
}

TEST(Spheres, StopWhoWalks) {
  Scene scene;
  scene.materials.push_back({});
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  scene.room().add(Spheres({{{3, 0, 1}, 0.5, 0}, {{30, 0, 1}, 0.5, 0}}));
  WalkScript script;
  script.radius = 0.25;
  script.moves.push_back({.forward = 6, .over = 3});
  const auto steps = walk(compile(scene), {.eye = {0, 0, 1.6}}, script);
  EXPECT_GT(steps.back().contacts + steps[steps.size() / 2 + 8].contacts, 0);
  // Straight on it is stopped before the ball; nothing pushes it aside.
  EXPECT_NEAR(steps.back().place.x(), 3 - 0.5 - 0.25, 0.02);
}

TEST(Spheres, HoldWhatRolls) {
  // A ball comes to rest in the hollow between three: as far from each center as both radii.
  Scene scene;
  Spheres three;
  for (int i = 0; i < 3; ++i) {
    const double turn = 2 * pi * i / 3;
    three.spheres.push_back({{0.6 * std::cos(turn), 0.6 * std::sin(turn), 0}, 0.5, -1});
  }
  scene.room().add(three);
  RoomBody ball;
  ball.body.balls = {{{0, 0, 0}, 0.3}};
  ball.body.place = {0.03, -0.02, 0.9};
  scene.room().bodies.push_back(ball);
  roll_bodies(scene, 0, 6);
  const RollingBody& now = scene.room().bodies.front().body;
  EXPECT_NEAR(now.place.z(), std::sqrt(0.8 * 0.8 - 0.6 * 0.6), 2e-3);
  EXPECT_LT(std::hypot(now.place.x(), now.place.y()), 5e-3);
  EXPECT_LT(now.velocity.norm(), 1e-3);
}

TEST(Spheres, AreCheckedAndDrawn) {
  const std::string text = R"(
materials: {leaf: {base: [0, 1, 0]}, pearl: {base: [1, 0, 0]}}
camera: {eye: [0, -3, 1], look_at: [0, 0, 1]}
room:
  solids:
    - spheres:
        material: pearl
        radius: 0.5
        at:
          - [0, 0, 1]
          - [2, 0, 1, 0.25]
          - {at: [-2, 0, 1], material: leaf}
)";
  const io::SceneFile file = io::parse_scene(text, "dew.yaml");
  const SceneReport report = check(file.scene, file.camera, file.budget);
  EXPECT_THAT(report.solids, testing::ElementsAre("3 spheres of radius 0.25 to 0.5 m"));
  EXPECT_THAT(report.warnings, testing::IsEmpty());
  EXPECT_THAT(io::check_text(report), HasSubstr("solid      3 spheres of radius 0.25 to 0.5 m"));
  Camera inside = file.camera;
  inside.eye = {0.1, 0, 1};
  EXPECT_THAT(check(file.scene, inside, file.budget).warnings,
              testing::Contains(HasSubstr("is inside of 3 spheres")));

  const io::Picture plan = io::plan_picture(file.scene, compile(file.scene), file.camera,
                                            file.budget, {300, 200}, {.rays = 0, .legend = false});
  long red = 0;
  long green = 0;
  for (int y = 0; y < 200; ++y) {
    for (int x = 0; x < 300; ++x) {
      const auto* pixel = plan.pixel(x, y);
      red += pixel[0] > 200 && pixel[1] < 60 && pixel[2] < 60;
      green += pixel[1] > 200 && pixel[0] < 60 && pixel[2] < 60;
    }
  }
  EXPECT_GT(green, 500);
  EXPECT_NEAR(static_cast<double>(red) / static_cast<double>(green), 1.25, 0.08);

  // Also over the plan of a map.
  Scene yard = test::drawn("#####\n#...#\n#...#\n#####");
  yard.wall({.base = {1, 0, 0}}, "pearl");
  yard.room().add(Spheres({{{2.5, 2, 1}, 0.6, static_cast<int>(yard.materials.size()) - 1}}));
  const io::Picture map = io::plan_picture(yard, compile(yard), {.eye = {1.2, 1.2, 1.6}}, Budget{},
                                           {250, 200}, {.rays = 0, .legend = false});
  long area = 0;
  for (int y = 0; y < 200; ++y) {
    for (int x = 0; x < 250; ++x) {
      const auto* pixel = map.pixel(x, y);
      area += pixel[0] > 200 && pixel[1] < 60 && pixel[2] < 60;
    }
  }
  // 50 pixels a meter, but for the rim, whose pixels are mixed.
  EXPECT_NEAR(static_cast<double>(area), pi * 29 * 29, 100);

  // And come back from their own text.
  const std::string again = io::scene_text(file);
  EXPECT_EQ(io::scene_text(io::parse_scene(again, "again.yaml")), again);
  EXPECT_THAT(again, HasSubstr("- spheres:"));
}

TEST(Spheres, RefuseWhatIsNone) {
  const auto refusal = [](const std::string& spheres) -> std::string {
    try {
      io::parse_scene("materials: {pearl: {}}\nroom:\n  solids:\n    - spheres: " + spheres + "\n",
                      "s.yaml");
    } catch (const Error& error) {
      return error.what();
    }
    return "accepted";
  };
  EXPECT_EQ(refusal("{at: [[1, 2, 3]]}"), "accepted");
  EXPECT_THAT(refusal("{}"), HasSubstr("s.yaml:4:16: expected where spheres are once"));
  EXPECT_THAT(refusal("{pollen: {count: 4000001}}"), HasSubstr("4000000 at most"));
  EXPECT_THAT(refusal("{pollen: {cuont: 1}}"), HasSubstr("count"));
  EXPECT_THAT(refusal("{pollen: {count: 5}, at: [[1, 2, 3]]}"), HasSubstr("once"));
  EXPECT_THAT(refusal("{files: none.ply}"), HasSubstr("s.yaml:4:24: none.ply: cannot be read"));
  EXPECT_THAT(refusal("{files: /dev/zero}"), HasSubstr("expected .ply, .csv or .spheres"));
  EXPECT_THAT(refusal("{at: [[1, 2, 3]], keep: exact}"), HasSubstr("there are none"));
  EXPECT_THAT(refusal("{files: a.ply, keep: loosely}"), HasSubstr("loosely"));
  EXPECT_THAT(refusal("{files: a.ply, columns: {radios: r}}"), HasSubstr("radius"));
  EXPECT_THAT(refusal("{files: a.bin, record: {x: 0, type: float31}}"),
              HasSubstr("s.yaml:4:52: no such type 'float31'; did you mean float32?"));
  EXPECT_THAT(refusal("{files: a.bin, record: {x: 0, y: 4:uint9}}"), HasSubstr("uint8"));
  EXPECT_THAT(refusal("{files: a.bin, record: {x: 0, w: 4}}"), HasSubstr("'w'"));
  EXPECT_THAT(refusal("{at: []}"), HasSubstr("a list of 0 spheres, expected one at least"));
  EXPECT_THAT(refusal("{at: [[1, 2]]}"), HasSubstr("s.yaml:4:22: a sphere of 2 numbers"));
  EXPECT_THAT(refusal("{at: [[1, 2, x]]}"), HasSubstr("s.yaml:4:29"));
  EXPECT_THAT(refusal("{at: [[1, 2, 3, 0]]}"), HasSubstr("more than 0"));
  EXPECT_THAT(refusal("{at: [[1, 2, 3e9]]}"), HasSubstr("-1000000 to 1000000"));
  EXPECT_THAT(refusal("{at: [{at: [1, 2, 3], material: perl}]}"), HasSubstr("pearl"));
  EXPECT_THAT(refusal("{at: [{at: [1, 2, 3], radios: 1}]}"), HasSubstr("radius"));
  EXPECT_THAT(refusal("{radius: -1, at: [[1, 2, 3]]}"), HasSubstr("more than 0"));

  const auto compiled = [](const Spheres& set) { return set.compile({.materials = 1}); };
  EXPECT_THROW(compiled(Spheres{}), Error);
  EXPECT_THROW(compiled(Spheres({{{0, 0, std::nan("")}, 1, -1}})), Error);
  EXPECT_THROW(compiled(Spheres({{{0, 0, 0}, 1, 1}})), Error);
  EXPECT_THROW(compiled(Spheres({{{0, 0, 0}, INFINITY, -1}})), Error);
}

/// A kind of one's own: a slab between two heights, met by lanes from anywhere.
struct SlabSolid final : Solid {
  double low, high;
  std::uint32_t material;
  SlabSolid(double from, double to, std::uint32_t of) : low(from), high(to), material(of) {}

  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes) const {
    HitBatch<Number> hits{};
    for (std::size_t i = 0; i < lanes.size; ++i) {
      hits.t[i] = lanes.far_limit;
      hits.ending[i] = Ending::escaped;
      hits.nearest[i] = std::numeric_limits<float>::infinity();
      for (const double height : {low, high}) {
        const auto t = static_cast<Number>((height - static_cast<double>(lanes.z[i])) /
                                           static_cast<double>(lanes.direction_z[i]));
        const Number start = lanes.any_start ? lanes.start[i] : Number(0);
        const Number limit = lanes.any_limit ? lanes.limit[i] : lanes.far_limit;
        if (!(t > start && t < limit && t < hits.t[i])) continue;
        hits.t[i] = t;
        hits.ending[i] = Ending::hit;
        hits.face[i] = Face::curved;
        hits.material[i] = hits.other[i] = material;
        hits.normal_z[i] = lanes.direction_z[i] > 0 ? -1.0f : 1.0f;
      }
    }
    return hits;
  }
  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget&) const override {
    return trace(lanes);
  }
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget&) const override {
    return trace(lanes);
  }
  Bounds bounds() const override { return {{-100, -100, low}, {100, 100, high}}; }
  std::string summary() const override { return fmt::format("slab from {} to {} m", low, high); }
  std::size_t memory_bytes() const override { return sizeof(*this); }
};
struct Slab final : SolidPart {
  double low = 2, high = 2.2;
  std::string_view kind() const override { return "slab"; }
  std::shared_ptr<const Solid> compile(const SolidContext&) const override {
    return std::make_shared<const SlabSolid>(low, high, 0);
  }
};

TEST(SolidParts, OfOnesOwnAreMetHideLightAndAreChecked) {
  const auto shot = [](bool slab, Softness softness) {
    Scene scene;
    scene.materials.push_back({});
    Room& room = scene.room();
    room.light.ambient = {0.2f, 0.2f, 0.2f};
    room.light.lamps.push_back({.place = {0, 2, 3}, .range = 20});
    room.add(field::plane({0, 0, 1}, 0).made_of(0));
    if (slab) room.add(Slab{});
    Budget budget{.frame = {32, 24, 1}};
    budget.light.softness = softness;
    const Camera camera = Camera::look_at({0, -2, 1}, {0, 2, 0}, 1);
    return render(compile(scene), camera, budget, test::with_layers({Layer::color, Layer::depth}));
  };
  for (const Softness softness : {Softness::hard, Softness::quick, Softness::sampled}) {
    const float lit = shot(false, softness).values(Layer::color, 0)(16, 20);
    const float dark = shot(true, softness).values(Layer::color, 0)(16, 20);
    EXPECT_LT(dark, 0.7f * lit) << "the lamp above the slab does not reach the floor";
    EXPECT_GT(dark, 0.05f);
  }
  Scene scene;
  scene.materials.push_back({});
  scene.room().add(Slab{});
  const SceneReport report = check(scene, {.eye = {0, 0, 1}}, Budget{.frame = {32, 24, 1}});
  EXPECT_THAT(report.solids, testing::ElementsAre("slab from 2 to 2.2 m"));
  EXPECT_THROW(io::scene_text({.scene = scene}), Error) << "files know no slabs";
}

}  // namespace
}  // namespace photonlane
