// The commands that measure: tune, predict, keep and judge, --cost and --part.

#include <gmock/gmock.h>

#include <nlohmann/json.hpp>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::Outcome;
using ::testing::ContainsRegex;
using ::testing::HasSubstr;
using ::testing::Not;
using ::testing::StartsWith;
using Json = nlohmann::json;

class BenchTool : public test::ToolRun {
 protected:
  void SetUp() override { folder.write("yard.yaml", yard()); }

  static std::string yard(const std::string& budget = "  bounces: {limit: 4}  # enough\n") {
    return test::yard_text("Yard", budget + "  frame: {width: 96, height: 60, samples: 2}\n");
  }
};

TEST_F(BenchTool, RenderTellsWhereTheTimeWent) {
  const Outcome outcome = tool("render yard.yaml -o a.png --cost --threads 1");
  EXPECT_EQ(outcome.code, 0);
  EXPECT_THAT(outcome.output, HasSubstr("evaluating fields"));
  EXPECT_THAT(outcome.output, HasSubstr("from the eye"));
  EXPECT_THAT(outcome.output, ContainsRegex("1 thread, [0-9.]+ ms of work:"));
  const Json json = Json::parse(tool("render yard.yaml -o a.png --json").output);
  double sum = 0;
  bool marched = false;
  for (const Json& stage : json["cost"]["stages"]) {
    sum += stage["ms"].get<double>();
    marched = marched || (stage["work"] == "march" && stage["lanes"] == "sun");
  }
  EXPECT_GT(sum, 0);
  EXPECT_TRUE(marched);
  EXPECT_EQ(tool("render yard.yaml -o cost.png --layer cost --no-legend --quiet").code, 0);
  EXPECT_EQ(io::read_png(folder.path() + "/cost.png").size.width, 96);
}

TEST_F(BenchTool, RenderMakesAPart) {
  ASSERT_EQ(tool("render yard.yaml -o whole.exr --quiet").code, 0);
  ASSERT_EQ(tool("render yard.yaml -o part.exr --part 30,20,40x25 --quiet").code, 0);
  const Frame whole = io::read_frame(folder.path() + "/whole.exr");
  const Frame part = io::read_frame(folder.path() + "/part.exr");
  ASSERT_EQ(part.size(), (Size{40, 25}));
  for (int y = 0; y < 25; ++y) {
    for (int x = 0; x < 40; ++x) {
      ASSERT_EQ(part.values(Layer::color, 1)(x, y), whole.values(Layer::color, 1)(30 + x, 20 + y));
    }
  }
  for (const char* bad : {"30,20", "30,20,40", "a,20,40x25", "-1,2,3x4", "0,0,0x5", "90,0,10x10"}) {
    EXPECT_THAT(refused(std::string("render yard.yaml -o b.png --part ") + bad), HasSubstr("part"))
        << bad;
  }
}

TEST_F(BenchTool, TuneFindsWritesAndGoesOn) {
  const Outcome outcome = tool(
      "tune yard.yaml --limit rmse=0.08 --vary bounces.limit=0,1,2,4 --vary frame.samples=1,2,4 "
      "--by work -o tuned --write");
  ASSERT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_THAT(outcome.output, HasSubstr("settings tried on 100.0 % of the pixels"));
  EXPECT_THAT(outcome.output, HasSubstr("photonlane render yard.yaml -o chosen.png"));
  const Json json = Json::parse(folder.read("tuned/tune.json"));
  const Json& chosen = json["trials"][json["chosen"].get<std::size_t>()];
  EXPECT_LE(chosen["error"]["rmse"].get<double>(), 0.08);
  EXPECT_LT(chosen["cost"].get<double>(), json["trials"][0]["cost"].get<double>());
  // The scene has the budget now, and still its comments.
  const std::string text = folder.read("yard.yaml");
  EXPECT_THAT(text, HasSubstr("# A mirror ball on a floor."));
  EXPECT_THAT(text, HasSubstr("# enough"));
  const io::SceneFile file = io::read_scene(folder.path() + "/yard.yaml");
  EXPECT_EQ(file.budget.bounces.limit, json["budget"]["bounces.limit"].get<int>());
  EXPECT_EQ(file.budget.frame.samples, json["budget"]["frame.samples"].get<int>());
  EXPECT_EQ(file.budget.frame.width, 96);
  // The budget by itself is a part of a scene.
  folder.write("other.yaml",
               yard().substr(0, yard().find("budget:")) + folder.read("tuned/budget.yaml"));
  EXPECT_EQ(io::read_scene(folder.path() + "/other.yaml").budget.bounces.limit,
            file.budget.bounces.limit);
}

