// Drives the built tool as its users do: what it prints, what it leaves, how it exits.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cstdio>
#include <nlohmann/json.hpp>
#include <regex>

#include "photonlane/io.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::Outcome;
using test::run;
using test::TemporaryFolder;
using ::testing::ContainsRegex;
using ::testing::HasSubstr;
using ::testing::StartsWith;

class Tool : public test::ToolRun {
 protected:
  void SetUp() override { folder.write("court.yaml", court); }

  const std::string court = R"(title: Court
camera: {eye: [1.5, 1.5, 1.6], heading: 30}
materials:
  brick: {base: [0.6, 0.3, 0.2]}
room:
  solids:
    - cells:
        legend: {"#": brick}
        map: |
          ########
          #......#
          #..#....
          #......#
          ########
budget:
  frame: {width: 96, height: 60}
)";
};

TEST_F(Tool, RendersAPictureAndSaysWhatItCost) {
  const Outcome outcome = tool("render court.yaml -o court.png");
  EXPECT_EQ(outcome.code, 0);
  EXPECT_EQ(outcome.errors, "");
  EXPECT_THAT(outcome.output,
              ContainsRegex("^96x60  compile [0-9.]+ ms  cast [0-9.]+ ms  fill [0-9.]+ ms  encode "
                            "[0-9.]+ ms\n96 lanes, [0-9.]+ steps a lane: 88 hit, 8 escaped, 0 "
                            "spent\ncourt.png\n$"));
  EXPECT_EQ(io::read_png(folder.path() + "/court.png").size, (Size{96, 60}));
  EXPECT_EQ(folder.names(), (std::set<std::string>{"court.png", "court.yaml"}));
}

TEST_F(Tool, RendersWhatTheLibraryRenders) {
  ASSERT_EQ(tool("render court.yaml -o a.exr --quiet --threads 2 --set camera.heading=77 "
                 "--size 50x40 --set cells.method=boundary")
                .code,
            0);
  io::SceneFile file = io::read_scene(folder.path() + "/court.yaml");
  file.camera.heading = degrees(77);
  file.budget.frame.width = 50;
  file.budget.frame.height = 40;
  const Frame frame = render(compile(file.scene), file.camera, file.budget,
                             {.layers = LayerSet::measurable(), .progress = {}, .recycle = {}});
  const Difference difference = compare(io::read_frame(folder.path() + "/a.exr"), frame);
  EXPECT_EQ(difference.rmse, 0);
  EXPECT_EQ(difference.share_other, 0);
}

TEST_F(Tool, WritesEveryLayer) {
  for (const char* layer : {"color", "depth", "ray_distance", "face", "cell", "steps", "ending"}) {
    EXPECT_EQ(tool(fmt::format("render court.yaml --layer {0} -o {0}.png --quiet", layer)).code, 0);
    EXPECT_GE(io::read_png(fmt::format("{}/{}.png", folder.path(), layer)).size.height, 60);
  }
  EXPECT_EQ(tool("render court.yaml --layer depth --no-legend -o d.png").code, 0);
  EXPECT_EQ(io::read_png(folder.path() + "/d.png").size, (Size{96, 60}));
  EXPECT_EQ(refused("render court.yaml --layer dept -o x.png"),
            "--layer: no such layer 'dept', expected one of color, display, depth, ray_distance, "
            "face, cell, steps, ending, normal, material, evaluations, nearest, overstretched, "
            "crossings, room, smooth_count, edge_distance, trap, cost, work, alpha, motion, "
            "radiance, bounces, "
            "samples, variance, emission, albedo, light.0, light.1, light.2, light.3, light.4, "
            "light.5, light.6, light.7; did you mean depth?");
}

TEST_F(Tool, ShowsLayersInARangeOfValues) {
  EXPECT_EQ(tool("render court.yaml -o own.png --layer depth").code, 0);
  EXPECT_EQ(tool("render court.yaml -o given.png --layer depth --range 1,2").code, 0);
  EXPECT_NE(folder.read("own.png"), folder.read("given.png"));
  const std::string depth = "render court.yaml -o no.png --layer depth --range ";
  EXPECT_THAT(refused(depth + "1"), HasSubstr("--range: '1', expected two numbers with a comma"));
  EXPECT_THAT(refused(depth + "''"), HasSubstr("--range: '', expected two numbers"));
  EXPECT_THAT(refused(depth + "2,1"), HasSubstr("--range: 2 is not below 1"));
  EXPECT_THAT(refused(depth + "nan,1"), HasSubstr("--range: found 'nan'"));
  EXPECT_THAT(refused("render court.yaml -o no.png --layer face --range 1,2"),
              HasSubstr("--range: layer face has no colors by value"));
}

