#include "photonlane/walk/walk.hpp"

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;
using ::testing::StartsWith;

CellMap hall() { return test::drawn(test::square_room(20)).room().cell_map(); }

TEST(PlayWalk, AStepAFrameFromBeginningToEnd) {
  const Camera camera{.eye = {4, 10, 1.6}};
  const auto steps = walk(hall(), camera, {.rate = 10, .moves = {{.forward = 3, .over = 2}}});
  ASSERT_EQ(steps.size(), 21u);
  for (std::size_t i = 0; i < steps.size(); ++i) {
    EXPECT_NEAR(steps[i].time, 0.1 * static_cast<double>(i), 1e-9);
    EXPECT_NEAR(steps[i].place.x(), 4 + 0.15 * static_cast<double>(i), 1e-9);
    EXPECT_NEAR(steps[i].place.y(), 10, 1e-12);
  }
}

TEST(PlayWalk, MovesThatEndBetweenFramesLoseNothing) {
  WalkScript script{.rate = 7, .moves = {}};
  for (int i = 0; i < 9; ++i)
    script.moves.push_back({.forward = 0.5, .turn = degrees(10), .over = 0.31});
  const auto steps = walk(hall(), Camera{.eye = {6, 6, 1.6}}, script);
  EXPECT_NEAR(steps.back().time, 9 * 0.31, 1e-9);
  EXPECT_NEAR(steps.back().heading, degrees(90), 1e-9);
  EXPECT_EQ(steps.size(), 1u + static_cast<std::size_t>(std::ceil(9 * 0.31 * 7)));
}

TEST(PlayWalk, TurningWhileWalkingIsAnArc) {
  // A quarter of a circle of radius r takes pi / 2 r of way.
  const double radius = 3;
  const WalkScript script{.rate = 200,
                          .moves = {{.forward = pi / 2 * radius, .turn = degrees(90), .over = 4}}};
  const auto steps = walk(hall(), Camera{.eye = {8, 8, 1.6}}, script);
  EXPECT_NEAR(steps.back().place.x(), 8 + radius, 1e-3);
  EXPECT_NEAR(steps.back().place.y(), 8 + radius, 1e-3);
  for (const WalkStep& step : steps) {
    EXPECT_NEAR((step.place - Vec2d(8, 8 + radius)).norm(), radius, 1e-3);
  }
}

TEST(PlayWalk, SidewaysIsToTheRight) {
  const auto steps = walk(hall(), Camera{.eye = {8, 8, 1.6}, .heading = degrees(90)},
                          {.rate = 5, .moves = {{.sideways = 2, .over = 1}}});
  EXPECT_NEAR(steps.back().place.x(), 10, 1e-9);
  EXPECT_NEAR(steps.back().place.y(), 8, 1e-9);
}

TEST(PlayWalk, CountsContactsAndKnowsTheGoal) {
  CellMap map = hall();
  map.goal = CellPlace{20, 10};
  const auto steps = walk(map, Camera{.eye = {10, 10.5, 1.6}},
                          {.radius = 0.3, .rate = 10, .moves = {{.forward = 30, .over = 3}}});
  EXPECT_NEAR(steps.back().place.x(), 21 - 0.3, 1e-4);
  EXPECT_GT(steps.back().contacts, 0);
  EXPECT_FALSE(steps.front().in_goal);
  EXPECT_TRUE(steps.back().in_goal);
}

TEST(PlayWalk, RefusesWhatIsNoScript) {
  const Camera camera{.eye = {4, 10, 1.6}};
  EXPECT_THROW(walk(hall(), camera, {.moves = {{.over = 0}}}), Error);
  EXPECT_THROW(walk(hall(), camera, {.moves = {{.over = -1}}}), Error);
  EXPECT_THROW(walk(hall(), camera, {.moves = {{.forward = 5, .over = 1e-12}}}), Error)
      << "a move too short to be walked would be lost";
  EXPECT_THROW(walk(hall(), camera, {.radius = 0, .moves = {{.forward = 1}}}), Error);
  EXPECT_THROW(walk(hall(), camera, {.rate = 1000, .moves = {{.over = 90000}}}), Error);
}