TEST_F(BenchTool, TuneNamesTheNearestWhereNothingHolds) {
  const Outcome outcome = tool(
      "tune yard.yaml --limit rmse=0.0000001 --vary bounces.limit=0,1 --by work -o tuned --quiet");
  EXPECT_EQ(outcome.code, 1);
  EXPECT_THAT(outcome.errors, HasSubstr("no setting that was tried keeps the limits"));
  EXPECT_THAT(folder.read("tuned/budget.yaml"), StartsWith("budget:"));
  EXPECT_THAT(refused("tune yard.yaml --limit rmse=x -o tuned2"), HasSubstr("--limit"));
  EXPECT_THAT(refused("tune yard.yaml --limit ms=0 -o tuned2"), HasSubstr("a number above 0"));
  EXPECT_THAT(refused("tune yard.yaml --limit rmse=1 --vary frame.width=1,2 -o tuned2"),
              HasSubstr("frame.width cannot be tuned"));
  EXPECT_THAT(refused("tune yard.yaml --limit rmse=1 --views no.yaml -o tuned2"),
              HasSubstr("no.yaml"));
  EXPECT_THAT(refused("tune yard.yaml --limit rmse=1 -o tuned2 --resume"),
              HasSubstr("run.journal"));
}

TEST_F(BenchTool, TuneTakesSeveralViews) {
  folder.write("views.yaml",
               "- {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n- {eye: [3, -2, 1], look_at: [0, 0, "
               "0.5], field_of_view: 40}\n");
  const Outcome outcome = tool(
      "tune yard.yaml --limit rmse=0.1 --vary bounces.limit=0,1,2 --by work --views views.yaml "
      "-o tuned --json");
  ASSERT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_FALSE(Json::parse(outcome.output)["chosen"].is_null());
  folder.write("bad.yaml", "- {eye: [0, 0, 1], hading: 3}\n");
  EXPECT_THAT(refused("tune yard.yaml --limit rmse=1 --views bad.yaml -o tuned2"),
              HasSubstr("bad.yaml:1:20: no such key 'hading'"));
}

TEST_F(BenchTool, PredictSaysWhatAFrameWillCost) {
  const Outcome outcome = tool("predict yard.yaml --size 640x400");
  EXPECT_EQ(outcome.code, 0);
  EXPECT_THAT(outcome.output,
              ContainsRegex("^640x400: [0-9.e+]+ ms, [0-9.e+]+ to [0-9.e+]+ in 90 of "
                            "100 cases; [0-9.]+ MiB\n"));
  const Json json = Json::parse(tool("predict yard.yaml --size 640x400 --json").output);
  EXPECT_LE(json["low_ms"].get<double>(), json["ms"].get<double>());
  EXPECT_GE(json["high_ms"].get<double>(), json["ms"].get<double>());
  EXPECT_THAT(refused("predict yard.yaml --share 0"), HasSubstr("--share"));
}