TEST_F(Tool, TellsHowOftenFieldsWereEvaluated) {
  const std::string fountain = std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-fountain.yaml";
  const auto report = [&](const std::string& more) {
    return nlohmann::json::parse(
        tool("render " + fountain + " -o f.png --size 64x40 --set frame.samples=1 --json" + more)
            .output);
  };
  const auto usual = report("");
  const auto plain = report(" --set field.pruning=false --set field.cones=false");
  EXPECT_EQ(usual["budget"]["field.pruning"], "true");
  EXPECT_EQ(plain["budget"]["field.cones"], "false");
  // Lanes that are led take fewer steps of their own; every step and every hit is an evaluation.
  EXPECT_LT(usual["tally"]["steps"], plain["tally"]["steps"]);
  EXPECT_GT(plain["tally"]["evaluations"],
            plain["tally"]["steps"].get<int>() + plain["tally"]["hits"].get<int>());
  EXPECT_THAT(tool("render " + fountain + " -o f.png --size 64x40").output,
              HasSubstr("fields evaluated"));
  EXPECT_THAT(refused("render " + fountain + " -o f.png --set field.pruning=some"),
              HasSubstr("expected true or false"));
}

TEST_F(Tool, QuietAndJson) {
  EXPECT_EQ(tool("render court.yaml -o a.png --quiet").output, "");
  const auto report = nlohmann::json::parse(tool("render court.yaml -o a.png --json").output);
  EXPECT_EQ(report["size"][0], 96);
  EXPECT_EQ(report["tally"]["lanes"], 96);
  EXPECT_EQ(report["budget"]["cells.method"], "leap");
  EXPECT_GT(report["cost"]["encode_ms"], 0);
  const auto checked = nlohmann::json::parse(tool("check court.yaml --json").output);
  EXPECT_EQ(checked["map_size"][0], 8);
  EXPECT_TRUE(checked["warnings"].empty());
}

TEST_F(Tool, ComparesPictures) {
  tool("render court.yaml -o exact.exr");
  tool("render court.yaml -o exact.png");
  tool("render court.yaml -o rough.exr --set cells.method=increment --set cells.increment=0.5");
  tool("render court.yaml -o rough.png --set cells.method=increment --set cells.increment=0.5");
  const Outcome same = tool("compare exact.exr exact.exr --limit rmse=0 --limit share_other=0");
  EXPECT_EQ(same.code, 0);
  EXPECT_EQ(
      same.output,
      "rmse          0                            root mean square error of the display values\n"
      "psnr          equal                        peak signal to noise\n"
      "ssim          1.00000                      structural similarity\n"
      "largest       0                            largest error of a channel\n"
      "share_other   0                            share of pixels that met another cell or "
      "face, or ended in another way\n"
      "depth_median  0 m                          median depth error where both hit\n"
      "depth_p99     0 m                          99th percentile of the depth error where "
      "both hit\n");
  const Outcome rough = tool("compare rough.exr exact.exr --limit rmse=0.001 -o diff.png");
  EXPECT_EQ(rough.code, 1);
  EXPECT_THAT(rough.errors, ContainsRegex("^rmse is 0[.][0-9]+, expected rmse at most 0.001\n$"));
  EXPECT_TRUE(folder.names().contains("diff.png"));
  const Outcome flat = tool("compare rough.png exact.png");
  EXPECT_EQ(flat.code, 0);
  EXPECT_THAT(flat.output, HasSubstr("share_other   not in these files"));
  const auto report = nlohmann::json::parse(tool("compare exact.png exact.png --json").output);
  EXPECT_TRUE(report["psnr"].is_null());
  EXPECT_EQ(report["rmse"], 0);
  EXPECT_TRUE(report["share_other"].is_null());

  EXPECT_THAT(refused("compare rough.png exact.png --limit share_other=0.1"),
              HasSubstr("the pictures do not have the layers for it"));
  EXPECT_THAT(refused("compare rough.png exact.png --limit rsme=1"),
              HasSubstr("did you mean rmse?"));
  EXPECT_THAT(refused("compare rough.png missing.png"),
              StartsWith("missing.png: cannot be read: No such file"));
  tool("render court.yaml -o small.png --size 10x10");
  EXPECT_THAT(refused("compare small.png exact.png"), HasSubstr("expected the same size"));
}

