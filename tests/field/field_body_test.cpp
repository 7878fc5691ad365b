// Bodies among fields: where they touch, how they slide, and that nothing lets them through.

#include <gmock/gmock.h>

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"
#include "photonlane/photonlane.hpp"

#include "support/effort.hpp"
namespace photonlane {
namespace {

using namespace field;

Vec3d somewhere(std::uint64_t which, double reach) {
  Vec3d place;
  for (std::uint32_t axis = 0; axis < 3; ++axis) {
    place[axis] = reach * (2 * random_uniform({.seed = 5, .pixel = which}, axis) - 1);
  }
  return place;
}

TEST(FieldBodies, TouchWhereGeometrySays) {
  const CompiledField ball(sphere(1));
  const FieldContact above = contact(ball, {.place = {0, 0, 1.5}, .radius = 0.3});
  EXPECT_NEAR(above.gap, 0.2, 1e-9);
  EXPECT_NEAR(above.normal.z(), 1, 1e-9);
  EXPECT_FALSE(above.touching());
  EXPECT_NEAR(contact(ball, {.place = {1.1, 0, 0}, .radius = 0.3}).gap, -0.2, 1e-9);
  // A capsule is nearest by the ball that is.
  const FieldContact upright = contact(ball, {.place = {1.5, 0, -1}, .radius = 0.25, .height = 2});
  EXPECT_NEAR(upright.gap, 0.25, 1e-9);
  EXPECT_NEAR(upright.height, 1, 1e-9);
  // Bounds of distances are taken by how fast they grow.
  const CompiledField damped(damp(0.25, sphere(1)));
  EXPECT_NEAR(contact(damped, {.place = {0, 0, 1.5}, .radius = 0.3}).gap, 0.2, 1e-9);
}

TEST(FieldBodies, StopAtWallsAndSlideAlongThem) {
  const CompiledField wall(plane({-1, 0, 0}, -2));  // all from x = 2 on
  const FieldBody body{.place = {0, 0, 0}, .radius = 0.5};
  const FieldMoved straight = move_body(wall, body, {10, 0, 0});
  EXPECT_NEAR(straight.place.x(), 1.5, 2e-4);
  EXPECT_EQ(straight.contacts, 1);
  const FieldMoved slanted = move_body(wall, body, {3, 4, 1});
  EXPECT_NEAR(slanted.place.x(), 1.5, 2e-4);
  EXPECT_NEAR(slanted.place.y(), 4, 1e-6);
  EXPECT_NEAR(slanted.place.z(), 1, 1e-6);
  EXPECT_NEAR(slanted.normal.x(), -1, 1e-9);
  const FieldMoved free = move_body(wall, body, {1, -7, 2});
  EXPECT_LT((free.place - Vec3d(1, -7, 2)).norm(), 1e-9);
  EXPECT_EQ(free.contacts, 0);
  // Into a corner: along both walls, then nowhere.
  const CompiledField corner(join({plane({-1, 0, 0}, -2), plane({0, -1, 0}, -3)}));
  const FieldMoved cornered = move_body(corner, body, {20, 20, 1});
  EXPECT_NEAR(cornered.place.x(), 1.5, 1e-3);
  EXPECT_NEAR(cornered.place.y(), 2.5, 1e-3);
  EXPECT_NEAR(cornered.place.z(), 1, 0.05);
}

TEST(FieldBodies, NeverTunnelHoweverFastOrThin) {
  // A shell of a millimeter, and bodies inside it that want far out.
  const CompiledField shell_field(shell(0.001, sphere(3)));
  const CompiledField twisted(join({shell(0.002, box({6, 6, 6})), twist(1.5, box({0.8, 0.3, 5})),
                                    noise(0.1, 0.4, 3, place({1.5, 0, 0}, sphere(0.6)))}));
  std::vector<FieldBody> bodies;
  std::vector<Vec3d> ways;
  for (std::uint64_t i = 0; i < test::effort(300); ++i) {
    bodies.push_back({.place = somewhere(i, 1.2), .radius = 0.1, .height = i % 3 == 0 ? 0.3 : 0});
    ways.push_back((i % 2 == 0 ? 1000 : 5) * somewhere(1000 + i, 1));
  }
  for (const CompiledField* field : {&shell_field, &twisted}) {
    const std::vector<FieldMoved> moved = move_bodies(*field, bodies, ways);
    int free = 0;
    for (std::size_t i = 0; i < bodies.size(); ++i) {
      if (field == &shell_field) {
        EXPECT_LT(moved[i].place.norm(), 3) << i;
        EXPECT_LE(moved[i].place.norm() + 0.1, 3 - 0.0005 + 0.004) << i;
      } else {
        EXPECT_LT(moved[i].place.cwiseAbs().maxCoeff(), 3) << i;
        if (field->distance(bodies[i].place) < 0.15) continue;
        ++free;
        // And nowhere inside anything.
        EXPECT_GT(field->distance(moved[i].place), 0) << i;
      }
    }
    if (field == &twisted) {
      EXPECT_GT(free, static_cast<int>(bodies.size() / 2));
    }
  }
}

TEST(FieldBodies, ArePushedOutOfWhatTheyStartIn) {
  const CompiledField ball(sphere(1));
  const FieldMoved out = move_body(ball, {.place = {0.3, 0, 0}, .radius = 0.2}, {0, 0, 0});
  EXPECT_NEAR(out.place.x(), 1.2, 2e-4);
  EXPECT_FALSE(out.stuck);
  // Between walls nearer than it is wide it stays.
  const CompiledField narrow(join({plane({-1, 0, 0}, -0.1), plane({1, 0, 0}, -0.1)}));
  EXPECT_TRUE(move_body(narrow, {.place = {0, 0, 0}, .radius = 0.5}, {0, 1, 0}).stuck);
}

TEST(FieldBodies, ManyMoveAsEachAlone) {
  const CompiledField field(join(
      {plane({0, 0, 1}), repeat({2, 2, 0}, {0, 0, 1}, place({0, 0, 0.5}, box({0.6, 0.6, 1})))}));
  std::vector<FieldBody> bodies;
  std::vector<Vec3d> ways;
  for (std::uint64_t i = 0; i < 60; ++i) {
    bodies.push_back({.place = somewhere(i, 3) + Vec3d(0, 0, 3.3), .radius = 0.2});
    ways.push_back(4 * somewhere(500 + i, 1) - Vec3d(0, 0, 3));
  }
  const std::vector<FieldMoved> together = move_bodies(field, bodies, ways);
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    const FieldMoved alone = move_body(field, bodies[i], ways[i]);
    EXPECT_EQ(together[i].place, alone.place) << i;
    EXPECT_EQ(together[i].contacts, alone.contacts) << i;
    EXPECT_GE(field.distance(alone.place), 0.2 - 2e-3) << i;
  }
  EXPECT_THROW(move_bodies(field, bodies, {}), Error);
  EXPECT_THROW(move_body(field, {.place = {0, 0, 0}, .radius = 0}, {1, 0, 0}), Error);
  EXPECT_THROW(move_body(field, {}, {std::nan(""), 0, 0}), Error);
}

TEST(FieldBodies, GroundIsWhatIsBelow) {
  const CompiledField steps(join({plane({0, 0, 1}), place({2, 0, 0.2}, box({2, 2, 0.4}))}));
  EXPECT_NEAR(ground_below(steps, {0, 0, 3}, 10), 0, 1e-4);
  EXPECT_NEAR(ground_below(steps, {2, 0, 3}, 10), 0.4, 1e-4);
  EXPECT_NEAR(ground_below(steps, {0, 0, 3}, 1), 2, 1e-9);
}

TEST(FieldBodies, WalkOverStepsAroundColumnsAndStopAtWalls) {
  Scene scene;
  Room& room = scene.room();
  room.add(plane({0, 0, 1}));
  room.add(place({3, 0, 0.1}, box({2, 4, 0.2})));  // a step up and down
  room.add(place({6, 0.1, 1}, cylinder(0.3, 2)));  // a column in the way
  room.add(plane({-1, 0, 0}, -10));                // a wall at x = 10
  const World world = compile(scene);
  Camera camera;
  camera.eye = {0, 0, 1.6};
  camera.heading = 0;
  WalkScript script;
  script.moves = {{.forward = 20, .over = 10}};
  const std::vector<WalkStep> steps = walk(world, camera, script);
  double highest = 0;
  for (const WalkStep& step : steps) {
    highest = std::max(highest, step.level);
    if (step.place.x() > 2.3 && step.place.x() < 3.7) {
      EXPECT_NEAR(step.level, 0.2, 1e-3);
    }
    EXPECT_GT((step.place - Vec2d(6, 0.1)).norm(), 0.3 + script.radius - 5e-3);
  }
  EXPECT_NEAR(highest, 0.2, 1e-3);
  EXPECT_NEAR(steps.back().level, 0, 1e-3);
  EXPECT_NEAR(steps.back().place.x(), 10 - script.radius, 5e-3);
  EXPECT_LT(steps.back().place.y(), 0);  // it passed the column on the nearer side
  EXPECT_NEAR(camera_at(camera, steps.back()).eye.z(), 1.6, 1e-3);
  // A step that is too high is a wall.
  script.step = 0.1;
  const double beside = std::sqrt(0.25 * 0.25 - 0.15 * 0.15);  // of its ball, where the edge is
  EXPECT_NEAR(walk(world, camera, script).back().place.x(), 2 - beside, 5e-3);
}

TEST(FieldBodies, FallWhereTheGroundDoesAndFloatWhereThereIsNone) {
  Scene scene;
  scene.room().add(place({0, 0, -0.5}, box({4, 40, 1})));  // a terrace up to x = 2
  scene.room().add(plane({0, 0, 1}, -3));
  Camera camera;
  camera.eye = {0, 0, 1.6};
  camera.heading = 0;
  WalkScript script;
  script.moves = {{.forward = 6, .over = 6}};
  const std::vector<WalkStep> steps = walk(compile(scene), camera, script);
  for (const WalkStep& step : steps) {
    if (step.place.x() < 1.9) {
      EXPECT_NEAR(step.level, 0, 1e-3);
    }
  }
  // Down beside the terrace's edge it is pushed off it by at most its radius.
  EXPECT_GE(steps.back().place.x(), 6);
  EXPECT_LT(steps.back().place.x(), 6 + script.radius);
  EXPECT_NEAR(steps.back().level, -3, 1e-3);
  // Not at once: it takes its time to fall.
  EXPECT_TRUE(std::any_of(steps.begin(), steps.end(), [](const WalkStep& step) {
    return step.level < -0.5 && step.level > -2.5;
  }));

  Scene adrift;
  adrift.room().add(place({4, 0, 1.6}, sphere(0.5)));
  const std::vector<WalkStep> floating = walk(compile(adrift), camera, script);
  EXPECT_EQ(floating.back().level, 0);
  EXPECT_GT(floating.back().contacts + floating[floating.size() / 2].contacts, 0);
}

TEST(FieldBodies, WalkAmongCellsAndFieldsTogether) {
  Scene scene;
  const Cell wall = scene.wall({});
  const LegendLetter legend[] = {{U'#', wall}};
  scene.room().add(draw_cells("##########\n#........#\n#........#\n##########\n", legend));
  scene.room().add(place({4, 2, 1}, box({0.4, 4, 2})));  // all across
  Camera camera;
  camera.eye = {1.5, 2, 1.6};
  camera.heading = 0;
  WalkScript script;
  script.moves = {{.forward = 12, .over = 4}};
  const World world = compile(scene);
  EXPECT_NEAR(walk(world, camera, script).back().place.x(), 3.8 - script.radius, 5e-3);
  EXPECT_EQ(walk(world, camera, script).back().level, 0);
  // Without it the wall behind stops the body.
  EXPECT_NEAR(walk(scene.room().cell_map(), camera, script).back().place.x(), 9 - script.radius,
              1e-6);
}

TEST(FieldBodies, KeepingItsHeightNeitherFloorsNorCeilingsAreGoneThrough) {
  const CompiledField room(field::invert(field::box({4, 4, 4})));
  for (const Vec3d& way : {Vec3d(0, 0, 50), Vec3d(0, 0, -50), Vec3d(30, 1, 40), Vec3d(-3, 40, -9),
                           Vec3d(1e4, 2e4, 3e4)}) {
    const FieldMoved moved = move_body(
        room, {.place = {0, 0, 0}, .radius = 0.2, .height = 0.3, .keeps_height = true}, way);
    EXPECT_FALSE(moved.stuck);
    EXPECT_LE(moved.place.cwiseAbs().maxCoeff(), 1.8 + 2e-4) << way.transpose();
    EXPECT_LE(moved.place.z(), 1.5 + 2e-4);
    EXPECT_GE(contact(room, {.place = moved.place, .radius = 0.2, .height = 0.3}).gap, -2e-4);
  }
  // Into ground that rises so gently that it is hardly beside: the body's middle stays out of it.
  const CompiledField rise(field::plane({-std::sin(0.005), 0, std::cos(0.005)}));
  const FieldMoved into =
      move_body(rise, {.place = {0, 0, 0.3}, .radius = 0.2, .keeps_height = true}, {400, 0, 0});
  EXPECT_GT(rise.distance(into.place), 0.05);
}

TEST(FieldBodies, EndOutOfCornersAndWedges) {
  struct Case {
    const char* name;
    Field made;
    FieldBody body;
    Vec3d way;
  };
  const Case cases[] = {{"wedge",
                         field::join({field::plane({0.1, 1, 0}), field::plane({0.1, -1, 0})}),
                         {.place = {10, 0, 0}, .radius = 0.2},
                         {-3000, 0, 0}},
                        {"corner",
                         field::shell(0.1, field::box({4, 4, 4})),
                         {.place = {-1.1495, 1.5826, 1.0308}, .radius = 0.0095},
                         {-3130, -65307, -29820}},
                        {"crease",
                         field::join({field::plane({1, 0.2, 0}), field::plane({-1, 0.3, 0.1})}),
                         {.place = {0, 5, 0}, .radius = 0.3},
                         {0.4, -60, 2}},
                        {"inside of a ball",
                         field::invert(field::sphere(2)),
                         {.place = {0, 0, 0}, .radius = 0.5},
                         {100, 7, -3}},
                        {"among posts",
                         field::repeat({0.5, 0.5, 0}, {0, 0, 0}, field::cylinder(0.1, 10)),
                         {.place = {0.25, 0.25, 0}, .radius = 0.12},
                         {31, 17, 0}}};
  for (const Case& one : cases) {
    const CompiledField field(one.made);
    ASSERT_GT(contact(field, one.body).gap, 0) << one.name;
    const FieldMoved moved = move_body(field, one.body, one.way);
    FieldBody there = one.body;
    there.place = moved.place;
    EXPECT_GE(contact(field, there).gap, -2e-4) << one.name;
    EXPECT_FALSE(moved.stuck) << one.name << ": it began clear";
    EXPECT_EQ(moved.left, 0) << one.name;
  }
}

TEST(FieldBodies, SlideAsFarAsTheyAreTold) {
  const CompiledField ground(field::plane({0, 0, 1}));
  for (const double way : {1.0, 400.0, 4000.0}) {
    const FieldMoved moved =
        move_body(ground, {.place = {0, 0, 0.05}, .radius = 0.05}, {way, 0, -10});
    EXPECT_NEAR(moved.place.x(), way, 1e-3);
    EXPECT_EQ(moved.left, 0);
  }
  // Too far for its size: it says how much is left.
  const FieldMoved tiny = move_body(ground, {.place = {0, 0, 1e-4}, .radius = 1e-4}, {1e5, 0, -10});
  EXPECT_GT(tiny.left, 0);
  EXPECT_NEAR(tiny.place.x() + tiny.left, 1e5, 1);
}

}  // namespace
}  // namespace photonlane