TEST_F(BenchTool, SweepsRankByWorkAndOfSeveralViews) {
  folder.write("views.yaml",
               "- {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
               "- {eye: [3, -4, 1.6], look_at: [0, 0, 0.5]}\n");
  const std::string sweep = "sweep yard.yaml --size 24x15 --vary frame.samples=1,2 -o out ";
  const Outcome work = tool(sweep + "--by work --views views.yaml --limit rmse=0.2");
  EXPECT_EQ(work.code, 0) << work.errors;
  EXPECT_THAT(work.output, HasSubstr("better in both work and rmse\n"));
  EXPECT_THAT(work.output, HasSubstr("of 2 views: errors are their means\n"));
  EXPECT_THAT(work.output, HasSubstr(" of work, rmse "));
  EXPECT_THAT(work.output, Not(HasSubstr("likely")));
  const std::string table = folder.read("out/sweep.csv");
  EXPECT_THAT(table, StartsWith("frame.samples,work_ms,"));
  // The same each time, to the last digit.
  EXPECT_EQ(tool(sweep + "--by work --views views.yaml --limit rmse=0.2").output, work.output);
  EXPECT_EQ(folder.read("out/sweep.csv"), table);
  const Json json = Json::parse(folder.read("out/sweep.json"));
  EXPECT_EQ(json["by"], "work");
  EXPECT_EQ(json["views"], 2);
  const Outcome cpu = tool(sweep + "--by cpu --views views.yaml --repeats 2 --limit p95_ms=1e6");
  EXPECT_EQ(cpu.code, 0) << cpu.errors;
  EXPECT_THAT(cpu.output, HasSubstr("p95 ms"));
  EXPECT_THAT(cpu.output, HasSubstr("ms of all threads, rmse "));
  const Outcome none = tool(sweep + "--views views.yaml --repeats 1 --limit p95_ms=1e-9");
  EXPECT_EQ(none.code, 1);
  EXPECT_THAT(none.errors, HasSubstr("nearest: frame.samples="));
  EXPECT_THAT(refused("sweep yard.yaml --vary frame.samples=1,2 -o no --by work --limit ms=3"),
              HasSubstr("--by work: no clock is read"));
  EXPECT_THAT(refused("sweep yard.yaml --vary frame.samples=1,2 -o no --limit p95_ms=3"),
              HasSubstr("expected several by --views"));
  EXPECT_THAT(
      refused("sweep yard.yaml --vary camera.heading=1,2 -o no --views views.yaml --repeats 1"),
      HasSubstr("expected no knob of the camera to vary"));
}

TEST_F(BenchTool, ProfileSaysWhereTimeGoesAndWhatKnobsAreWorth) {
  const std::string size =
      fmt::format(" --size {}x{} --no-errors ", test::effort(96), test::effort(60));
  const Outcome outcome = tool("profile yard.yaml --repeats 1" + size);
  EXPECT_EQ(outcome.code, 0);
  EXPECT_THAT(outcome.output, StartsWith("a frame takes "));
  EXPECT_THAT(outcome.output, HasSubstr("evaluating fields"));
  EXPECT_THAT(outcome.output, HasSubstr("what each knob is worth"));
  EXPECT_THAT(outcome.output, HasSubstr("without effect here:"));
  const Json json = Json::parse(tool("profile yard.yaml --repeats 1 --json" + size).output);
  EXPECT_FALSE(json["stages"].empty());
  EXPECT_FALSE(json["knobs"].empty());
  EXPECT_TRUE(
      Json::parse(tool("profile yard.yaml --no-knobs --json" + size).output)["knobs"].empty());
  EXPECT_TRUE(json["errors"].empty());
  folder.write("views.yaml",
               "- {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
               "- {eye: [0, 0, 9], look_at: [0, 1, 50]}\n");
  const Outcome views =
      tool("profile yard.yaml --views views.yaml --no-knobs --repeats 1 --size 24x15");
  EXPECT_EQ(views.code, 0) << views.errors;
  EXPECT_THAT(views.output, StartsWith("2 views: "));
  EXPECT_THAT(views.output, HasSubstr("where the error comes from: rmse "));
  EXPECT_THAT(refused("profile yard.yaml --repeats 0"), HasSubstr("--repeats"));
}

TEST_F(BenchTool, JudgeIsSilentAboutTheSame) {
  ASSERT_EQ(tool("keep yard.yaml -o kept --repeats 3").code, 0);
  for (int i = 0; i < 20; ++i) {
    const Outcome outcome = tool("judge kept --quiet --repeats 0");
    EXPECT_EQ(outcome.code, 0);
    EXPECT_EQ(outcome.output, "");
  }
  EXPECT_THAT(tool("judge kept --repeats 2 --slower 1000").output,
              StartsWith("yard.yaml: same picture, same work, time "));
}