TEST_F(Tool, SweepsAndNamesTheCheapestGoodEnough) {
  const Outcome outcome = tool(
      "sweep court.yaml --vary cells.method=leap,increment --vary cells.increment=0.5,0.05 "
      "-o sweep --repeats 3 --limit rmse=0.0001");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_EQ(outcome.errors, "") << "no progress bar when piped";
  EXPECT_THAT(outcome.output,
              StartsWith("reference: 96x60, the base with cells.method=boundary\n"));
  EXPECT_THAT(outcome.output, HasSubstr("sweep/cost-error.png\n"));
  EXPECT_THAT(outcome.output,
              ContainsRegex("cheapest with rmse at most 0.0001: [0-9.]+ ms, rmse [0-9.e-]+\n"
                            "photonlane render court.yaml -o chosen.png --set "
                            "cells.method=leap\n$"));
  const std::string csv = folder.read("sweep/sweep.csv");
  EXPECT_THAT(
      csv, StartsWith(
               "cells.method,cells.increment,total_ms,total_ms_spread,total_ms_low,total_ms_high,"
               "cast_ms,"
               "fill_ms,lanes,steps,hits,escaped,spent,shadow_lanes,bounces,cut_bounces,crossings,"
               "bent_steps,secondary_steps,evaluations,rmse,psnr,ssim,largest,"
               "share_other,depth_median,depth_p99,on_front\nleap,-,"));
  EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), 4);
  EXPECT_THAT(csv, ContainsRegex(",true\n"));
  // By counted work, which no machine's noise changes, increments are beaten: they are off the
  // front.
  EXPECT_EQ(tool("sweep court.yaml --vary cells.method=leap,increment --vary "
                 "cells.increment=0.5,0.05 -o by_work --repeats 1 --by work --quiet")
                .code,
            0);
  EXPECT_THAT(folder.read("by_work/sweep.csv"),
              ContainsRegex("leap,[^\n]*,true\nincrement,0.5,[^\n]*,false\nincrement,0.05,[^\n]*,"
                            "false\n"));
  const auto json = nlohmann::json::parse(folder.read("sweep/sweep.json"));
  EXPECT_EQ(json["settings"].size(), 3u);
  EXPECT_EQ(json["settings"][1]["values"][1], "0.5");
  EXPECT_EQ(io::read_png(folder.path() + "/sweep/cost-error.png").size, (Size{1280, 800}));
  EXPECT_THAT(folder.read("sweep/cost-error.svg"), HasSubstr("</svg>"));

  const Outcome none = tool(
      "sweep court.yaml --vary frame.samples=1,2 -o s2 --repeats 1 --limit "
      "ssim=1.5 --quiet");
  EXPECT_EQ(none.code, 1);
  EXPECT_THAT(none.errors,
              StartsWith("no setting keeps ssim at least 1.5; nearest: frame.samples="));
  EXPECT_THAT(none.errors, ContainsRegex(", ssim [01][0-9.]*\n$"));

  // Of those that are quick enough the most accurate one.
  const Outcome quick = tool(
      "sweep court.yaml --vary frame.samples=1,4 -o s4 --repeats 1 --limit ms=60000 --limit "
      "fps=0.01");
  EXPECT_THAT(quick.output, ContainsRegex("most accurate with 60000 ms at most: [0-9.]+ ms, rmse "
                                          "[0-9.e-]+\n.*--set frame.samples=4\n$"));
  const Outcome never =
      tool("sweep court.yaml --vary frame.samples=1,4 -o s5 --repeats 1 --limit ms=1e-9");
  EXPECT_EQ(never.code, 1);
  EXPECT_THAT(never.errors,
              StartsWith("no setting keeps 1e-09 ms at most; nearest: frame.samples="));
  EXPECT_THAT(refused("sweep court.yaml --vary frame.samples=1,4 -o s6 --limit ms=-3"),
              HasSubstr("--limit ms=-3: found '-3', expected a number above 0"));

  // The line renders the frame that was measured, with all that was set, whatever it is called.
  folder.write("it's a court.yaml", folder.read("court.yaml"));
  const Outcome set = tool(
      "sweep \"it's a court.yaml\" --size 48x30 --set camera.heading=10 --set frame.samples=2 "
      "--vary cells.steps=2,900 -o s3 --repeats 1 --limit rmse=1e-6");
  EXPECT_EQ(set.code, 0) << set.errors;
  EXPECT_THAT(set.output,
              HasSubstr("photonlane render 'it'\\''s a court.yaml' -o chosen.png --size 48x30 "
                        "--set camera.heading=10 --set frame.samples=2 --set cells.steps=900\n"));
}

TEST_F(Tool, SweepsWithoutGnuplotLeaveTheScriptAndSaySo) {
  const Outcome outcome = run(fmt::format("PATH=/nowhere '{}' sweep court.yaml --vary "
                                          "frame.samples=1,2 -o s --repeats 1",
                                          PHOTONLANE_TOOL),
                              folder);
  EXPECT_EQ(outcome.code, 0);
  EXPECT_THAT(outcome.errors, StartsWith("no plot: gnuplot is not installed; apt-get install "
                                         "gnuplot-nox, then gnuplot -c s/cost-error.gp png"));
  EXPECT_THAT(folder.read("s/cost-error.gp"), HasSubstr("plot $front"));
  EXPECT_FALSE(std::filesystem::exists(folder.path() + "/s/cost-error.png"));
}

TEST_F(Tool, ChecksScenes) {
  const Outcome good = tool("check court.yaml");
  EXPECT_EQ(good.code, 0);
  EXPECT_THAT(good.output, ContainsRegex("^rooms      1\nmap        8x5 cells of 1 m\nwalls      "
                                         "55.0 % of the cells\nopenings   1\nreachable  100.0 % of "
                                         "the empty cells, walking from the eye\nmemory     "));
  const Outcome inside = tool("check court.yaml --set camera.eye=0.5,0.5,1.6");
  EXPECT_EQ(inside.code, 1);
  EXPECT_THAT(inside.output, HasSubstr("warning: the eye at [0.5, 0.5] is inside a wall"));
}

