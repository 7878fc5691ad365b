#include "photonlane/grid/body.hpp"

#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/grid/map_generator.hpp"
#include "photonlane/grid/reach.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

CellMap room_of(int inside) { return test::drawn(test::square_room(inside)).room().cell_map(); }

TEST(MoveBody, StopsAtAWallAndSlidesAlongIt) {
  const CellMap map = room_of(8);
  const Body body{.place = {4.5, 4.5}, .radius = 0.3};
  const Moved straight = move_body(map, body, {10, 0});
  EXPECT_NEAR(straight.place.x(), 9 - 0.3, 1e-5);
  EXPECT_NEAR(straight.place.y(), 4.5, 1e-9);
  EXPECT_EQ(straight.normal, Vec2d(-1, 0));
  const Moved aslant = move_body(map, body, {10, 2});
  EXPECT_NEAR(aslant.place.x(), 9 - 0.3, 1e-5);
  EXPECT_NEAR(aslant.place.y(), 6.5, 1e-4) << "the part along the wall is kept";
  const Moved corner = move_body(map, body, {100, 100});
  EXPECT_NEAR(corner.place.x(), 9 - 0.3, 1e-5);
  EXPECT_NEAR(corner.place.y(), 9 - 0.3, 1e-5);
  const Moved free = move_body(map, body, {1.25, -0.5});
  EXPECT_EQ(free.place, Vec2d(5.75, 4.0));
  EXPECT_EQ(free.contacts, 0);
}

TEST(MoveBody, RollsRoundACorner) {
  // A single pillar: a disc that grazes its corner is turned aside by exactly its own radius.
  const CellMap map = test::drawn(".......\n.......\n...#...\n.......\n.......").room().cell_map();
  const Body body{.place = {1.0, 3.1}, .radius = 0.3};
  const Moved moved = move_body(map, body, {2.0, 0});
  EXPECT_GT(moved.contacts, 0);
  // The corner is at (3, 3): on the way over it the disc keeps 0.3 from it.
  EXPECT_NEAR((moved.place - Vec2d(3, 3)).norm(), 0.3, 0.02);
  EXPECT_GT(moved.place.y(), 3.1);
}

TEST(MoveBody, NeverEntersAWallAtAnySpeed) {
  for (std::uint64_t seed = 0; seed < 60; ++seed) {
    CellMap map = test::random_map(24, 18, 0.22, seed, false);
    map.repeat = seed % 5 == 4;
    map.cell_size = seed % 2 == 0 ? 1 : 0.7;
    Body body;
    body.radius = (0.1 + 0.6 * random_uniform({.seed = 31, .pixel = seed}, 0)) * map.cell_size;
    // A place with room for it.
    bool placed = false;
    for (std::uint64_t i = 0; i < 400 && !placed; ++i) {
      const RandomKey key{.seed = 32, .pixel = seed * 1000 + i};
      body.place = Vec2d(random_uniform(key, 0) * 24, random_uniform(key, 1) * 18) * map.cell_size;
      placed = wall_distance(map, body.place, 2 * body.radius) > body.radius * 1.001;
    }
    if (!placed) continue;
    for (std::uint64_t i = 0; i < 300; ++i) {
      const RandomKey key{.seed = 33, .pixel = seed, .sample = static_cast<std::uint32_t>(i)};
      const double angle = 2 * pi * random_uniform(key, 0);
      const double length = std::pow(10, 4 * random_uniform(key, 1) - 2);  // 1 cm to 100 m
      const Vec2d way(length * std::cos(angle), length * std::sin(angle));
      const Moved moved = move_body(map, body, way);
      ASSERT_GE(wall_distance(map, moved.place, 2 * body.radius), body.radius * (1 - 1e-9))
          << seed << " " << i;
      ASSERT_LE((moved.place - body.place).norm(), length + 1e-9);
      body.place = moved.place;
    }
  }
}

TEST(MoveBody, LeavesNoRoomItCannotWalkOutOf) {
  // A fast body in a maze is always in a cell that can be walked to from where it was.
  const CellMap map = make_map({.width = 31, .height = 31, .seed = 8, .loops = 0});
  Body body{.place = {1.5, 1.5}, .radius = 0.35};
  for (std::uint64_t i = 0; i < 2000; ++i) {
    const double angle = 2 * pi * random_uniform({.seed = 3, .pixel = i}, 0);
    const int x = static_cast<int>(body.place.x());
    const int y = static_cast<int>(body.place.y());
    const Moved moved = move_body(map, body, {50 * std::cos(angle), 50 * std::sin(angle)});
    const auto reached = reachable_cells(map, x, y);
    const auto cell = static_cast<std::size_t>(static_cast<int>(moved.place.y()) * 31 +
                                               static_cast<int>(moved.place.x()));
    ASSERT_EQ(reached[cell], 1) << i;
    body.place = moved.place;
  }
}

