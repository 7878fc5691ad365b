#include "photonlane/io/plan_picture.hpp"

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/grid/map_generator.hpp"
#include "photonlane/io/scene_file.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"

namespace photonlane::io {
namespace {

using ::testing::HasSubstr;

/// How much of a picture has a color near one.
double share_near(const Picture& picture, std::array<int, 3> color, int within) {
  int count = 0;
  for (int y = 0; y < picture.size.height; ++y) {
    for (int x = 0; x < picture.size.width; ++x) {
      const std::uint8_t* pixel = picture.pixel(x, y);
      count += std::abs(pixel[0] - color[0]) <= within && std::abs(pixel[1] - color[1]) <= within &&
               std::abs(pixel[2] - color[2]) <= within;
    }
  }
  return static_cast<double>(count) / (picture.size.width * picture.size.height);
}

TEST(Plan, ShowsTheMapWithNorthOnTopAndRaysUpToWhatTheyMet) {
  Scene scene = test::drawn("#########\n#.......#\n#.......#\n#...A...#\n#########");
  scene.materials[0].base = Color(1, 1, 1);
  scene.room().cell_map().goal = CellPlace{7, 3};
  const World world = compile(scene);
  const Camera camera{.eye = {1.5, 1.5, 1.6}, .field_of_view = degrees(40)};
  PlanOptions options;
  options.legend = false;
  const Picture plan = plan_picture(scene, world, camera, Budget{}, {900, 500}, options);
  options.rays = 0;
  const Picture bare = plan_picture(scene, world, camera, Budget{}, {900, 500}, options);
  // The plan is 9x5 cells in the middle; the ring of walls is white, the south row too.
  const auto cell = [&](const Picture& picture, double x, double y) {
    const double scale = std::min((900 - 20) / 9.0, (500 - 20) / 5.0);
    return picture.pixel(static_cast<int>(450 + (x - 4.5) * scale),
                         static_cast<int>(250 - (y - 2.5) * scale));
  };
  EXPECT_GT(cell(bare, 4.5, 0.5)[0], 250);
  EXPECT_LT(cell(bare, 4.5, 2.5)[0], 60);
  EXPECT_GT(cell(bare, 4.5, 1.5)[1], cell(bare, 4.5, 1.5)[0])
      << "the green wall stands in the south";
  EXPECT_GT(cell(bare, 7.5, 3.5)[0], 190) << "the goal, in the north";
  // Rays brighten the way to the green wall, not what lies behind it.
  int before = 0;
  int behind = 0;
  for (double y = 1.3; y < 1.7; y += 0.01) {
    before += cell(plan, 3.2, y)[0] - cell(bare, 3.2, y)[0] > 10;
    behind += cell(plan, 6.5, y)[0] - cell(bare, 6.5, y)[0] > 10;
  }
  EXPECT_GT(before, 10);
  EXPECT_EQ(behind, 0);
}

TEST(Plan, TellsEscapedAndSpentRays) {
  const Scene open = test::drawn("...\n...\n...");
  const World world = compile(open);
  const Camera camera{.eye = {1.5, 1.5, 1.6}};
  PlanOptions options;
  options.legend = false;
  const Picture escaped = plan_picture(open, world, camera, Budget{}, {300, 300}, options);
  EXPECT_GT(share_near(escaped, {80, 125, 150}, 45), 0.01);
  Scene round = open;
  round.room().cell_map().repeat = true;
  Budget few;
  few.cells.steps = 5;
  few.cells.method = CellMethod::boundary;
  const Picture spent = plan_picture(round, compile(round), camera, few, {300, 300}, options);
  EXPECT_GT(share_near(spent, {120, 50, 155}, 45), 0.01);
}

TEST(MapFiles, ComeBackAsTheSameMap) {
  const test::TemporaryFolder folder;
  for (const MapKind kind : {MapKind::maze, MapKind::cave, MapKind::rooms}) {
    const CellMap map = make_map({.kind = kind, .width = 33, .height = 23, .seed = 6});
    write_map(folder.path() + "/a.yaml", map, "A map");
    const SceneFile scene = read_scene(folder.path() + "/a.yaml");
    EXPECT_EQ(scene.scene.room().cell_map().cells, map.cells);
    EXPECT_EQ(scene.scene.room().cell_map().start, map.start);
    EXPECT_EQ(scene.scene.room().cell_map().goal, map.goal);
    EXPECT_EQ(scene.scene.title, "A map");
    write_map(folder.path() + "/plan.txt", map, "");
    write_map(folder.path() + "/plan.png", map, "");
    for (const char* file : {"plan.txt", "plan.png"}) {
      const SceneFile named = parse_scene(
          std::string("materials: {stone: {}}\nroom:\n  solids:\n    - cells:\n        legend: {"
                      "\"#\": stone, \"<\": start, \">\": goal, \"#2c3a34\": stone, \"#f2eee2\": "
                      "empty, \"#7fb069\": start, \"#d96c8a\": goal}\n        map_file: ") +
              file + "\n",
          folder.path() + "/s.yaml");
      const CellMap& again = named.scene.room().cell_map();
      EXPECT_EQ(again.cells, map.cells) << file;
      EXPECT_EQ(again.start, map.start);
      EXPECT_EQ(again.goal, map.goal);
      EXPECT_DOUBLE_EQ(named.camera.eye.x(), map.start->x + 0.5) << "seen from its start";
    }
  }
  EXPECT_THROW(write_map(folder.path() + "/a.exr", make_map({}), ""), Error);
}

TEST(MapFiles, ASecondStartOrGoalIsRefused) {
  const auto refusal = [](const std::string& row) -> std::string {
    try {
      parse_scene(
          "room:\n  solids:\n    - cells:\n        legend: {\"<\": start, \">\": goal}\n"
          "        map: \"" +
              row + "\"\n",
          "s.yaml");
      return "accepted";
    } catch (const Error& error) {
      return error.what();
    }
  };
  EXPECT_EQ(refusal("<.>"), "accepted");
  EXPECT_THAT(refusal("<.<"), HasSubstr("a second start"));
  EXPECT_THAT(refusal(">>."), HasSubstr("a second goal"));
}

}  // namespace
}  // namespace photonlane::io