TEST_F(Tool, WalksAScript) {
  folder.write("walk.yaml", "rate: 5\nmoves:\n  - {forward: 9, over: 2}\n");
  const Outcome outcome = tool("walk court.yaml --script walk.yaml -o shown");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_THAT(outcome.output,
              ContainsRegex("^11 frames, 2.00 s, [0-9.]+ m, [0-9]+ contacts\n"
                            "[0-9.]+ \\+- [0-9.]+ ms a frame; slowest frame [0-9]+ at [0-9.]+ s: "
                            "[0-9.]+ ms\nshown\n$"));
  EXPECT_TRUE(std::filesystem::exists(folder.path() + "/shown/frame-00010.png"));
  EXPECT_EQ(nlohmann::json::parse(
                tool("walk court.yaml --script walk.yaml -o shown --json").output)["frames"],
            11);
  folder.write("bad.yaml", "moves:\n  - {hop: 3}\n");
  EXPECT_EQ(refused("walk court.yaml --script bad.yaml -o other"),
            "bad.yaml:2:6: no such key 'hop'");
  EXPECT_THAT(refused("walk court.yaml --script none.yaml -o other"),
              StartsWith("none.yaml: cannot be read"));
}

TEST_F(Tool, WalksAndDrawsPlansAmongFields) {
  folder.write(
      "step.yaml",
      "camera: {eye: [0, 0, 1.6], heading: 0}\nroom:\n  solids:\n    - field: {plane: {}}\n"
      "    - field: {place: {at: [2, 0, 0.1], of: {box: {size: [1, 3, 0.2]}}}}\n"
      "    - field: {place: {at: [5, 0, 1], of: {box: {size: [1, 3, 2]}}}}\n"
      "budget: {frame: {width: 64, height: 40}}\n");
  folder.write("walk.yaml", "rate: 5\nmoves:\n  - {forward: 9, over: 4}\n");
  const Outcome outcome = tool("walk step.yaml --script walk.yaml -o shown --json");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  const auto json = nlohmann::json::parse(outcome.output);
  EXPECT_NEAR(json["end"]["x"].get<double>(), 4.25, 0.01);
  EXPECT_GT(json["contacts"], 0);
  EXPECT_TRUE(std::filesystem::exists(folder.path() + "/shown/plan.png"));
  EXPECT_EQ(tool("render step.yaml --view plan -o plan.png").code, 0);
  EXPECT_EQ(tool("render step.yaml --layer overstretched -o over.png").code, 0);
}

TEST_F(Tool, SamplesFieldsToVolumesThatScenesShow) {
  folder.write("urn.yaml",
               "camera: {eye: [0, -3, 0], look_at: [0, 0, 0]}\nroom:\n  solids:\n"
               "    - field: {plane: {height: -2}}\n    - field: {sphere: {radius: 0.6}}\n"
               "budget: {frame: {width: 48, height: 32}}\n");
  const Outcome made =
      tool("make volume urn.yaml --field 2 -o ball.volume --set points=32 --set storage=words");
  EXPECT_EQ(made.code, 0) << made.errors;
  EXPECT_THAT(made.output,
              ContainsRegex("^32x32x32 points, 0.0451[0-9]* m apart, as words: 0.07 MB\n"
                            "error within two cells of the surface: .* m rms"));
  EXPECT_TRUE(made.output.ends_with("\nball.volume\n"));
  const auto json = nlohmann::json::parse(
      tool("make volume urn.yaml --field 2 -o ball.volume --set points=48 --json").output);
  EXPECT_LT(json["largest"], 0.001);
  folder.write(
      "shown.yaml",
      "camera: {eye: [0, -3, 0], look_at: [0, 0, 0]}\nroom:\n  solids:\n"
      "    - field: {volume: {file: ball.volume}}\nbudget: {frame: {width: 48, height: 32}}\n");
  EXPECT_EQ(tool("render shown.yaml -o a.exr").code, 0);
  folder.write("exact.yaml",
               "camera: {eye: [0, -3, 0], look_at: [0, 0, 0]}\nroom:\n  solids:\n"
               "    - field: {sphere: {radius: 0.6}}\nbudget: {frame: {width: 48, height: 32}}\n");
  EXPECT_EQ(tool("render exact.yaml -o b.exr").code, 0);
  EXPECT_EQ(tool("compare a.exr b.exr --limit rmse=0.005 --limit share_other=0.01").code, 0);
  EXPECT_EQ(refused("make volume urn.yaml -o x.volume"),
            "urn.yaml: a field without end, expected one that a box can hold");
  EXPECT_EQ(refused("make volume urn.yaml --field 3 -o x.volume"),
            "urn.yaml: --field 3: the scene has 2 fields");
  EXPECT_THAT(refused("make volume urn.yaml --field 2 -o x.volume --set points=1"),
              HasSubstr("--set points: found '1', expected integer, 2 to 4096"));
}

