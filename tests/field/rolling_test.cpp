#include "photonlane/field/rolling.hpp"

#include <gmock/gmock.h>

#include <Eigen/Geometry>
#include <cmath>

#include "photonlane/photonlane.hpp"

#include "support/effort.hpp"
namespace photonlane {
namespace {

const Vec3d gravity(0, 0, -9.81);

RollingBody ball_at(const Vec3d& place, double radius = 0.1) {
  RollingBody body;
  body.balls = {{{0, 0, 0}, radius}};
  body.place = place;
  return body;
}

TEST(Rolling, FallsAsFarAsGravitySays) {
  const CompiledField far_floor(field::plane({0, 0, 1}, -100));
  std::vector<RollingBody> bodies{ball_at({0, 0, 0})};
  bodies[0].velocity = {1, 0, 2};
  roll(far_floor, bodies, 1.5);
  EXPECT_NEAR(bodies[0].place.x(), 1.5, 1e-9);
  EXPECT_NEAR(bodies[0].place.z(), 2 * 1.5 - 0.5 * 9.81 * 1.5 * 1.5, 1e-9);
  EXPECT_NEAR(bodies[0].velocity.z(), 2 - 9.81 * 1.5, 1e-9);
}

TEST(Rolling, BouncesByItsShare) {
  const CompiledField floor(field::plane({0, 0, 1}));
  std::vector<RollingBody> bodies{ball_at({0, 0, 1.1})};
  bodies[0].bounce = 0.6;
  double energy = body_energy(bodies[0], gravity);
  double highest = 0;
  bool down = false;
  for (int i = 0; i < 1200; ++i) {
    roll(floor, bodies, 1.0 / 1000);
    const double now = body_energy(bodies[0], gravity);
    ASSERT_LE(now, energy + 1e-9);
    energy = now;
    if (bodies[0].touching) {
      if (down && highest > 0) break;
      down = true;
    }
    if (down) highest = std::max(highest, bodies[0].place.z() - 0.1);
  }
  // From a meter, back to the square of the share of it.
  EXPECT_NEAR(highest, 0.36, 0.01);
}

TEST(Rolling, RollsDownASlopeAsABallDoes) {
  const double slope = degrees(20);
  const CompiledField hill(field::plane({std::sin(slope), 0, std::cos(slope)}));
  const auto run = [&](double friction) {
    std::vector<RollingBody> bodies{ball_at({0.1 * std::sin(slope), 0, 0.1 * std::cos(slope)})};
    bodies[0].friction = friction;
    bodies[0].bounce = 0;
    roll(hill, bodies, 1);
    return bodies[0];
  };
  // A ball that rolls has two sevenths of its energy in its spin; one that slides has none.
  const double gain = 9.81 * std::sin(slope);
  const RollingBody rolls = run(1);
  EXPECT_NEAR(rolls.velocity.norm(), 5.0 / 7 * gain, 0.01 * gain);
  EXPECT_NEAR(rolls.spin.norm() * 0.1, rolls.velocity.norm(), 0.01 * gain);
  const RollingBody slides = run(0);
  EXPECT_NEAR(slides.velocity.norm(), gain, 0.01 * gain);
  EXPECT_LT(slides.spin.norm(), 1e-9);
}

TEST(Rolling, SticksWhereFrictionHoldsIt) {
  // Three balls in a triangle do not roll; friction of 0.6 holds up to 31 degrees.
  RollingBody tripod;
  tripod.balls = {{{0.2, 0, 0}, 0.1}, {{-0.1, 0.17, 0}, 0.1}, {{-0.1, -0.17, 0}, 0.1}};
  const double slope = degrees(20);
  const Vec3d up(std::sin(slope), 0, std::cos(slope));
  tripod.place = 0.11 * up;
  tripod.turn = Eigen::AngleAxisd(slope, Vec3d::UnitY()).toRotationMatrix();
  tripod.bounce = 0;
  std::vector<RollingBody> bodies{tripod};
  const CompiledField hill(field::plane(up));
  roll(hill, bodies, 1);
  const Vec3d there = bodies[0].place;
  roll(hill, bodies, 2);
  EXPECT_LT((bodies[0].place - there).norm(), 2e-3);
  for (const Vec3d& place : ball_places(bodies[0])) {
    EXPECT_NEAR(hill.distance(place), 0.1, 2e-3);
  }
  // A steeper one it goes down.
  const double steep = degrees(45);
  const Vec3d off(std::sin(steep), 0, std::cos(steep));
  bodies[0] = tripod;
  bodies[0].place = 0.11 * off;
  bodies[0].turn = Eigen::AngleAxisd(steep, Vec3d::UnitY()).toRotationMatrix();
  roll(CompiledField(field::plane(off)), bodies, 1);
  EXPECT_GT(bodies[0].velocity.norm(), 9.81 * (std::sin(steep) - 0.6 * std::cos(steep)) - 0.5);
}

/// Lets balls and a dumbbell fall on a field and tells how that went.
void expect_sound(const Field& made, const Vec3d& above, double spread, double radius,
                  double seconds) {
  const CompiledField field(field::measured(made));
  std::vector<RollingBody> bodies;
  for (int i = 0; i < 5; ++i) {
    const double angle = 2 * pi * i / 5;
    bodies.push_back(
        ball_at(above + spread * Vec3d(std::cos(angle), std::sin(angle), 0.1 * i), radius));
  }
  RollingBody pair;
  pair.balls = {{{-radius, 0, 0}, radius}, {{1.2 * radius, 0, 0}, 0.7 * radius}};
  pair.place = above;
  bodies.push_back(pair);
  std::vector<double> energy;
  for (const RollingBody& body : bodies) energy.push_back(body_energy(body, gravity));
  const int steps = static_cast<int>(seconds * 60);
  std::size_t touched = 0;
  for (int i = 0; i < steps; ++i) {
    roll(field, bodies, 1.0 / 60);
    for (std::size_t k = 0; k < bodies.size(); ++k) {
      const double now = body_energy(bodies[k], gravity);
      ASSERT_LE(now, energy[k] + 1e-9 * std::abs(energy[k])) << name_of(made.kind()) << " " << k;
      energy[k] = now;
      touched += bodies[k].touching;
      if (!bodies[k].touching) continue;
      const std::vector<Vec3d> places = ball_places(bodies[k]);
      const std::vector<Vec3d> nearest = field.closest_points(places);
      for (std::size_t b = 0; b < places.size(); ++b) {
        ASSERT_GT((places[b] - nearest[b]).norm(), 0.9 * bodies[k].balls[b].radius)
            << name_of(made.kind()) << " " << k << " at " << static_cast<double>(i) / 60;
        ASSERT_GT(field.distance(places[b]), 0);
      }
    }
  }
  EXPECT_GT(touched, 20u);
}

TEST(Rolling, OnFoldsNeitherSinksNorGainsEnergy) {
  expect_sound(field::sponge(2, 4), {0.2, 0.1, 1.3}, 0.5, 0.06, 1.5);
  expect_sound(field::gasket(GasketForm::octahedron, 1, 5), {0.05, 0.02, 1.2}, 0.2, 0.05, 1.5);
}

TEST(Rolling, OnEstimatesNeitherSinksNorGainsEnergy) {
  expect_sound(field::bulb(8, 6), {0, 0, 1.4}, 0.3, 0.08, 0.8);
  expect_sound(field::julia({-0.2, 0.6, 0.2, 0}, 8), {0, 0, 1.3}, 0.2, 0.08, 0.8);
}

TEST(Rolling, ComesToRestAndStaysWhereItIs) {
  // A bowl of steps: whatever falls in stays.
  const Field bowl = field::carve({field::place({0, 0, -0.5}, field::box({4, 4, 1})),
                                   field::place({0, 0, 0.6}, field::sphere(1))});
  const CompiledField field(bowl);
  std::vector<RollingBody> bodies{ball_at({0.3, 0.1, 0.4}), ball_at({-0.35, 0, 0.3}, 0.07)};
  RollingBody pair;
  pair.balls = {{{-0.06, 0, 0}, 0.06}, {{0.07, 0, 0}, 0.05}};
  pair.place = {0, 0.2, 0.3};
  bodies.push_back(pair);
  RollSettings settings;
  settings.drag = 0.8;
  roll(field, bodies, 12, settings);
  const std::vector<RollingBody> before = bodies;
  roll(field, bodies, 1, settings);
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    EXPECT_GT(bodies[i].still, 1) << i;
    EXPECT_EQ(bodies[i].place, before[i].place) << i;
    EXPECT_EQ(bodies[i].velocity.norm(), 0) << i;
  }
}

TEST(Rolling, SleepsOnWhileSomethingElseMoves) {
  // A floor, and a ball far off that goes up and down.
  const auto field_at = [](double time) {
    return CompiledField(
        field::join({field::plane({0, 0, 1}),
                     field::place({5, 0, 2 + std::sin(3 * time)}, field::sphere(0.5))}));
  };
  std::vector<RollingBody> bodies{ball_at({0, 0, 0.12}), ball_at({5, 0, 0.1})};
  roll(field_at, bodies, 0, 2);
  const RollingBody before = bodies[0];
  EXPECT_GT(before.still, 0.5);
  roll(field_at, bodies, 2, 4);
  EXPECT_EQ(bodies[0].place, before.place);
  EXPECT_NEAR(bodies[0].still, before.still + 2, 1e-9);
  // What comes down on a body that rests wakes it.
  const auto press_at = [](double time) {
    return CompiledField(field::join(
        {field::plane({0, 0, 1}), field::place({0.06, 0, 0.75 - 0.3 * time}, field::sphere(0.4))}));
  };
  roll(press_at, bodies, 0, 1);
  EXPECT_GT((bodies[0].place - before.place).norm(), 0.02);
}

TEST(Rolling, IsLiftedByWhatComesUp) {
  const auto floor_at = [](double time) {
    return CompiledField(field::plane({0, 0, 1}, 0.2 * time));
  };
  std::vector<RollingBody> bodies{ball_at({0, 0, 0.1})};
  roll(floor_at, bodies, 0, 2);
  EXPECT_NEAR(bodies[0].place.z(), 0.5, 5e-3);
  EXPECT_NEAR(bodies[0].velocity.z(), 0.2, 0.1);
}

TEST(Rolling, StaysOnFoldsWhoseParametersMove) {
  const auto tree_at = [](double time) {
    return CompiledField(
        field::join({field::plane({0, 0, 1}, -0.4),
                     field::iterate(4,
                                    {steps::mirror(SpaceAxis::x),
                                     steps::place({0.25, 0, 0.3}, {0, 0.4 + 0.3 * time, 0}, 0.6)},
                                    field::capsule({0, 0, -0.4}, {0, 0, 0.4}, 0.12))}));
  };
  std::vector<RollingBody> bodies{ball_at({0.1, 0, 0.9}, 0.06), ball_at({-0.4, 0.05, 0.8}, 0.05)};
  for (int i = 0; i < 20; ++i) {
    roll(tree_at, bodies, 0.1 * i, 0.1 * (i + 1));
    for (const RollingBody& body : bodies) {
      ASSERT_GT(tree_at(0.1 * (i + 1)).distance(body.place), 0.7 * body.balls[0].radius) << i;
      // What the twigs give is little.
      ASSERT_LT(body.velocity.norm(), 6);
    }
  }
}

TEST(Rolling, TumblesFreelyWithTheSameMomentum) {
  // A body of two unlike balls and a third aside, spun about no axis of its own.
  RollingBody body;
  body.balls = {{{0, 0, 0}, 0.1}, {{0.25, 0, 0}, 0.06}, {{0, 0.18, 0.05}, 0.05}};
  body.spin = {3, -2, 5};
  body.velocity = {0.5, 0, 3};
  const Vec3d start = mass_middle(body);
  const auto momentum = [](const RollingBody& one) {
    // Each ball's own turn, and its mass on its arm.
    double volume = 0;
    for (const BodyBall& ball : one.balls) volume += std::pow(ball.radius, 3);
    const Vec3d middle = mass_middle(one);
    const std::vector<Vec3d> places = ball_places(one);
    Vec3d sum(0, 0, 0);
    for (std::size_t i = 0; i < places.size(); ++i) {
      const double radius = one.balls[i].radius;
      const double mass = one.mass * std::pow(radius, 3) / volume;
      const Vec3d arm = places[i] - middle;
      sum += mass * (0.4 * radius * radius * one.spin + arm.cross(one.spin.cross(arm)));
    }
    return sum;
  };
  const Vec3d before = momentum(body);
  const double energy = body_energy(body, gravity);
  std::vector<RollingBody> bodies{body};
  const CompiledField far_floor(field::plane({0, 0, 1}, -100));
  roll(far_floor, bodies, 1.2);
  EXPECT_LT((momentum(bodies[0]) - before).norm(), 0.02 * before.norm());
  EXPECT_LE(body_energy(bodies[0], gravity), energy + 1e-9);
  EXPECT_GT(body_energy(bodies[0], gravity), 0.98 * energy);
  const Vec3d expected = start + 1.2 * body.velocity + 0.5 * 1.44 * gravity;
  EXPECT_LT((mass_middle(bodies[0]) - expected).norm(), 1e-4);
  EXPECT_FALSE(bodies[0].touching);
}

TEST(Rolling, GoesThroughHolesThatAreWideEnough) {
  const CompiledField field(field::sponge(0.9, 2));
  // The hole through the middle is a third of it wide.
  std::vector<RollingBody> bodies{ball_at({0.01, 0, 0.7}, 0.1), ball_at({0.01, 0, 0.9}, 0.2)};
  roll(field, bodies, 0.7);
  EXPECT_LT(bodies[0].place.z(), -0.45);
  EXPECT_GT(bodies[1].place.z(), 0.45);
}

TEST(Rolling, RefusesBodiesThatCannotBe) {
  const CompiledField floor(field::plane({0, 0, 1}));
  const auto refused = [&](const auto& change) {
    std::vector<RollingBody> bodies{ball_at({0, 0, 1})};
    change(bodies[0]);
    try {
      roll(floor, bodies, 0.1);
    } catch (const Error& error) {
      return error.kind() == ErrorKind::input;
    }
    return false;
  };
  EXPECT_TRUE(refused([](RollingBody& body) { body.balls.clear(); }));
  EXPECT_TRUE(refused([](RollingBody& body) { body.balls[0].radius = 0; }));
  EXPECT_TRUE(refused([](RollingBody& body) { body.mass = -1; }));
  EXPECT_TRUE(refused([](RollingBody& body) { body.bounce = 1.5; }));
  EXPECT_TRUE(refused([](RollingBody& body) { body.place.x() = std::nan(""); }));
}

TEST(Rolling, BodiesOfSeveralBallsSlideDownSlopesAsOneDoes) {
  for (const double slope : {degrees(2), degrees(30), degrees(60)}) {
    const Vec3d normal(std::sin(slope), 0, std::cos(slope));
    const Vec3d up(-std::cos(slope), 0, std::sin(slope));
    const CompiledField hill(field::plane(normal));
    for (const int balls : {1, 2, 3, 4}) {
      for (const double pushed : {0.0, 1.0}) {
        RollingBody body;
        const Vec3d feet[] = {{-0.1, -0.1, 0}, {0.1, 0.1, 0}, {0.1, -0.1, 0}, {-0.1, 0.1, 0}};
        body.balls.clear();
        for (int k = 0; k < balls; ++k)
          body.balls.push_back({balls == 1 ? Vec3d(0, 0, 0) : feet[k], 0.02});
        body.turn = Eigen::Quaterniond::FromTwoVectors(Vec3d(0, 0, 1), normal).toRotationMatrix();
        body.place = 0.02 * normal;
        body.friction = 0;
        body.bounce = 0;
        body.velocity = pushed * up;
        roll(hill, {&body, 1}, 1.5);
        // Without friction everything slides alike.
        const double gain = 9.81 * std::sin(slope);
        const double way = 0.5 * gain * 1.5 * 1.5 - pushed * 1.5;
        EXPECT_NEAR((body.place - 0.02 * normal).dot(-up), way, 0.01 * std::abs(way) + 0.01)
            << balls << " balls, " << slope << ", pushed " << pushed;
        EXPECT_NEAR(-body.velocity.dot(up), gain * 1.5 - pushed, 0.02 * gain + 0.01) << balls;
        EXPECT_EQ(body.still, 0);
      }
    }
  }
}

TEST(Rolling, NeverRaisesEnergyWhereSeveralBallsTouch) {
  const CompiledField steps(
      field::join({field::plane({0, 0, 1}), field::place({0.6, 0, 0}, field::box({1, 3, 0.2}))}));
  RollingBody body;
  body.balls = {{{-0.1, -0.1, 0}, 0.05},
                {{0.1, -0.1, 0}, 0.04},
                {{-0.1, 0.1, 0}, 0.05},
                {{0.1, 0.1, 0.05}, 0.06}};
  body.place = {-0.4, 0, 0.5};
  body.velocity = {1.5, 0.3, 0};
  double energy = body_energy(body, gravity);
  for (int i = 0; i < 400; ++i) {
    roll(steps, {&body, 1}, 0.005);
    const double now = body_energy(body, gravity);
    ASSERT_LE(now, energy + 1e-9) << i;
    energy = now;
  }
}

TEST(Rolling, OtherBodiesChangeNothing) {
  const CompiledField ground(field::waves(0.05, 1, field::plane({0, 0, 1})));
  const auto slow_one = [] {
    RollingBody body = ball_at({0.2, 0.1, 0.5});
    body.velocity = {0.3, 0, 0};
    return body;
  };
  std::vector<RollingBody> alone{slow_one()};
  const double seconds = test::effort(15) / 10.0;
  roll(ground, alone, seconds);
  std::vector<RollingBody> together{slow_one(), ball_at({100, 0, 0.5}, 0.001)};
  together[1].velocity = {40, 3, 0};
  roll(ground, together, seconds);
  EXPECT_EQ(together[0].place, alone[0].place);
  EXPECT_EQ(together[0].velocity, alone[0].velocity);
}

TEST(Rolling, BodiesThatBeginInsideComeOut) {
  const CompiledField ground(field::plane({0, 0, 1}));
  for (const double depth : {0.01, 0.08, 0.5, 3.0}) {
    std::vector<RollingBody> bodies{ball_at({0, 0, -depth})};
    bodies[0].bounce = 0;
    roll(ground, bodies, 0.5);
    EXPECT_NEAR(bodies[0].place.z(), 0.1, 2e-3) << depth;
    EXPECT_LT(bodies[0].velocity.norm(), 0.1) << depth;
  }
  // Nowhere to go.
  const CompiledField full(field::invert(field::sphere(0.05)));
  std::vector<RollingBody> bodies{ball_at({0, 0, 0}), ball_at({0.01, 0, 0})};
  EXPECT_THROW(roll(full, bodies, 0.1), Error);
}

}  // namespace
}  // namespace photonlane