TEST_F(BenchTool, JudgeSeesOtherWorkAndOtherPictures) {
  ASSERT_EQ(tool("keep yard.yaml -o kept --repeats 0").code, 0);
  folder.write("yard.yaml", yard("  bounces: {limit: 4}\n  field: {method: sphere}\n"));
  Outcome outcome = tool("judge kept --limit rmse=0.01");
  EXPECT_EQ(outcome.code, 1);
  EXPECT_THAT(outcome.output, HasSubstr("times !"));
  outcome = tool("judge kept --limit rmse=0.01 --more-work 500");
  EXPECT_EQ(outcome.code, 0) << outcome.output;
  folder.write("yard.yaml", yard("  bounces: {limit: 0}\n"));
  outcome = tool("judge kept --json");
  EXPECT_EQ(outcome.code, 1);
  const Json one = Json::parse(outcome.output)["scenes"][0];
  EXPECT_FALSE(one["same_picture"].get<bool>());
  EXPECT_GT(one["rmse"].get<double>(), 0.01);
  EXPECT_FALSE(one["holds"].get<bool>());
  folder.write("yard.yaml", yard().substr(0, yard().find("  frame:")) + "  frame: {width: 80}\n");
  EXPECT_THAT(tool("judge kept").output, HasSubstr("picture of another size !"));
}

TEST_F(BenchTool, JudgeSeesThatAFrameTakesLonger) {
  ASSERT_EQ(tool("keep yard.yaml -o kept --repeats 5 --set frame.samples=1").code, 0);
  // What was set is set again: the file's own samples do not matter. Times are kept of less work.
  std::string text = folder.read("kept/kept.json");
  Json json = Json::parse(text);
  for (Json& time : json["scenes"][0]["times"]) time = time.get<double>() / 1000;
  folder.write("kept/kept.json", json.dump());
  const Outcome outcome = tool("judge kept --repeats 5 --slower 100");
  EXPECT_EQ(outcome.code, 1);
  EXPECT_THAT(outcome.output, ContainsRegex("same picture, same work, time [0-9.]+ times .* !"));
  json["machine"] = "a slower one";
  folder.write("kept/kept.json", json.dump());
  EXPECT_THAT(tool("judge kept --repeats 2").output, HasSubstr("on another machine"));
}

TEST_F(BenchTool, JudgeRefusesWhatIsDamaged) {
  EXPECT_THAT(refused("judge nowhere"), HasSubstr("nowhere/kept.json"));
  ASSERT_EQ(tool("keep yard.yaml -o kept --repeats 0").code, 0);
  const std::string text = folder.read("kept/kept.json");
  folder.write("kept/kept.json", text.substr(0, text.size() / 2));
  EXPECT_THAT(refused("judge kept"), HasSubstr("damaged or cut short"));
  Json json = Json::parse(text);
  json["form"] = 99;
  folder.write("kept/kept.json", json.dump());
  EXPECT_THAT(refused("judge kept"), HasSubstr("of form 99, expected 1; keep it anew"));
  json["form"] = 1;
  json["scenes"][0]["picture"] = "../yard.yaml";
  folder.write("kept/kept.json", json.dump());
  EXPECT_THAT(refused("judge kept"), HasSubstr("outside the folder"));
  folder.write("kept/kept.json", text);
  std::filesystem::remove(folder.path() + "/kept/picture-001.exr");
  EXPECT_THAT(refused("judge kept"), HasSubstr("picture-001.exr"));
  EXPECT_THAT(refused("keep yard.yaml yard.yaml -o kept2"), HasSubstr("is there twice"));
  EXPECT_THAT(refused("keep no.yaml -o kept2"), HasSubstr("no.yaml"));
}

TEST(BudgetText, GoesIntoFilesOfEveryStyle) {
  const auto with = [](const std::string& text, const Budget& budget) {
    const test::TemporaryFolder folder;
    const std::string path = folder.write("scene.yaml", text);
    io::SceneFile file = io::read_scene(path);
    io::write_budget(file, budget);
    EXPECT_EQ(io::read_scene(path).budget.light.corners, budget.light.corners);
    EXPECT_EQ(io::read_scene(path).budget.bounces.limit, budget.bounces.limit);
    EXPECT_EQ(io::read_scene(path).budget.number, budget.number);
    return folder.read("scene.yaml");
  };
  Budget budget;
  budget.light.corners = Corners::none;
  budget.bounces.limit = 9;
  budget.number = NumberType::float64;
  const std::string rest = "room:\n  solids:\n    - field: {sphere: {radius: 1}}\n";
  EXPECT_THAT(with(rest, budget), HasSubstr("budget:\n  "));
  EXPECT_THAT(
      with(rest + "budget: {bounces: {limit: 2}, light: {softness: hard}}  # note\n", budget),
      HasSubstr("limit: 9"));
  EXPECT_THAT(with(rest + "budget:\n  # kept\n  bounces:\n    limit: 2  # kept too\n  light:\n"
                          "    corners: \"sampled\"  # in quotes\n",
                   budget),
              HasSubstr("    limit: 9  # kept too\n  light:\n    corners: none  # in quotes\n"));
  EXPECT_THAT(with("budget: {}\n" + rest, budget), HasSubstr("budget: {"));
}

