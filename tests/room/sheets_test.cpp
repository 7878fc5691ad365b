#include "photonlane/room/sheets.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

/// Three rooms around a pillar, each with a ball of its own in the north.
Scene around_a_pillar(bool endless) {
  Scene scene;
  for (const char* name : {"red", "green", "blue"}) scene.wall({.base = {0.5f, 0.5f, 0.5f}}, name);
  scene.rooms.clear();
  int material = 0;
  for (const char* name : {"spring", "summer", "winter"}) {
    Room& room = scene.add_room(name);
    room.add(field::plane({0, 0, 1}, 0).made_of(material));
    room.add(field::place({0, 0, 2}, field::cylinder(0.4, 4)).made_of(material));
    ++material;
  }
  scene.sheets.push_back({.rooms = {"spring", "summer", "winter"},
                          .at = {0, 0, 0},
                          .heading = degrees(90),
                          .reach = 30,
                          .height = 5,
                          .endless = endless});
  return scene;
}

const Camera start{.eye = {2, 0, 1.6}, .heading = degrees(90)};

/// Round the pillar on a circle, counterclockwise or back, by so many turns.
WalkScript round(double turns) {
  WalkScript script;
  script.rate = 10;
  script.moves = {
      {.forward = std::abs(turns) * 4 * pi, .turn = 2 * pi * turns, .over = 8 * std::abs(turns)}};
  return script;
}

TEST(Sheets, OnlyEveryThirdTimeRoundIsBackInTheFirst) {
  const World world = compile(around_a_pillar(false));
  for (const int turns : {1, 2, 3, 4, 7}) {
    const WalkStep end = walk(world, start, round(turns)).back();
    EXPECT_EQ(end.room, static_cast<std::size_t>(turns % 3)) << turns;
    EXPECT_NEAR((end.place - Vec2d(2, 0)).norm(), 0, 0.15);
  }
  // Clockwise it is the other way round.
  Camera south = start;
  south.heading = degrees(-90);
  WalkScript back = round(1);
  back.moves[0].turn = -2 * pi;
  EXPECT_EQ(walk(world, south, back).back().room, 2u);
}

TEST(Sheets, WithoutEndTheFirstIsNeverBack) {
  const World world = compile(around_a_pillar(true));
  for (const int turns : {1, 2, 3, 6}) {
    EXPECT_EQ(walk(world, start, round(turns)).back().room,
              static_cast<std::size_t>(std::min(turns, 2)));
  }
}

TEST(Sheets, AreSeenThroughTheSeamAlone) {
  const World world = compile(around_a_pillar(false));
  Budget budget;
  budget.frame = {64, 40, 1};
  const Camera camera{.eye = {3, -1, 1.6}, .heading = degrees(120), .field_of_view = degrees(60)};
  const Frame frame =
      render(world, camera, budget,
             test::with_layers({Layer::room, Layer::crossings, Layer::ray_distance}));
  const Viewing view = viewing(camera, {64, 40});
  int beyond = 0;
  for (int y = 24; y < 40; ++y) {
    for (int x = 0; x < 64; ++x) {
      const float distance = frame.values(Layer::ray_distance)(x, y);
      if (!std::isfinite(distance)) continue;
      // The seam lies over the positive y axis: who looks past it is beyond.
      const Vec3d end =
          camera.eye + static_cast<double>(distance) * view.ray(view.u(x + 0.5), view.v(y + 0.5));
      const double slope = (end.y() - camera.eye.y()) / (end.x() - camera.eye.x());
      const bool past = end.x() < -1e-2 && camera.eye.y() - slope * camera.eye.x() > 0;
      const bool near_it = std::abs(end.x()) < 2e-2;
      if (near_it) continue;
      EXPECT_EQ(frame.codes(Layer::room)(x, y), past ? 1u : 0u) << x << "," << y;
      beyond += past;
    }
  }
  EXPECT_GT(beyond, 100);
}

TEST(Sheets, RefuseRoomsThatAreNotThere) {
  Scene scene = around_a_pillar(false);
  scene.sheets[0].rooms[1] = "sumer";
  try {
    compile(scene);
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(std::string(error.message()), "sheets: no room 'sumer'; did you mean summer?");
  }
  scene.sheets[0].rooms = {"spring"};
  EXPECT_THROW(compile(scene), Error);
}

TEST(Sheets, AreReadAndWritten) {
  const std::string text =
      "title: t\n"
      "rooms:\n"
      "  a: {solids: [{field: {sphere: }}]}\n"
      "  b: {solids: [{field: {sphere: }}]}\n"
      "sheets:\n"
      "  - {rooms: [a, b], at: [1, 2, 0], heading: 45, reach: 7, endless: true}\n";
  const io::SceneFile file = io::parse_scene(text, "t.yaml");
  ASSERT_EQ(file.scene.sheets.size(), 1u);
  EXPECT_EQ(file.scene.sheets[0].reach, 7);
  EXPECT_TRUE(file.scene.sheets[0].endless);
  const io::SceneFile again = io::parse_scene(io::scene_text(file), "again.yaml");
  EXPECT_EQ(again.scene.sheets[0].rooms, (std::vector<std::string>{"a", "b"}));
  std::string wrong = text;
  wrong.replace(wrong.find("[a, b]"), 6, "[a, c]");
  try {
    io::parse_scene(wrong, "t.yaml");
    FAIL();
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), testing::HasSubstr("t.yaml:6:17: no such room 'c'"));
  }
}

}  // namespace
}  // namespace photonlane