TEST_F(Tool, OpensDoorsAndShowsSeveralEyes) {
  folder.write("doors.yaml", R"(camera: {eye: [1.5, 1.5, 1.6], heading: 0}
materials:
  wall: {base: [0.6, 0.3, 0.2]}
  door: {base: [0.1, 0.4, 0.2]}
room:
  solids:
    - cells:
        legend: {"#": wall, D: {material: door, shape: sliding, along: y}}
        map: |
          ########
          #...D..#
          ########
budget:
  frame: {width: 90, height: 60}
)");
  const auto depth_ahead = [&](const std::string& options) {
    EXPECT_EQ(tool("render doors.yaml -o d.exr " + options).code, 0);
    return io::read_frame(folder.path() + "/d.exr").values(Layer::depth)(45, 30);
  };
  EXPECT_NEAR(depth_ahead(""), 4.46 - 1.5, 1e-3);
  EXPECT_NEAR(depth_ahead("--open 4,1=1"), 7 - 1.5, 1e-3);
  EXPECT_EQ(refused("render doors.yaml -o x.png --open 3,1=1"),
            "doors.yaml: --open 3,1=1: no door at column 3, row 1");
  EXPECT_THAT(refused("render doors.yaml -o x.png --open 4"), HasSubstr("COLUMN,ROW=OPENING"));
  // Two eyes, one of them looking back.
  folder.write("two.yaml", folder.read("doors.yaml") +
                               "views: [{width: 0.5}, {left: 0.5, width: 0.5, camera: {heading: "
                               "180}}]\n");
  ASSERT_EQ(tool("render two.yaml -o t.exr").code, 0);
  const Frame two = io::read_frame(folder.path() + "/t.exr");
  EXPECT_NEAR(two.values(Layer::depth)(22, 30), 4.46 - 1.5, 1e-3);
  EXPECT_NEAR(two.values(Layer::depth)(67, 30), 0.5, 1e-3);
  folder.write("w.yaml",
               "rate: 5\nmoves:\n  - {over: 1, cells: [{at: [4, 1], opening: 1}]}\n"
               "  - {forward: 4, over: 1}\n");
  const Outcome walked = tool("walk doors.yaml --script w.yaml -o out");
  EXPECT_EQ(walked.code, 0) << walked.errors;
  EXPECT_THAT(walked.output, HasSubstr("ms a change of the map"));
  const auto json = nlohmann::json::parse(folder.read("out/walk.json"));
  EXPECT_NEAR(json["end"]["x"].get<double>(), 5.5, 1e-3) << "through the open door";
  EXPECT_GT(json["edit_ms"].get<double>(), 0);
}

TEST_F(Tool, MakesMapsAndDrawsPlans) {
  const Outcome made = tool("make map -o cave.yaml --size 50x40 --set kind=cave --set seed=9");
  EXPECT_EQ(made.code, 0) << made.errors;
  EXPECT_THAT(made.output, ContainsRegex("^cave of 50x40 cells, [0-9.]+ % open, start at column "
                                         "25, row 20, goal at column [0-9]+, row [0-9]+ from the "
                                         "south\ncave.yaml\n$"));
  EXPECT_EQ(tool("check cave.yaml").code, 0);
  EXPECT_EQ(tool("render cave.yaml --view plan -o plan.png --size 500x400").output, "plan.png\n");
  EXPECT_EQ(io::read_png(folder.path() + "/plan.png").size, (Size{500, 464}));
  EXPECT_EQ(tool("render cave.yaml -o eye.png --quiet").code, 0);
  EXPECT_EQ(tool("make map -o maze.txt --size 9x5 --set loops=0 --quiet").output, "");
  const std::string drawing = folder.read("maze.txt");
  EXPECT_EQ(drawing.size(), 50u);
  EXPECT_EQ(std::count(drawing.begin(), drawing.end(), '<'), 1);
  EXPECT_EQ(refused("make map -o a.yaml --size 2x2"),
            "--size: found '2x2', expected WIDTHxHEIGHT in cells, 3 to 8192 each");
  EXPECT_EQ(refused("make map -o a.yaml --set kind=maize"),
            "--set kind: found 'maize', expected one of maze, cave, rooms; did you mean maze?");
  EXPECT_THAT(refused("make map -o a.yaml --set sed=1"), HasSubstr("did you mean seed"));
  EXPECT_THAT(refused("make map -o a.gif"), HasSubstr(".yaml, .txt or .png"));
  EXPECT_THAT(refused("make"), HasSubstr("subcommand"));
  EXPECT_THAT(refused("render court.yaml --view side -o a.png"), HasSubstr("--view"));
  EXPECT_EQ(refused("render court.yaml --view plan -o a.exr"),
            "a.exr: expected a name that ends in .png");
  const Outcome json = tool("render court.yaml --view plan -o p.png --json");
  EXPECT_EQ(nlohmann::json::parse(json.output)["map_size"][0], 8);
  EXPECT_EQ(tool("render court.yaml -o loud.EXR --quiet").code, 0);
  EXPECT_TRUE(io::read_frame(folder.path() + "/loud.EXR").has(Layer::depth));
}

TEST_F(Tool, SaysHowItIsUsed) {
  for (const char* command : {"", "render", "sweep", "compare", "check", "describe", "demo", "make",
                              "make map", "walk"}) {
    const Outcome help = tool(fmt::format("{} --help", command));
    EXPECT_EQ(help.code, 0);
    EXPECT_THAT(help.output, HasSubstr("Usage: photonlane"));
    EXPECT_THAT(help.output, HasSubstr("--help"));
  }
  EXPECT_THAT(tool("describe").output, HasSubstr("cells.method"));
  EXPECT_EQ(tool("describe --as schema").output, io::scene_schema());
  EXPECT_EQ(tool("--version").output, "0.1.0\n");
}