io::SceneFile file_of(const Scene& scene) {
  io::SceneFile file;
  file.scene = scene;
  return file;
}

TEST(WalkFiles, AreReadWithPlacesInErrors) {
  const io::SceneFile scene = file_of(test::drawn("###\n#.#\n###"));
  const test::TemporaryFolder folder;
  const WalkScript script = io::read_walk_script(
      folder.write("w.yaml",
                   "radius: 0.4\nrate: 30\nmoves:\n  - {forward: 2, over: 1.5}\n"
                   "  - {turn: 90}\n"),
      scene);
  EXPECT_EQ(script.radius, 0.4);
  ASSERT_EQ(script.moves.size(), 2u);
  EXPECT_EQ(script.moves[0].over, 1.5);
  EXPECT_DOUBLE_EQ(script.moves[1].turn, degrees(90));
  const auto refusal = [&](const std::string& text) -> std::string {
    try {
      io::read_walk_script(folder.write("w.yaml", text), scene);
      return "accepted";
    } catch (const Error& error) {
      return std::string(error.what()).substr(folder.path().size() + 1);
    }
  };
  EXPECT_EQ(refusal("moves:\n  - {foward: 2}\n"),
            "w.yaml:2:6: no such key 'foward'; did you mean forward?");
  EXPECT_EQ(refusal("moves:\n  - {forward: 2, over: -1}\n"),
            "w.yaml:2:24: found '-1', expected number, 0.001 to 100000, in seconds");
  EXPECT_EQ(refusal("moves:\n  - jump\n"), "w.yaml:2:5: found 'jump', expected a move");
  EXPECT_THAT(refusal("moves: 3\n"), HasSubstr("expected a list of moves"));
  EXPECT_THAT(refusal("radius: 1\n"), HasSubstr("no moves, expected moves"));
  EXPECT_THAT(refusal("moves: []\n"), HasSubstr("no moves"));
  EXPECT_THAT(refusal("speed: 1\n"), HasSubstr("no such key 'speed'"));
}

TEST(WalkFiles, PlayedWalksLeaveFramesWayAndSummary) {
  const test::TemporaryFolder folder;
  io::SceneFile file;
  file.scene = test::drawn(test::square_room(6));
  file.camera.eye = {2.5, 2.5, 1.6};
  file.budget.frame = {48, 30, 1};
  const WalkScript script{.rate = 4,
                          .moves = {{.forward = 2, .over = 1}, {.turn = 1, .over = 0.5}}};
  const io::WalkRecord record = io::play_walk(file, script, folder.path(), {});
  EXPECT_EQ(record.steps.size(), 7u);
  EXPECT_EQ(record.costs.size(), 7u);
  EXPECT_LT(record.slowest(), 7u);
  EXPECT_TRUE(folder.names().contains("frame-00006.png"));
  EXPECT_FALSE(folder.names().contains("frame-00007.png"));
  EXPECT_TRUE(folder.names().contains("plan.png"));
  const std::string csv = folder.read("path.csv");
  EXPECT_THAT(
      csv, StartsWith(
               "frame,time,room,x,y,level,scale,heading,contacts,crossings,in_goal,edits,edit_ms"));
  EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), 8);
  EXPECT_THAT(folder.read("walk.json"), HasSubstr("\"goal_reached_at\": null"));
  // The last frame is what the camera sees from where the walk ended.
  Frame last = render(compile(file.scene), camera_at(file.camera, record.steps.back()), file.budget,
                      test::with_layers({Layer::display}));
  io::write_frame(folder.path() + "/again.png", last);
  EXPECT_EQ(folder.read("again.png"), folder.read("frame-00006.png"));
}

