// Pictures that grow: limits, stopping and going on, layers of path-traced light.

#include <gmock/gmock.h>

#include <nlohmann/json.hpp>

#include "photonlane/io.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using testing::HasSubstr;

class GrowingTool : public test::ToolRun {
 protected:
  GrowingTool() {
    folder.write("yard.yaml", test::yard_text("Yard",
                                              "  frame: {width: 64, height: 40, samples: 6}\n"
                                              "  light: {transport: paths}\n"));
  }
  nlohmann::json told(const std::string& arguments) {
    return nlohmann::json::parse(tool("render yard.yaml --json " + arguments).output);
  }
};

TEST_F(GrowingTool, EndsAtTheFirstLimitThatHolds) {
  const auto samples = told("-o a.png --until samples=5 --until seconds=100");
  EXPECT_EQ(samples["paths"]["samples"], 5);
  EXPECT_GT(samples["paths"]["rmse_high"], samples["paths"]["rmse_low"]);
  const auto error = told("-o b.png --until rmse=0.03 --until samples=4000");
  EXPECT_LE(error["paths"]["rmse"], 0.03);
  const auto time = told("-o c.png --until seconds=0.2 --until samples=4000000");
  EXPECT_GE(time["paths"]["samples"], 1);
  EXPECT_THAT(tool("render yard.yaml -o d.png --until samples=2").output,
              HasSubstr("ended by 2 samples\nd.png\n"));
  // What it would take to go on is gone.
  EXPECT_FALSE(std::filesystem::exists(folder.path() + "/" + "a.png.growing"));
}

TEST_F(GrowingTool, WithoutLimitsMakesTheSameAsOneThatGrows) {
  EXPECT_EQ(tool("render yard.yaml -o at_once.png").code, 0);
  EXPECT_EQ(tool("render yard.yaml -o growing.png --until samples=6 --threads 1").code, 0);
  EXPECT_TRUE(folder.read("at_once.png") == folder.read("growing.png"));
}

TEST_F(GrowingTool, GoesOnWhereItWasStopped) {
  const test::Outcome stopped = test::run(
      fmt::format(
          "timeout --foreground -s INT 1 '{}' render yard.yaml -o part.png --until samples=1000000",
          PHOTONLANE_TOOL),
      folder);
  if (!std::filesystem::exists(folder.path() + "/" + "part.png.growing"))
    GTEST_SKIP() << "it was done before it was stopped";
  EXPECT_NE(stopped.code, 0);
  EXPECT_THAT(stopped.errors, HasSubstr("--resume goes on from part.png.growing"));
  const std::string state = folder.read("part.png.growing");
  // Nothing else is gone on with, and what is there stays.
  // All its pixels had as many, some maybe one more.
  const auto reached = nlohmann::json::parse(state.substr(0, state.find('\n')))["asked"];
  const int samples = static_cast<int>(reached.get<double>()) + 40;
  const std::string on =
      fmt::format("render yard.yaml -o part.png --until samples={} --resume --size ", samples);
  EXPECT_THAT(tool(on + "100x60").errors, HasSubstr("with frame.width 64, this is 100"));
  EXPECT_THAT(tool(on + "64x40 --set bounces.limit=2").errors,
              HasSubstr("with bounces.limit 4, this is 2"));
  EXPECT_THAT(tool(on + "64x40 --set camera.heading=3").errors, HasSubstr("with camera.heading"));
  folder.write("part.png.growing", state.substr(0, state.size() / 2));
  EXPECT_THAT(tool(on + "64x40").errors, HasSubstr("part.png.growing is cut short"));
  folder.write("part.png.growing", "{\"kind\": 3}\n");
  EXPECT_THAT(tool(on + "64x40").errors, HasSubstr("no growing frame"));
  folder.write("part.png.growing", "");
  EXPECT_THAT(tool(on + "64x40").errors, HasSubstr("no growing frame"));
  folder.write("part.png.growing", state);
  EXPECT_EQ(tool(on + "64x40 --set frame.samples=9").code, 0);
  EXPECT_EQ(tool(fmt::format("render yard.yaml -o whole.png --set frame.samples={}", samples)).code,
            0);
  EXPECT_TRUE(folder.read("part.png") == folder.read("whole.png"));
  EXPECT_FALSE(std::filesystem::exists(folder.path() + "/" + "part.png.growing"));
}