TEST_F(Tool, RefusesBadUsageInOneLine) {
  EXPECT_THAT(refused(""), HasSubstr("subcommand"));
  EXPECT_THAT(refused("paint court.yaml"), HasSubstr("see photonlane --help"));
  EXPECT_THAT(refused("render court.yaml"), HasSubstr("--output is required"));
  EXPECT_THAT(refused("render court.yaml -o a.png --bogus"), HasSubstr("--bogus"));
  EXPECT_THAT(refused("render court.yaml -o a.png --threads -3"), HasSubstr("--threads"));
  EXPECT_EQ(refused("render court.yaml -o a.gif"),
            "a.gif: expected a name that ends in .png or .exr");
  EXPECT_EQ(refused("render court.yaml -o a.png --set cells.step=12"),
            "court.yaml: --set cells.step: no such knob; did you mean cells.steps (integer, 1 to "
            "1000000000)?");
  EXPECT_EQ(refused("render court.yaml -o a.png --set cells.steps=0"),
            "court.yaml: --set cells.steps: found '0', expected integer, 1 to 1000000000");
  EXPECT_EQ(refused("render court.yaml -o a.png --set cells.steps"),
            "court.yaml: --set cells.steps: expected KEY=VALUE");
  for (const char* size : {"640", "0x10", "-5x10", "axb", "10x", "nanx5"}) {
    EXPECT_THAT(refused(fmt::format("render court.yaml -o a.png --size={}", size)),
                HasSubstr("expected WIDTHxHEIGHT"))
        << size;
  }
  EXPECT_THAT(refused("render court.yaml -o a.png --size 100000x100000"),
              ContainsRegex("court.yaml: a frame of 100000x100000 pixels needs 37.3 GiB"));
  EXPECT_THAT(refused("render court.yaml -o a.png --set camera.field_of_view=180"),
              HasSubstr("expected less than 180"));
  EXPECT_THAT(refused("sweep court.yaml --vary cells.stepz=1 -o s"),
              StartsWith("court.yaml: --vary cells.stepz: no such knob"));
  EXPECT_THAT(refused("sweep court.yaml --vary cells.steps=5 -o s --metric speed"),
              HasSubstr("--metric speed: no such metric"));
  EXPECT_THAT(refused("sweep court.yaml --vary cells.steps=5 -o s --size 100000x100000"),
              HasSubstr("GiB"))
      << "and the folder it had made is gone";
}

TEST_F(Tool, RefusesBadFilesInOneLine) {
  EXPECT_EQ(refused("render missing.yaml -o a.png"),
            "missing.yaml: cannot be read: No such file or directory");
  EXPECT_EQ(refused("render . -o a.png"), ".: is a folder, expected a file");
  folder.write("twice.yaml", "title: a\ntitle: b\n");
  EXPECT_EQ(refused("check twice.yaml"),
            "twice.yaml:2:1: key 'title' stands twice, first in line 1");
  folder.write("deep.yaml", std::string(10000, '['));
  EXPECT_THAT(refused("check deep.yaml"), HasSubstr("nested deeper than 64 levels"));
  std::string ragged = court;
  folder.write("ragged.yaml", ragged.replace(ragged.find("#..#...."), 8, "#..#..."));
  EXPECT_EQ(refused("render ragged.yaml -o a.png"),
            "ragged.yaml:12:18: row of 7 cells, expected 8 like the rows above");
  folder.write("file", "");
  EXPECT_THAT(refused("render court.yaml -o file/a.png"),
              StartsWith("file/a.png: cannot be written"));
  EXPECT_THAT(refused("render court.yaml -o nowhere/a.exr"), StartsWith("nowhere/a.exr: "));
  EXPECT_THAT(refused("sweep court.yaml --vary frame.samples=1 -o file"), StartsWith("file: "));
  EXPECT_THAT(refused("demo -o file/x"), StartsWith("file/x: folder cannot be made"));
}

TEST_F(Tool, PartsOfTheDemoAreMadeAlone) {
  const Outcome outcome = tool("demo wings plan -o shown --size 32x20");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_THAT(outcome.output, StartsWith("shown/view.png, view.exr: ")) << "in the demo's order";
  EXPECT_THAT(outcome.output, HasSubstr("shown: made in "));
  EXPECT_TRUE(std::filesystem::exists(folder.path() + "/shown/wings/lane.png"));
  EXPECT_FALSE(std::filesystem::exists(folder.path() + "/shown/court"));
  EXPECT_THAT(refused("demo cuort"),
              HasSubstr("no part 'cuort' of the demo, expected one of plan, "
                        "evening, court, wings, window, dew, pollen, terraces, plate, flowers"));
  EXPECT_THAT(refused("demo cuort"), HasSubstr("did you mean court?"));
}

