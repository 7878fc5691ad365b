#include <gtest/gtest.h>

#include <cmath>

#include "support/scenes.hpp"

namespace photonlane {
namespace {

/// Two rooms with floors of their own, and a door in a solid wall of each.
Scene two_rooms(double scale = 1) {
  Scene scene;
  scene.wall({.base = {0.5f, 0.4f, 0.3f}}, "stone");
  scene.wall({.base = {0.3f, 0.5f, 0.3f}}, "leaf");
  scene.room().name = "hall";
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  scene.room().add(field::place({3, 0, 2}, field::box({2, 20, 4})).made_of(0));
  Portal door;
  door.name = "door";
  door.opening = {.width = 1.2, .height = 2.2};
  door.stance = {.at = {2, 0, 1.1}, .heading = pi};
  door.to = PortalTarget{.room = "garden",
                         .stance = {.at = {5, 5, 2 + 1.1 * scale}, .heading = degrees(90)},
                         .scale = scale};
  scene.room().portals.push_back(door);
  Room& garden = scene.add_room("garden");
  garden.add(field::plane({0, 0, 1}, 2).made_of(1));
  garden.add(field::place({5, 3.5, 4}, field::box({40, 3, 8})).made_of(1));
  return scene;
}

const Camera start{.eye = {-1, 0.1, 1.6}, .heading = 0, .field_of_view = degrees(60)};

WalkScript straight(double meters, double rate = 25) {
  WalkScript script;
  script.rate = rate;
  script.moves = {{.forward = meters, .over = 2}};
  return script;
}

TEST(RoomWalks, GoThroughADoorInAWallWithAllTheyAre) {
  for (const double scale : {1.0, 0.25, 3.0}) {
    const World world = compile(two_rooms(scale));
    const WalkStep end = walk(world, start, straight(6)).back();
    EXPECT_EQ(end.room, 1u);
    EXPECT_NEAR(end.scale, scale, 1e-12);
    // 3 m to the door, 3 m on, at the scale; what was to the left of the way stays so.
    EXPECT_NEAR(end.place.x(), 5 - 0.1 * scale, 1e-3);
    EXPECT_NEAR(end.place.y(), 5 + 3 * scale, 1e-3);
    EXPECT_NEAR(end.heading, degrees(90), 1e-9);
    EXPECT_EQ(end.contacts, 0);
    // The eye is as much above the floor there as the size says.
    EXPECT_NEAR(camera_at(world, start, end).eye.z(), 2 + 1.6 * scale, 2e-3);
    EXPECT_EQ(camera_at(world, start, end).room, "garden");
  }
}

TEST(RoomWalks, NeverMissADoorWhateverTheRate) {
  const World world = compile(two_rooms());
  for (const double rate : {0.5, 3.0, 25.0, 200.0}) {
    const WalkStep end = walk(world, start, straight(6, rate)).back();
    EXPECT_EQ(end.room, 1u) << rate;
    EXPECT_NEAR(end.place.y(), 8, 2e-3) << rate;
  }
  // Beside the opening the wall is a wall.
  Camera beside = start;
  beside.eye.y() = 1.5;
  const WalkStep stopped = walk(world, beside, straight(6)).back();
  EXPECT_EQ(stopped.room, 0u);
  EXPECT_NEAR(stopped.place.x(), 2 - 0.25, 5e-3);
}

TEST(RoomWalks, MeetWhatStandsBeyondAnOpeningHalfThrough) {
  Scene scene = two_rooms();
  // A post right behind the door, 0.15 m beyond: the body stops with its middle still on this side.
  scene.rooms[1].add(field::place({5, 5.25, 3}, field::box({1.2, 0.2, 2})));
  const WalkStep end = walk(compile(scene), start, straight(6)).back();
  EXPECT_EQ(end.room, 0u);
  EXPECT_NEAR(end.place.x(), 2 + 0.15 - 0.25, 5e-3);
  EXPECT_GT(end.contacts, 0);
}

TEST(RoomWalks, ThereAndBackIsWhereOneWas) {
  const World world = compile(two_rooms(0.5));
  WalkScript script = straight(5);
  script.moves.push_back({.forward = -5, .over = 2});
  const std::vector<WalkStep> steps = walk(world, start, script);
  EXPECT_EQ(steps[40].room, 1u);
  const WalkStep& end = steps.back();
  EXPECT_EQ(end.room, 0u);
  EXPECT_NEAR(end.scale, 1, 1e-12);
  EXPECT_NEAR(end.place.x(), start.eye.x(), 2e-3);
  EXPECT_NEAR(end.place.y(), start.eye.y(), 2e-3);
  EXPECT_NEAR(end.heading, 0, 1e-9);
  EXPECT_NEAR(end.level, 0, 2e-3);
}

TEST(RoomWalks, RoundALoopIsTheProductOfItsMaps) {
  // A pair that turns by a quarter and shrinks by a fifth each time through.
  Scene scene;
  scene.wall({.base = {0.5f, 0.4f, 0.3f}}, "stone");
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  Portal out;
  out.name = "out";
  out.opening = {.width = 4, .height = 4};
  out.stance = {.at = {2, 0, 2}, .heading = pi};
  out.to = PortalTarget{.stance = {.at = {-2, 0, 1.6}}, .scale = 0.8};
  out.one_way = true;
  scene.room().portals.push_back(out);
  const World world = compile(scene);
  Similarity half_turn;
  half_turn.turn = Vec3d(-1, -1, 1).asDiagonal();
  Similarity there = out.to->stance.frame();
  there.scale = 0.8;
  const Similarity map = there.after(half_turn).after(out.stance.frame().inverse());
  const Camera camera{.eye = {-1, 0.3, 1.6}, .heading = 0};
  WalkScript script;
  script.radius = 0.2;
  script.moves = {{.forward = 13, .over = 5}};
  Vec2d place(camera.eye.x(), camera.eye.y());
  double left = 13;
  double scale = 1;
  int rounds = 0;
  while (place.x() + left * scale > 2) {
    left -= (2 - place.x()) / scale;
    const Vec3d beyond = map.place({2, place.y(), 0});
    place = {beyond.x(), beyond.y()};
    scale *= 0.8;
    ++rounds;
  }
  const WalkStep end = walk(world, camera, script).back();
  EXPECT_GE(rounds, 2);
  EXPECT_NEAR(end.scale, std::pow(0.8, rounds), 1e-12);
  EXPECT_NEAR(end.place.x(), place.x() + left * scale, 2e-3);
  EXPECT_NEAR(end.place.y(), place.y(), 2e-3);
}

TEST(RoomWalks, FramesBeforeAndAfterACrossingDifferByTheMotionAlone) {
  const World world = compile(two_rooms());
  const Camera near_door{.eye = {2 - 1e-4, 0.1, 1.6}, .heading = 0.2, .field_of_view = degrees(60)};
  WalkScript script;
  script.moves = {{.sideways = 0, .over = 1}};
  script.rate = 1;
  Budget budget = Budget{}.reference();
  budget.frame = {60, 40, 1};
  budget.light.corners = Corners::none;
  const auto picture = [&](double ahead) {
    script.moves[0].forward = ahead / std::cos(0.2);
    const std::vector<WalkStep> steps = walk(world, near_door, script);
    return render(world, camera_at(world, near_door, steps.back()), budget,
                  test::with_layers(LayerSet::measurable()));
  };
  const Frame before = picture(0);
  const Frame after = picture(2e-4);
  const Difference difference = compare(after, before);
  EXPECT_LT(difference.rmse, 2e-3);
  script.moves[0].forward = 2e-4 / std::cos(0.2);
  EXPECT_EQ(walk(world, near_door, script).back().room, 1u);
}

TEST(RoomWalks, SwellsAreLongerToCross) {
  Scene scene;
  scene.wall({.base = {0.5f, 0.4f, 0.3f}}, "stone");
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  scene.room().swells.push_back({.at = {2, 0, 0.8}, .radius = 2, .axis = {1, 0, 0}, .stretch = 3});
  // The length of the way across by the metric, summed up.
  double across = 0;
  for (int i = 0; i < 4000; ++i) {
    across += swell_factor(scene.room().swells[0], {0.001 * (i + 0.5), 0, 0.8}).stretch * 0.001;
  }
  const Camera camera{.eye = {0, 0, 1.6}};
  const WalkStep end = walk(compile(scene), camera, straight(across)).back();
  EXPECT_NEAR(end.place.x(), 4, 0.02);
}

}  // namespace
}  // namespace photonlane