TEST_F(GrowingTool, TellsThatNothingMoreCanBeWrittenAndKeepsThePictureThatWasThere) {
  // A limit on the size of files stands for a full disk.
  ASSERT_EQ(tool("render yard.yaml -o a.png --until samples=1").code, 0);
  const std::string before = folder.read("a.png");
  const auto limited = [&](int blocks, const std::string& arguments) {
    return test::run(
        fmt::format("bash -c \"ulimit -f {}; exec '{}' {}\"", blocks, PHOTONLANE_TOOL, arguments),
        folder);
  };
  const auto whole = limited(1, "render yard.yaml -o a.png --until samples=2");
  EXPECT_EQ(whole.code, 2);
  EXPECT_EQ(whole.errors, "a.png: cannot be written: File too large\n");
  EXPECT_EQ(folder.read("a.png"), before);
  // While it grows, what others go on from is larger than the picture.
  const auto growing = limited(40, "render yard.yaml -o b.png --until samples=4000000");
  EXPECT_EQ(growing.code, 2);
  EXPECT_EQ(growing.errors, "b.png.growing: cannot be written: File too large\n");
  EXPECT_FALSE(std::filesystem::exists(folder.path() + "/b.png.growing"));
  for (const auto& left : std::filesystem::directory_iterator(folder.path())) {
    EXPECT_NE(left.path().extension(), ".part") << left.path();
  }
}

TEST_F(GrowingTool, RefusesWhatCannotBe) {
  EXPECT_THAT(refused("render yard.yaml -o x.png --until rmze=1"), HasSubstr("did you mean rmse?"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --until samples=0"),
              HasSubstr("--until samples: found '0'"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --until seconds=-1"), HasSubstr("found '-1'"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --until samples=2 --layer depth"),
              HasSubstr("expected no --layer"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --until samples=2 --part 0,0,8x8"),
              HasSubstr("one whole view"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --resume"), HasSubstr("no x.png.growing"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --until samples=2 --set light.transport=direct"),
              HasSubstr("expected light.transport=paths"));
  EXPECT_THAT(refused("render yard.yaml -o x.png --set light.transport=direct --layer albedo"),
              HasSubstr("layer albedo is of path-traced light"));
  folder.write(
      "dark.yaml",
      "materials: {stone: {emission: [-1, 0, 0]}}\nroom: {solids: [{field: {plane: {}}}]}\n");
  EXPECT_THAT(refused("render dark.yaml -o x.png"),
              HasSubstr("dark.yaml:1:31: found '[-1, 0, 0]'"));
  folder.write("white.yaml",
               "materials: {stone: {base: [1.2, 1, 1]}}\nroom: {solids: [{field: {plane: {}}}]}\n");
  EXPECT_THAT(refused("render white.yaml -o x.png"), HasSubstr("white.yaml:1:"));
}

TEST_F(GrowingTool, WritesTheLayersOfPaths) {
  for (const char* layer : {"radiance", "bounces", "samples", "variance", "emission", "albedo",
                            "light.0", "light.1", "light.4", "cost", "work", "normal"}) {
    EXPECT_EQ(tool(fmt::format("render yard.yaml --layer {0} -o {0}.png --quiet", layer)).code, 0)
        << layer;
    EXPECT_GE(io::read_png(fmt::format("{}/{}.png", folder.path(), layer)).size.height, 40);
  }
  EXPECT_EQ(tool("render yard.yaml -o all.exr --quiet").code, 0);
  const Frame frame = io::read_frame(folder.path() + "/all.exr");
  EXPECT_TRUE(frame.has(Layer::radiance));
  EXPECT_TRUE(frame.has(Layer::normal));
  for (int x = 0; x < 64; ++x) {
    EXPECT_EQ(frame.values(Layer::samples)(x, 20), 6);
    EXPECT_NEAR(frame.values(Layer::color, 1)(x, 20), tone(frame.values(Layer::radiance, 1)(x, 20)),
                1e-6f);
  }
}

TEST_F(GrowingTool, SweepsPathsAgainstAReferenceOfTheirOwn) {
  EXPECT_EQ(tool("sweep yard.yaml --vary bounces.limit=1,3 --vary frame.samples=1,4 -o s "
                 "--set reference.samples=64 --repeats 1 --warm-up 0 --quiet")
                .code,
            0);
  const auto sweep = nlohmann::json::parse(folder.read("s/sweep.json"));
  double least = 1;
  double most = 0;
  for (const auto& setting : sweep["settings"]) {
    const double rmse = setting["error"]["rmse"];
    least = std::min(least, rmse);
    most = std::max(most, rmse);
  }
  EXPECT_GT(least, 0.003);
  EXPECT_LT(least, 0.7 * most);
}

}  // namespace
}  // namespace photonlane