TEST_F(Tool, DemoLeavesPicturesDifferenceAndTable) {
  const Outcome outcome = tool("demo -o shown --size 64x40");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_TRUE(outcome.output.ends_with("\nshown\n")) << "the last line names the folder";
  for (const char* name : {"view.png",
                           "view-careless.png",
                           "difference.png",
                           "layer-depth.png",
                           "layer-steps.png",
                           "view.exr",
                           "sweep.csv",
                           "sweep.json",
                           "cost-error.png",
                           "cost-error.svg",
                           "evening/view.png",
                           "evening/plan.png",
                           "evening/sweep.csv",
                           "evening/cost-error.png",
                           "dew/view.png",
                           "dew/sweep.csv",
                           "plate/view.png",
                           "plate/wrong.png",
                           "flowers/view.png",
                           "flowers/dew.png",
                           "flowers/sweep.csv",
                           "court/view.png",
                           "court/shapes.png",
                           "court/steps.png",
                           "court/plan.png",
                           "court/layer-normal.png",
                           "court/sweep.csv",
                           "wings/view.png",
                           "wings/colonnade.png",
                           "wings/lane.png",
                           "wings/sweep.csv"}) {
    EXPECT_TRUE(std::filesystem::exists(folder.path() + "/shown/" + name)) << name;
  }
  const auto json = nlohmann::json::parse(folder.read("shown/sweep.json"));
  EXPECT_GE(json["settings"].size(), 5u);
  EXPECT_THAT(outcome.output, HasSubstr("wet_floor=mirrored")) << "tricks of light one by one";
}

TEST_F(Tool, TellsWhatTheLanesOfAPixelDid) {
  const std::string scene = "'" PHOTONLANE_SOURCE "/demo/glasshouse-wings.yaml'";
  const std::string small = " --size 64x40 --set frame.samples=1";
  const Outcome text = tool("lane " + scene + small + " --pixel 11,16 --march -o lane.png");
  EXPECT_EQ(text.code, 0) << text.errors;
  EXPECT_THAT(text.output, HasSubstr("from the eye in lobby"));
  EXPECT_THAT(text.output, HasSubstr("by 'alpine door' into alpine hall, turned 0 degrees"));
  EXPECT_THAT(text.output, HasSubstr("out of a portal in alpine hall"));
  EXPECT_THAT(text.output, HasSubstr("step at "));
  EXPECT_TRUE(std::filesystem::exists(folder.path() + "/lane.png"));
  // Five lines first; without more, nothing else.
  const Outcome summary = tool("lane " + scene + small + " --pixel 11,16");
  EXPECT_EQ(std::count(summary.output.begin(), summary.output.end(), '\n'), 5);
  EXPECT_THAT(summary.output, StartsWith("pixel 11,16  ["));
  EXPECT_THAT(summary.output, ContainsRegex("in alpine hall after 1 crossing\nlight  [0-9]+ % "));
  EXPECT_THAT(summary.output, HasSubstr("ways   by 'alpine door', "));
  EXPECT_THAT(summary.output, ContainsRegex("cost   [0-9]+ steps for what it met, [0-9.]+ times "
                                            "the frame's median of [0-9]+; [0-9]+ for all"));
  EXPECT_THAT(summary.output, ContainsRegex("why    of the steps [0-9]+ % .*\n"));
  EXPECT_THAT(text.output, StartsWith(summary.output));
  // Samples that went alike are told together.
  const Outcome four = tool("lane " + scene + " --size 64x40 --set frame.samples=4 --pixel 11,16");
  EXPECT_EQ(std::count(four.output.begin(), four.output.end(), '\n'), 5) << four.output;
  const Outcome json = tool("lane " + scene + small + " --pixel 11,16 --json");
  const auto log = nlohmann::json::parse(json.output);
  EXPECT_EQ(log["room"], "alpine hall");
  EXPECT_EQ(log["crossings"], 1);
  EXPECT_EQ(log["legs"][0]["meetings"][0]["portal"], "alpine door");
  // The sum of what legs add is the pixel.
  double red = 0;
  for (const auto& leg : log["legs"]) red += leg["added"][0].get<double>();
  EXPECT_NEAR(red, log["color"][0].get<double>(), 1e-5);
  EXPECT_EQ(tool("lane " + scene + small + " --pixel 64,0").code, 2);
  const Outcome wrong = tool("lane " + scene + " --pixel 12");
  EXPECT_EQ(wrong.code, 2);
  EXPECT_THAT(wrong.errors, HasSubstr("--pixel 12: expected X,Y"));
}

TEST_F(Tool, WalksThroughPortalsAndChecksThem) {
  const std::string scene = "'" PHOTONLANE_SOURCE "/demo/glasshouse-wings.yaml'";
  folder.write("walk.yaml", "rate: 2\nmoves: [{forward: 3, over: 2}]\n");
  const Outcome walked =
      tool("walk " + scene +
           " --script walk.yaml -o walked --size 32x20 --set frame.samples=1 "
           "--set bounces.limit=0 --set camera.eye='[2.1,1.5,1.6]' --set camera.heading=90 "
           "--set camera.pitch=0");
  EXPECT_EQ(walked.code, 0) << walked.errors;
  const std::string path = folder.read("walked/path.csv");
  EXPECT_THAT(path, HasSubstr("\n4,2,root cellar,")) << "it ends in the eighth room";
  const Outcome checked = tool("check " + scene + " --json");
  EXPECT_EQ(checked.code, 0) << checked.output;
  const auto report = nlohmann::json::parse(checked.output);
  EXPECT_EQ(report["rooms"], 8);
  EXPECT_EQ(report["portals"], 10);
  EXPECT_EQ(report["swells"], 1);
  EXPECT_THAT(report["loops"].dump(), HasSubstr("'western end': turned by 0 degrees, shifted by "
                                                "5.6 m, 1 times as large"));
  const Outcome plan = tool("render " + scene + " --view plan --size 200x120 -o plan.png");
  EXPECT_EQ(plan.code, 0) << plan.errors;
}