TEST(Walk, DoorsOpenWhileOneWaitsAndLetOneThrough) {
  CellMap map = draw_cells(
      "#########\n........>\n#########",
      std::vector<LegendLetter>{{U'#', wall_of(0)}, {U'>', empty_cell, LegendLetter::Mark::goal}});
  map.at(4, 1) = wall_of(0);
  map.set_form(4, 1, CellForm{.shape = CellShape::sliding, .along = PanelAxis::y});
  const Camera camera{.eye = {1.5, 1.5, 1.6}};
  const WalkMove push{.forward = 3, .over = 1};
  WalkMove open{.over = 1, .cells = {{.place = {4, 1}, .opening = 1}}};
  const WalkMove on{.forward = 6, .over = 2};
  const auto steps = walk(map, camera, {.radius = 0.2, .rate = 10, .moves = {push, open, on}});
  EXPECT_NEAR(steps[10].place.x(), 4.46 - 0.2, 1e-3) << "the door is shut";
  EXPECT_TRUE(steps[10].edits.empty());
  for (int i = 11; i <= 20; ++i) {
    ASSERT_EQ(steps[i].edits.size(), 1u) << i;
    EXPECT_NEAR(steps[i].edits[0].form->opening, 0.1 * (i - 10), 1e-9);
  }
  EXPECT_TRUE(steps[22].edits.empty());
  EXPECT_TRUE(steps.back().in_goal);
  // Cells that appear and vanish are met as they are at the time.
  const WalkMove wall{.over = 0.5, .cells = {{.place = {6, 1}, .cell = wall_of(0)}}};
  EXPECT_LT(
      walk(map, camera, {.radius = 0.2, .rate = 10, .moves = {open, wall, on}}).back().place.x(),
      6);
  open.cells[0].place = {3, 1};
  EXPECT_THROW(walk(map, camera, {.moves = {open}}), Error);
  open.cells[0].place = {40, 1};
  EXPECT_THROW(walk(map, camera, {.moves = {open}}), Error);
}

TEST(WalkFiles, SayWhichCellsChange) {
  const test::TemporaryFolder folder;
  Scene scene = test::drawn("#####\n#...#\n#####");
  CellMap& map = scene.room().cell_map();
  map.at(2, 1) = wall_of(0);
  map.set_form(2, 1, CellForm{.shape = CellShape::swinging});
  const auto read = [&](const std::string& changes) {
    return io::read_walk_script(
        folder.write("w.yaml", "moves:\n  - {over: 1, cells: [" + changes + "]}\n"),
        file_of(scene));
  };
  const WalkScript script = read("{at: [2, 1], opening: 0.5}, {at: [1, 1], material: other}");
  ASSERT_EQ(script.moves[0].cells.size(), 2u);
  EXPECT_EQ(script.moves[0].cells[0].opening, 0.5);
  EXPECT_EQ(script.moves[0].cells[1].cell, wall_of(1));
  const auto refusal = [&](const std::string& changes) -> std::string {
    try {
      read(changes);
      return "accepted";
    } catch (const Error& error) {
      return std::string(error.what()).substr(folder.path().size() + 1);
    }
  };
  EXPECT_EQ(refusal("{at: [1, 1], opening: 0.5}"), "w.yaml:2:28: no door at column 1, row 1");
  EXPECT_THAT(refusal("{at: [2, 1], opening: 2}"), HasSubstr("expected number, 0 to 1"));
  EXPECT_THAT(refusal("{at: [9, 1], opening: 1}"), HasSubstr("expected integer, 0 to 4"));
  EXPECT_THAT(refusal("{at: [2], opening: 1}"), HasSubstr("[column, row]"));
  EXPECT_THAT(refusal("{at: [2, 1]}"), HasSubstr("one of opening and material"));
  EXPECT_THAT(refusal("{opening: 1}"), HasSubstr("at: [column, row]"));
  EXPECT_THAT(refusal("{at: [1, 1], material: othr}"), HasSubstr("did you mean other?"));
}

}  // namespace
}  // namespace photonlane