TEST(MoveBody, TwoWallsThatTouchAtACornerLetNothingThrough) {
  const CellMap map = test::drawn("....\n.#..\n..#.\n....").room().cell_map();
  const Moved moved = move_body(map, {.place = {1.4, 1.4}, .radius = 0.05}, {3, 3});
  EXPECT_LT(moved.place.x(), 2);
  EXPECT_LT(moved.place.y(), 2);
}

TEST(MoveBody, SmallStepsAndOneLargeOneEndAlike) {
  const CellMap map = room_of(8);
  const Vec2d way(7.3, 2.9);
  const Moved once = move_body(map, {.place = {3.2, 2.5}, .radius = 0.4}, way);
  Body body{.place = {3.2, 2.5}, .radius = 0.4};
  for (int i = 0; i < 1000; ++i) body.place = move_body(map, body, way / 1000).place;
  EXPECT_NEAR((body.place - once.place).norm(), 0, 1e-2);
}

TEST(MoveBody, CorridorsThatAreTooNarrowAreWalls) {
  const CellMap map = test::drawn("#######\n###.###\n#.....#\n###.###\n#######").room().cell_map();
  const Moved wide = move_body(map, {.place = {3.5, 2.5}, .radius = 0.6}, {0, 5});
  EXPECT_NEAR(wide.place.y(), 3 - std::sqrt(0.36 - 0.25), 1e-4) << "held by both corners";
  const Moved slim = move_body(map, {.place = {3.5, 2.5}, .radius = 0.4}, {0, 5});
  EXPECT_NEAR(slim.place.y(), 4 - 0.4, 1e-4);
}

TEST(MoveBody, TheEdgeOfAMapStopsAndARepeatedMapGoesOn) {
  CellMap map = test::drawn("...\n...\n...").room().cell_map();
  const Body body{.place = {1.5, 1.5}, .radius = 0.2};
  EXPECT_NEAR(move_body(map, body, {9, 0}).place.x(), 2.8, 1e-5);
  map.repeat = true;
  EXPECT_NEAR(move_body(map, body, {900, 0}).place.x(), 901.5, 1e-6);
}

TEST(MoveBody, RefusesWhatIsNoMove) {
  const CellMap map = room_of(3);
  EXPECT_THROW(move_body(map, {.place = {1.5, std::nan("")}}, {1, 0}), Error);
  EXPECT_THROW(move_body(map, {.place = {1.5, 1.5}, .radius = 0}, {1, 0}), Error);
  EXPECT_THROW(move_body(map, {.place = {1.5, 1.5}}, {INFINITY, 0}), Error);
  EXPECT_THROW(move_body(map, {.place = {1.5, 1.5}}, {1e300, 0}), Error);
  EXPECT_THROW(move_body(map, {.place = {1.5, -1e300}}, {1, 0}), Error);
  EXPECT_THROW(move_body(map, {.place = {1.5, 1.5}, .radius = 100.5}, {1, 0}), Error);
}

TEST(MoveBody, LooksAtNoMoreOfTheWallRoundAMapThanItNeeds) {
  // The same map with the wall round it drawn, so that all of it is looked at.
  const int rim = 60;
  const CellMap map = test::drawn("....#\n.#...\n.....").room().cell_map();
  CellMap framed = map;
  framed.width = map.width + 2 * rim;
  framed.height = map.height + 2 * rim;
  framed.cells.assign(static_cast<std::size_t>(framed.width) * framed.height, 1);
  for (int y = 0; y < map.height; ++y) {
    for (int x = 0; x < map.width; ++x) framed.at(x + rim, y + rim) = map.at(x, y);
  }
  const Vec2d moved_by(rim, rim);
  for (const double radius : {0.2, 0.9, 2.5, 40.0}) {
    for (int i = 0; i < 200; ++i) {
      const Vec2d place(0.5 + 0.019 * i, 2.5 - 0.7 * std::sin(0.3 * i));
      const Vec2d way(3 * std::cos(1.7 * i), 3 * std::sin(1.7 * i));
      // Small ones that start in a wall: rounding says which side they leave it on.
      if (radius < 2 && wall_distance(map, place, radius) < radius) continue;
      const Moved alone = move_body(map, {.place = place, .radius = radius}, way);
      const Moved drawn = move_body(framed, {.place = place + moved_by, .radius = radius}, way);
      EXPECT_LT((alone.place + moved_by - drawn.place).norm(), 1e-9) << radius << " " << i;
      EXPECT_NEAR(wall_distance(map, place, radius),
                  wall_distance(framed, place + moved_by, radius), 1e-9);
    }
  }
}

TEST(WallDistance, IsTheDistanceToTheNearestWall) {
  const CellMap map = room_of(8);
  EXPECT_DOUBLE_EQ(wall_distance(map, {4, 3}, 10), 2);
  EXPECT_DOUBLE_EQ(wall_distance(map, {5, 5}, 2), 2) << "no farther than asked";
  EXPECT_DOUBLE_EQ(wall_distance(map, {0.5, 3}, 2), 0);
}

}  // namespace
}  // namespace photonlane