TEST(Examples, Run) {
  TemporaryFolder folder;
  const Outcome outcome =
      run(fmt::format("'{}/first_picture' picture.png", PHOTONLANE_EXAMPLES), folder);
  EXPECT_EQ(outcome.code, 0);
  EXPECT_THAT(outcome.output,
              ContainsRegex("careless: +[0-9.]+ steps a lane, [0-9.]+ ms, RMSE 0[.]0"));
  EXPECT_EQ(io::read_png(folder.path() + "/picture.png").size, (Size{640, 400}));
  const Outcome own = run(fmt::format("'{}/own_field' own.png", PHOTONLANE_EXAMPLES), folder);
  EXPECT_EQ(own.code, 0);
  EXPECT_THAT(own.output, HasSubstr("stretch 1: function gourd grows by 1."));
  EXPECT_THAT(own.output, HasSubstr("stretch 1.75: nothing grows faster"));
  EXPECT_THAT(own.output, HasSubstr(" 0 spent"));
  EXPECT_EQ(io::read_png(folder.path() + "/own.png").size, (Size{320, 200}));
  const Outcome live = run(fmt::format("'{}/live_world' live.png", PHOTONLANE_EXAMPLES), folder);
  EXPECT_EQ(live.code, 0);
  for (const char* what :
       {"a light", "a material", "a field", "a sphere", "a number of the file"}) {
    EXPECT_THAT(live.output, ContainsRegex(std::string(what) + " changed: [0-9.]+ ms until"));
  }
  EXPECT_EQ(io::read_png(folder.path() + "/live.png").size, (Size{160, 100}));
}

TEST_F(Tool, InventsFractalsAndTurnsNumbersOfScenes) {
  const Outcome made = tool("make fractal --seed 4 --set kind=tree -o tree.yaml");
  EXPECT_EQ(made.code, 0) << made.errors;
  EXPECT_THAT(made.output, HasSubstr("iterate of seed 4: its distances are exact or bounds"));
  EXPECT_EQ(tool("check tree.yaml").code, 0);
  EXPECT_EQ(tool("render tree.yaml -o tree.png --size 64x40 --set frame.samples=1").code, 0);
  const Outcome same = tool("make fractal --seed 4 --set kind=tree -o again.yaml --quiet");
  EXPECT_EQ(same.output, "");
  EXPECT_EQ(folder.read("again.yaml"), folder.read("tree.yaml"));
  EXPECT_EQ(tool("make fractal --seed none -o x.yaml").code, 2);
  EXPECT_THAT(tool("make fractal --set kind=shrub -o x.yaml").errors, HasSubstr("kind"));

  folder.write("bulb.yaml",
               "camera: {eye: [0, -3, 1], look_at: [0, 0, 0]}\nroom:\n  solids:\n"
               "    - field: {place: {scale: 0.5, of: {bulb: {power: 4, times: 5}}}}\n");
  const Outcome checked = tool("check bulb.yaml --json");
  EXPECT_EQ(checked.code, 0) << checked.output;
  const auto report = nlohmann::json::parse(checked.output);
  ASSERT_EQ(report["estimates"].size(), 1u);
  EXPECT_THAT(report["estimates"][0].get<std::string>(),
              HasSubstr("field 1: place > bulb is an estimate of the distance"));
  EXPECT_THAT(tool("check bulb.yaml").output, HasSubstr("estimate   field 1: place > bulb"));

  folder.write("s.yaml",
               "numbers: {deep: 2, wide: 1}\ncamera: {eye: [1.6, -2.4, 1.4], look_at: [0, 0, 0]}\n"
               "room:\n  solids:\n    - field: {sponge: {size: $wide, times: $deep}}\n");
  const Outcome swept = tool(
      "sweep s.yaml -o swept --size 48x30 --repeats 1 --warm-up 0 --vary scene.deep=1,2,3 "
      "--set scene.wide=1.5");
  EXPECT_EQ(swept.code, 0) << swept.errors;
  EXPECT_THAT(folder.read("swept/sweep.csv"), HasSubstr("scene.deep"));
  const Outcome wrong = tool("render s.yaml -o s.png --set scene.depp=3");
  EXPECT_NE(wrong.code, 0);
  EXPECT_THAT(wrong.errors, HasSubstr("did you mean deep?"));
  EXPECT_THAT(tool("render tree.yaml -o s.png --set scene.deep=3").errors,
              HasSubstr("the scene has no numbers"));
}

TEST(Demo, ScenesAreSound) {
  TemporaryFolder folder;
  for (const auto& entry : std::filesystem::directory_iterator(PHOTONLANE_SOURCE "/demo")) {
    if (entry.path().extension() != ".yaml") continue;
    const Outcome outcome =
        run(fmt::format("'{}' check '{}'", PHOTONLANE_TOOL, entry.path().string()), folder);
    EXPECT_EQ(outcome.code, 0) << entry.path() << outcome.output << outcome.errors;
  }
}

}  // namespace
}  // namespace photonlane
