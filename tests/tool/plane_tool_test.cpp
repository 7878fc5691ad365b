// Planes by the built tool.

#include <gmock/gmock.h>

#include <nlohmann/json.hpp>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;
using ::testing::StartsWith;

class PlaneTool : public test::ToolRun {
 protected:
  void SetUp() override {
    folder.write("pane.yaml",
                 "title: Pane\n"
                 "plane: {escape_radius: 4}\n"
                 "window: {center: [-0.74329189085243, 0.13124055230880], width: 0.01}\n"
                 "budget: {frame: {width: 64, height: 40}, plane: {iterations: 3000}}\n");
  }
};

TEST_F(PlaneTool, RendersAndSaysInWhatNumbers) {
  const test::Outcome outcome = tool("render pane.yaml -o pane.exr");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_THAT(outcome.output, HasSubstr("in double: pixels are 1.56e-4 apart"));
  EXPECT_THAT(outcome.output, HasSubstr("limit of 3000 steps"));
  const Frame frame = io::read_frame(folder.path() + "/pane.exr");
  EXPECT_TRUE(frame.has(Layer::smooth_count));
  EXPECT_FALSE(frame.has(Layer::depth));
  // As from C++.
  const io::SceneFile file = io::read_scene(folder.path() + "/pane.yaml");
  const Frame own =
      render(compile(file.scene), file.camera, file.budget,
             {.layers = {Layer::steps, Layer::edge_distance}, .progress = {}, .recycle = {}});
  for (int x = 0; x < 64; x += 5) {
    EXPECT_EQ(frame.codes(Layer::steps)(x, 20), own.codes(Layer::steps)(x, 20));
    EXPECT_EQ(frame.values(Layer::edge_distance)(x, 20), own.values(Layer::edge_distance)(x, 20));
  }
  const test::Outcome json = tool("render pane.yaml -o steps.png --layer steps --json");
  const auto told = nlohmann::json::parse(json.output);
  EXPECT_EQ(told["plane"]["number"], "double");
  EXPECT_EQ(told["plane"]["limit"], 3000);
}

TEST_F(PlaneTool, WarnsPastWhatATypeTellsApart) {
  const std::string deep = " --set window.width=1e-13 --set plane.number=double";
  const test::Outcome outcome = tool("render pane.yaml -o deep.png" + deep);
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_THAT(outcome.output, HasSubstr("warning: past what double tells apart"));
  const test::Outcome check = tool("check pane.yaml" + deep);
  EXPECT_THAT(check.output, HasSubstr("plane      in double"));
  EXPECT_THAT(check.output, HasSubstr("of the pixels are doubtful"));
  EXPECT_THAT(tool("check pane.yaml").output, StartsWith("plane      in double"));
}

TEST_F(PlaneTool, ZoomsSteadily) {
  const test::Outcome outcome = tool(
      "zoom pane.yaml --to=-0.743291890852430202931624325973,0.131240552308797604770845906581 "
      "--width 1e-28 --frames 4 -o zoom --json");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  const std::string table = folder.read("zoom/zoom.csv");
  // What is printed is the table, as JSON alone.
  const auto frames = nlohmann::json::parse(outcome.output)["frames"];
  ASSERT_EQ(frames.size(), 4u);
  for (std::size_t i = 0; i < 4; ++i) {
    EXPECT_EQ(frames[i]["frame"], i + 1);
    EXPECT_THAT(table, HasSubstr(fmt::format(
                           "\n{},{},{},{},", i + 1, frames[i]["width"].get<std::string>(),
                           frames[i]["number"].get<std::string>(), frames[i]["limit"].get<int>())));
    EXPECT_EQ(frames[i]["hit"].get<int>() + frames[i]["escaped"].get<int>() +
                  frames[i]["spent"].get<int>(),
              64 * 40);
  }
  EXPECT_THAT(table, StartsWith("frame,width,number,limit,"));
  EXPECT_EQ(std::count(table.begin(), table.end(), '\n'), 5);
  EXPECT_THAT(table, HasSubstr("\n4,1e-28,perturbation,3000,"));
  for (int i = 1; i <= 4; ++i) {
    EXPECT_EQ(io::read_frame(fmt::format("{}/zoom/frame-000{}.png", folder.path(), i)).size(),
              (Size{64, 40}));
  }
}

TEST_F(PlaneTool, ZoomsStartFromTheFrameBefore) {
  const std::string zoom =
      "zoom pane.yaml --to=-0.74329189085243,0.13124055230880 --width 1e-9 --frames 12 "
      "--size 160x100 --set plane.iterations=3000 --quiet -o ";
  EXPECT_EQ(tool(zoom + "anew").code, 0);
  const test::Outcome outcome = tool(zoom + "after --allow-error 0.1");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  const std::string table = folder.read("after/zoom.csv");
  EXPECT_THAT(table, HasSubstr(",taken,taken_error\n"));
  // Of the last frame: some, and no further off than allowed.
  const std::size_t end = table.rfind(',');
  const std::size_t from = table.rfind(',', end - 1);
  EXPECT_GT(std::stod(table.substr(from + 1)), 0.1);
  EXPECT_LE(std::stod(table.substr(end + 1)), 0.1);
  const Difference difference = compare(io::read_frame(folder.path() + "/after/frame-0012.png"),
                                        io::read_frame(folder.path() + "/anew/frame-0012.png"));
  EXPECT_LT(difference.rmse, 0.02);
  EXPECT_THAT(refused(zoom + "no --allow-error 0"), HasSubstr("--allow-error"));
}

TEST_F(PlaneTool, SweepsOverWidthAndNumberLeaveLines) {
  const test::Outcome outcome = tool(
      "sweep pane.yaml --vary window.width=1e-2,1e-6,1e-10 --vary plane.number=float,double "
      "--metric share_other --repeats 1 --warm-up 0 -o sweep --quiet");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  const std::string script = folder.read("sweep/lines.gp");
  EXPECT_THAT(script, HasSubstr("$line1 << END"));
  EXPECT_THAT(script, HasSubstr("title 'double'"));
  EXPECT_THAT(script, HasSubstr("reverse"));
  EXPECT_THAT(folder.read("sweep/lines.png").substr(1, 3), "PNG");
  EXPECT_THAT(folder.read("sweep/sweep.csv"), StartsWith("window.width,plane.number,"));
}

TEST_F(PlaneTool, RefusesWhatPlanesHaveNot) {
  EXPECT_THAT(refused("lane pane.yaml --pixel 1,1"), HasSubstr("no lanes run in a plane"));
  EXPECT_THAT(refused("render pane.yaml --view plan -o p.png"), HasSubstr("no plan of rooms"));
  EXPECT_THAT(refused("render pane.yaml --layer depth -o p.png"), HasSubstr("no layer depth"));
  EXPECT_THAT(refused("render pane.yaml --set window.width=0 -o p.png"), HasSubstr("more than 0"));
  EXPECT_THAT(refused("render pane.yaml --set window.width=1e-20 -o p.png"),
              HasSubstr("6 are missing"));
  EXPECT_THAT(refused("zoom pane.yaml --to=1 --width 1e-3 --frames 3 -o z"),
              HasSubstr("--to: found '1', expected two decimal numbers"));
  EXPECT_THAT(refused("zoom pane.yaml --to=-0.7,0.1 --width 1e-5 --frames 3 -o z"),
              HasSubstr("4 are missing"));
  EXPECT_THAT(refused("zoom pane.yaml --to=-0.7,0.1 --width 0.1 --frames 1 -o z"),
              HasSubstr("--frames: Value 1 not in range 2 to 100000"));
}

}  // namespace
}  // namespace photonlane