TEST(CameraText, GoesIntoFilesOfEveryStyle) {
  Camera camera{.eye = {1.5, -2.25, 1.75}, .heading = degrees(123.25), .pitch = degrees(-7.5)};
  camera.roll = degrees(3);
  camera.field_of_view = degrees(41);
  camera.distortion_k1 = -0.01;
  const auto with = [&](const std::string& text) {
    const test::TemporaryFolder folder;
    const std::string path = folder.write("scene.yaml", text);
    const io::SceneFile file = io::read_scene(path);
    io::write_camera(file, camera);
    const Camera read = io::read_scene(path).camera;
    EXPECT_EQ(read.eye, camera.eye) << text;
    EXPECT_NEAR(read.heading, camera.heading, 1e-8) << text;
    EXPECT_NEAR(read.pitch, camera.pitch, 1e-8) << text;
    EXPECT_NEAR(read.roll, camera.roll, 1e-12) << text;
    EXPECT_NEAR(read.field_of_view, camera.field_of_view, 1e-12) << text;
    EXPECT_EQ(read.distortion_k1, camera.distortion_k1) << text;
    return folder.read("scene.yaml");
  };
  const std::string rest = "room:\n  solids:\n    - field: {sphere: {radius: 1}}\n";
  EXPECT_THAT(with(rest), HasSubstr("camera:\n  "));
  EXPECT_THAT(with(rest + "camera: {eye: [3, 4, 5], heading: 2}  # note\n"),
              HasSubstr("  # note\n"));
  EXPECT_THAT(with("camera:\n  # kept\n  eye: [3, 4, 5]  # here\n  pitch: 2\n" + rest),
              testing::AllOf(HasSubstr("camera:\n  # kept\n"),
                             HasSubstr("  eye: [1.5, -2.25, 1.75]  # here\n  pitch: -7.5\n")));
  // What is looked at moves along.
  const std::string looks = with(rest + "camera: {eye: [3, 0, 1], look_at: [0, 0, 1]}\n");
  EXPECT_THAT(looks, HasSubstr("look_at: ["));
  EXPECT_THAT(looks, testing::Not(HasSubstr("heading")));
}

TEST(CameraText, OfPlanesIsTheirWindow) {
  const test::TemporaryFolder folder;
  const std::string path =
      folder.write("plane.yaml", "plane: {}\nwindow:\n  center: [-0.5, 0]  # middle\n  width: 3\n");
  io::SceneFile file = io::read_scene(path);
  io::set_by_name(file, "window.center",
                  "-0.743643887037158704752191506114774,0.13182590420531197049313205638");
  io::set_by_name(file, "window.width", "1e-25");
  io::write_camera(file, file.camera);
  const io::SceneFile again = io::read_scene(path);
  EXPECT_EQ(again.camera.window.center.x.text(), file.camera.window.center.x.text());
  EXPECT_EQ(again.camera.window.width.text(), file.camera.window.width.text());
  EXPECT_THAT(folder.read("plane.yaml"), HasSubstr("# middle"));
}

TEST(CameraText, LeavesFilesAloneThatItDoesNotKnow) {
  const std::string rest = "room:\n  solids:\n    - field: {sphere: {radius: 1}}\n";
  for (const std::string& text :
       {"camera: &seen {eye: [3, 4, 5]}\n" + rest,
        "camera:\n  eye:\n    - 3\n    - 4\n    - 5\n" + rest,
        "camera: {matrices: {projection: [1, 0, 0, 0, 0, 1.6, 0, 0, 0, 0, -1, -1, 0, 0, -0.2, 0], "
        "view: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]}}\n" +
            rest}) {
    const test::TemporaryFolder folder;
    const std::string path = folder.write("scene.yaml", text);
    io::SceneFile file = io::read_scene(path);
    file.camera.eye = {7, 7, 7};
    EXPECT_THROW(io::write_camera(file, file.camera), Error) << text;
    EXPECT_EQ(folder.read("scene.yaml"), text);
  }
}

}  // namespace
}  // namespace photonlane
