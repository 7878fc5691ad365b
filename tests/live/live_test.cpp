// What a page shows and does, by the protocol of docs/live.md.

#include <gmock/gmock.h>

#include <algorithm>
#include <chrono>
#include <map>
#include <thread>

#include "live/server.hpp"

namespace photonlane {
namespace {

using test::Came;
using test::hall_text;
using test::Json;
using test::LivePage;
using test::LiveServer;
using ::testing::HasSubstr;

using Live = test::LiveTool;

TEST_F(Live, ShowsWhatRenderMakes) {
  const LiveServer server(folder, {"hall.yaml", "yard.yaml", "plane.yaml"});
  for (const auto& [scene, name] : {std::pair{0, "hall"}, {1, "yard"}, {2, "plane"}}) {
    LivePage page(server, scene);
    page.act({{{"size", {120, 75}}}, {{"measure", false}}});
    const auto came = page.last();
    ASSERT_TRUE(came) << name;
    EXPECT_EQ(came->type, "image/png");
    const io::Picture expected = rendered(fmt::format("{}.yaml --size 120x75", name));
    EXPECT_EQ(picture_of(*came).bytes, expected.bytes) << name;
    EXPECT_EQ(came->facts["frame"]["size"], Json({120, 75}));
  }
}

TEST_F(Live, KnobsAreTurnedUndoneAndTakenBack) {
  const LiveServer server(folder, {"yard.yaml"});
  LivePage page(server);
  page.act({{{"size", {96, 60}}}, {{"measure", false}}});
  const Json answer = page.act({{{"set", {"bounces.limit", "1"}}},
                                {{"set", {"bounces.limit", "many"}}},
                                {{"set", {"no.such", "1"}}},
                                {{"set", {"light.softness", "sampled"}}},
                                {{"dance", 1}},
                                5});
  ASSERT_EQ(answer["refused"].size(), 4u);
  EXPECT_THAT(answer["refused"][0].get<std::string>(), HasSubstr("bounces.limit: found 'many'"));
  EXPECT_THAT(answer["refused"][1].get<std::string>(), HasSubstr("no such knob"));
  EXPECT_EQ(page.knob("bounces.limit"), "1");
  EXPECT_EQ(page.knob("light.softness"), "sampled");
  Json state = page.state();
  ASSERT_EQ(state["changed"].size(), 2u);
  const auto came = page.last(answer["version"]);
  ASSERT_TRUE(came);
  EXPECT_EQ(
      picture_of(*came).bytes,
      rendered("yard.yaml --set bounces.limit=1 --set light.softness=sampled --size 96x60").bytes);
  // The text to copy says the same.
  folder.write("copied.yaml", test::yard_text("Yard", "  frame: {width: 96, height: 60}\n" +
                                                          std::string(state["budget"]).substr(8)));
  EXPECT_EQ(rendered("copied.yaml").bytes, picture_of(*came).bytes);
  page.act({{{"undo", 1}}});
  EXPECT_EQ(page.knob("light.softness"), "hard");
  page.act({{{"reset", "bounces.limit"}}});
  EXPECT_EQ(page.state()["changed"].size(), 0u);
  page.act({{{"undo", 1}}});
  EXPECT_EQ(page.knob("bounces.limit"), "1");
  // A slider's way is one change, however many values it passes.
  page.act({{{"set", {"frame.samples", "2", true}}},
            {{"set", {"frame.samples", "3", true}}},
            {{"set", {"frame.samples", "5"}}},
            {{"undo", 1}}});
  EXPECT_EQ(page.knob("frame.samples"), "1");
  EXPECT_EQ(page.knob("bounces.limit"), "1");
  page.act({{{"settings", {{{"name", "rays"}, {"value", "pixels"}}}}}});
  EXPECT_EQ(page.knob("bounces.limit"), "4");
  EXPECT_EQ(page.knob("rays"), "pixels");
}

TEST_F(Live, NumbersOfTheSceneAreKnobs) {
  const LiveServer server(folder, {"hall.yaml"});
  LivePage page(server);
  EXPECT_EQ(page.knob("scene.high"), "3");
  const Json answer = page.act({{{"size", {96, 60}}}, {{"set", {"scene.high", "5"}}}});
  const auto came = page.last(answer["version"]);
  ASSERT_TRUE(came);
  EXPECT_EQ(picture_of(*came).bytes, rendered("hall.yaml --set scene.high=5").bytes);
  // What is pointed at is of the same scene: only so high a wall is seen there.
  const auto face = [&] {
    const Json pixel = page.tell("pixel?x=0.5&y=0.3");
    for (const Json& one : pixel["layers"]) {
      if (one["name"] == "face") return one["value"];
    }
    return Json();
  };
  EXPECT_EQ(face(), "west");
  EXPECT_THAT(page.tell("lane?x=0.5&y=0.3")["summary"].get<std::string>(), HasSubstr("stone"));
  page.act({{{"undo", 1}}});
  EXPECT_EQ(page.knob("scene.high"), "3");
  EXPECT_NE(face(), "west");
}

TEST_F(Live, LookingAndTheCameraToCopyAgree) {
  const LiveServer server(folder, {"yard.yaml"});
  LivePage page(server);
  page.act({{{"look", {30, 10}}}, {{"widen", 1.2}}});
  const Json answer = page.act({{{"size", {64, 40}}}});
  const auto came = page.last(answer["version"]);
  ASSERT_TRUE(came);
  std::string text = folder.read("yard.yaml");
  const auto from = text.find("camera:");
  text.replace(from, text.find('\n', from) - from + 1, std::string(page.state()["camera"]));
  folder.write("seen.yaml", text);
  EXPECT_EQ(rendered("seen.yaml").bytes, picture_of(*came).bytes);
  // No higher than straight up.
  page.act({{{"look", {0, 180}}}});
  EXPECT_EQ(page.knob("camera.pitch"), "89");
  page.act({{{"home", 1}}});
  EXPECT_EQ(page.state()["changed"].size(), 0u);
  EXPECT_EQ(page.knob("camera.roll"), "0");
}

TEST_F(Live, WalksWithABodyThatWallsHoldBack) {
  const LiveServer server(folder, {"hall.yaml"});
  LivePage page(server);
  page.act({{{"speed", 40}}, {{"drive", {{"ahead", 1}}}}});
  Json eye;
  for (int i = 0; i < 1000 && !(eye.is_array() && eye[0] > 8.74); ++i) {
    const auto came = page.next();
    ASSERT_TRUE(came);
    eye = came->facts["eye"];
  }
  // Against the wall for some more.
  for (int i = 0; i < 20; ++i) eye = page.next()->facts["eye"];
  page.act({{{"drive", Json::object()}}});
  // The wall is at x = 9, the body a quarter of a meter wide to either side.
  EXPECT_NEAR(eye[0].get<double>(), 8.75, 0.01);
  EXPECT_DOUBLE_EQ(eye[1].get<double>(), 2.5);
  // What was walked plays as a script, to about the same place: numbers are rounded there.
  folder.write("way.yaml", page.get("walk.yaml")->body);
  EXPECT_EQ(tool("walk hall.yaml --script way.yaml -o way").errors, "") << folder.read("way.yaml");
  const std::string path = folder.read("way/path.csv");
  EXPECT_THAT(path.substr(path.rfind('\n', path.size() - 2)), HasSubstr("8.7"));
  // In flight walls hold nobody.
  page.act({{{"fly", true}}, {{"drive", {{"ahead", 1}}}}});
  for (int i = 0; i < 1000 && eye[0] < 9.5; ++i) eye = page.next()->facts["eye"];
  EXPECT_GT(eye[0].get<double>(), 9.5);
}

TEST_F(Live, PlanesArePannedAndZoomedAboutAPoint) {
  const LiveServer server(folder, {"plane.yaml"});
  LivePage page(server);
  page.act({{{"size", {400, 300}}}});
  // The point at a quarter of the picture from the left stays there.
  page.act({{{"zoom", {0.25, 0.5, 1000}}}, {{"zoom", {0.25, 0.5, 1000}}}});
  const double width = std::stod(page.knob("window.width"));
  EXPECT_NEAR(width, 3e-6, 1e-12);
  double x = 0, y = 0;
  const auto center = [&] {
    const std::string text = page.knob("window.center");
    ASSERT_EQ(std::sscanf(text.c_str(), "[%lf, %lf]", &x, &y), 2) << text;
  };
  center();
  EXPECT_NEAR(x, -1.25 + 0.25 * width, 1e-9);
  EXPECT_NEAR(y, 0, 1e-9);
  const double before = x;
  page.act({{{"pan", {100, 0}}}});
  center();
  EXPECT_NEAR(x, before + width * 100 / 400, 1e-9);
  // What is of rooms is refused, and the other way round.
  EXPECT_THAT(page.act({{{"look", {1, 1}}}})["refused"][0].get<std::string>(), HasSubstr("plane"));
  EXPECT_EQ(page.knob("camera.eye"), "(none)");
  EXPECT_EQ(page.knob("plane.iterations"), "1000");
}

TEST_F(Live, FindsCopiesOfPlanes) {
  const LiveServer server(folder, {"plane.yaml", "hall.yaml"});
  LivePage page(server);
  page.act({{{"set", {"window.center", "[-1.76, 0.003]"}}}, {{"set", {"window.width", "0.05"}}}});
  const Json found = page.tell("find?kind=copy");
  EXPECT_EQ(found["period"], 3);
  Json acts = Json::array();
  for (const Json& one : found["window"]) acts.push_back({{"set", one}});
  EXPECT_EQ(page.act(acts)["refused"].size(), 0u);
  EXPECT_NEAR(std::stod(page.knob("window.width")), 4 * std::stod(std::string(found["size"])),
              1e-9);
  EXPECT_THAT(page.knob("window.center"), HasSubstr("-1.75487766624669"));
  page.act({{{"set", {"window.center", "[3, 3]"}}}});
  EXPECT_EQ(page.get("find?kind=branching")->status, 400);
  LivePage room(server, 1);
  EXPECT_EQ(room.get("find?kind=copy")->status, 400);
}

TEST_F(Live, TextIsTakenAndMistakesShowTheirLine) {
  const LiveServer server(folder, {"hall.yaml"});
  LivePage page(server);
  page.act({{{"size", {96, 60}}}, {{"measure", false}}});
  const auto before = page.last();
  ASSERT_TRUE(before);
  Json told = page.tell("text");
  EXPECT_EQ(told["text"], hall_text);
  std::string broken = hall_text;
  broken.replace(broken.find("wall_height"), 11, "wall_heihgt");
  auto answer = page.put_text(broken, told["version"]);
  ASSERT_TRUE(answer);
  Json trouble = Json::parse(answer->body)["trouble"];
  EXPECT_EQ(trouble["line"], 8);
  EXPECT_THAT(trouble["message"].get<std::string>(), HasSubstr("wall_height"));
  EXPECT_EQ(page.state()["trouble"]["line"], 8);
  // The last good scene is still there.
  Json acted = page.act({{{"look", {90, 0}}}});
  ASSERT_TRUE(page.last(acted["version"]));
  std::string good = hall_text;
  good.replace(good.find("#........#"), 10, "#...##...#");
  answer = page.put_text(good, page.tell("text")["version"]);
  EXPECT_FALSE(Json::parse(answer->body).contains("trouble"));
  EXPECT_FALSE(Json::parse(answer->body)["written"].get<bool>());
  acted = page.act({{{"home", 1}}});
  const auto after = page.last(acted["version"]);
  ASSERT_TRUE(after);
  folder.write("good.yaml", good);
  EXPECT_EQ(picture_of(*after).bytes, rendered("good.yaml").bytes);
  EXPECT_EQ(folder.read("hall.yaml"), hall_text);
}

TEST_F(Live, FollowsTheFileAndWritesItWhereThatIsAllowed) {
  const LiveServer server(folder, {"hall.yaml", "--write"});
  LivePage page(server);
  page.act({{{"size", {96, 60}}}, {{"measure", false}}, {{"set", {"frame.samples", "4"}}}});
  const std::uint64_t first = page.state()["text"];
  // Somebody else's editor.
  std::string other = hall_text;
  other.replace(other.find("high: 3"), 7, "high: 4");
  folder.write("hall.yaml", other);
  for (int i = 0; i < 100 && page.state()["text"] == first; ++i) {
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  EXPECT_EQ(page.tell("text")["text"], other);
  EXPECT_EQ(page.knob("scene.high"), "4");
  EXPECT_EQ(page.knob("frame.samples"), "4");  // the page's own stays
  // What is not known to the page is not written over.
  const auto late = page.put_text(hall_text, first);
  EXPECT_EQ(late->status, 409);
  EXPECT_EQ(folder.read("hall.yaml"), other);
  const auto written =
      page.put_text(std::string(hall_text) + "# more\n", page.tell("text")["version"]);
  EXPECT_EQ(written->status, 200);
  EXPECT_EQ(folder.read("hall.yaml"), std::string(hall_text) + "# more\n");
  // The budget goes where it belongs, comments stay.
  EXPECT_EQ(page.post("budget", "")->status, 200);
  EXPECT_THAT(folder.read("hall.yaml"), HasSubstr("samples: 4"));
  EXPECT_THAT(folder.read("hall.yaml"), HasSubstr("# small"));
  // And so does the camera.
  page.act({{{"look", {45, 0}}}});
  const std::string heading = page.knob("camera.heading");
  EXPECT_EQ(page.post("camera", "")->status, 200);
  EXPECT_THAT(folder.read("hall.yaml"), HasSubstr("# small"));
  const io::SceneFile file = io::read_scene(folder.path() + "/hall.yaml");
  EXPECT_NEAR(file.camera.heading / degrees(1), std::stod(heading), 1e-6);
}

TEST_F(Live, WritesOverNothingThatSomebodyElseBegan) {
  const LiveServer server(folder, {"hall.yaml", "--write", "--set", "cells.steps=500"});
  LivePage page(server);
  page.act({{{"set", {"frame.samples", "4"}}}});
  const auto follow = [&](const std::string& text) {
    const std::uint64_t before = page.state()["text"];
    folder.write("hall.yaml", text);
    for (int i = 0; i < 200 && page.state()["text"] == before; ++i) {
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
  };
  // Half a line, as an editor may have saved it.
  const std::string half = std::string(hall_text) + "room";
  follow(half);
  ASSERT_TRUE(page.state().contains("trouble"));
  EXPECT_EQ(page.post("budget", "")->status, 409);
  EXPECT_EQ(page.put_text(hall_text, 1)->status, 409);
  EXPECT_EQ(folder.read("hall.yaml"), half);
  // What was set beside the scene is not the file's.
  follow(hall_text);
  EXPECT_EQ(page.post("budget", "")->status, 200);
  EXPECT_THAT(folder.read("hall.yaml"), HasSubstr("samples: 4"));
  EXPECT_THAT(folder.read("hall.yaml"), testing::Not(HasSubstr("500")));
}

TEST_F(Live, WithoutLeaveNothingIsWritten) {
  const LiveServer server(folder, {"hall.yaml"});
  LivePage page(server);
  page.act({{{"set", {"frame.samples", "4"}}}});
  EXPECT_EQ(page.post("budget", "")->status, 400);
  EXPECT_EQ(page.post("camera", "")->status, 400);
  EXPECT_EQ(folder.read("hall.yaml"), hall_text);
}

TEST_F(Live, PagesHaveCamerasAndKnobsOfTheirOwn) {
  const LiveServer server(folder, {"yard.yaml"});
  LivePage one(server);
  LivePage other(server);
  one.act({{{"look", {45, 0}}}, {{"set", {"bounces.limit", "0"}}}});
  EXPECT_EQ(other.knob("bounces.limit"), "4");
  EXPECT_NE(other.knob("camera.heading"), one.knob("camera.heading"));
  one.close();
  EXPECT_EQ(one.get("state")->status, 404);
  EXPECT_EQ(other.get("state")->status, 200);
}

TEST_F(Live, MeasuresWhatIsTried) {
  const LiveServer server(folder, {"yard.yaml"});
  LivePage page(server);
  page.act({{{"size", {64, 40}}}});
  const auto wait_for = [&](std::size_t known) {
    for (int i = 0; i < 600; ++i) {
      const Json tried = page.state()["tried"];
      const bool known_all = std::all_of(tried.begin(), tried.end(),
                                         [](const Json& one) { return one.contains("rmse"); });
      if (tried.size() == known && known_all && tried.back()["frames"] >= 5) return tried;
      page.get("picture?after=0&wait=0");
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    return Json::array();
  };
  ASSERT_EQ(wait_for(1).size(), 1u);
  page.act({{{"set", {"bounces.limit", "0"}}}});
  const Json tried = wait_for(2);
  ASSERT_EQ(tried.size(), 2u);
  EXPECT_GT(tried[1]["rmse"], tried[0]["rmse"]);
  EXPECT_GT(tried[0]["ms"], 0);
  EXPECT_EQ(tried[1]["changed"][0]["name"], "bounces.limit");
  // Held against one reference, all of it: the file's bounces are not the best there are either.
  page.act({{{"set", {"bounces.limit", "1"}}}});
  std::this_thread::sleep_for(std::chrono::milliseconds(700));
  page.act({{{"set", {"frame.samples", "2"}}}});
  const Json more = wait_for(4);
  ASSERT_EQ(more.size(), 4u);
  folder.write("best.yaml", test::yard_text("Yard",
                                            "  frame: {width: 64, height: 40, samples: 8}\n"
                                            "  bounces: {limit: 1000}\n"));
  const Frame best = [&] {
    EXPECT_EQ(tool("render best.yaml -o best.exr").code, 0);
    return io::read_frame(folder.path() + "/best.exr");
  }();
  EXPECT_EQ(tool("render yard.yaml -o file.exr").code, 0);
  EXPECT_NEAR(more[0]["rmse"].get<double>(),
              compare(io::read_frame(folder.path() + "/file.exr"), best).rmse, 2e-4);
  EXPECT_EQ(page.get("difference.png")->status, 200);
  EXPECT_THAT(page.get("report.html")->body, HasSubstr("bounces.limit"));
  // Elsewhere all that is another matter.
  page.act({{{"look", {5, 0}}}});
  EXPECT_EQ(page.get("difference.png")->status, 400);
}

TEST_F(Live, TellsWhatAPixelAndItsLaneDid) {
  const LiveServer server(folder, {"hall.yaml"});
  LivePage page(server);
  page.act({{{"size", {200, 100}}}});
  const Json pixel = page.tell("pixel?x=0.5&y=0.5");
  EXPECT_EQ(pixel["x"], 100);
  EXPECT_EQ(pixel["y"], 50);
  std::map<std::string, Json> layers;
  for (const Json& one : pixel["layers"]) layers[one["name"]] = one["value"];
  EXPECT_NEAR(layers["depth"].get<double>(), 7.5, 1e-5);
  EXPECT_EQ(layers["ending"], "hit");
  EXPECT_EQ(layers["face"], "west");
  const Json lane = page.tell("lane?x=0.5&y=0.5");
  EXPECT_THAT(lane["summary"].get<std::string>(), HasSubstr("7.5 m from the eye"));
  ASSERT_GE(lane["legs"].size(), 1u);
  EXPECT_NEAR(lane["legs"][0]["place"][0].get<double>(), 1.5, 1e-9);
  const auto plan = page.get("lane.png?x=0.5&y=0.5");
  EXPECT_EQ(plan->get_header_value("Content-Type"), "image/png");
  for (const char* bad :
       {"pixel?x=2&y=0", "pixel?x=0.5", "pixel?x=nan&y=0.1", "lane?x=-1&y=0", "lane?x=0.5&y=1e9"}) {
    EXPECT_EQ(page.get(bad)->status, 400) << bad;
  }
}

TEST_F(Live, LayersComeWithTheirLegend) {
  const LiveServer server(folder, {"yard.yaml"});
  LivePage page(server);
  const Json acted = page.act({{{"size", {64, 40}}}, {{"layer", "steps"}}});
  const auto came = page.last(acted["version"]);
  ASSERT_TRUE(came);
  EXPECT_THAT(came->facts["legend"]["title"].get<std::string>(), HasSubstr("steps"));
  EXPECT_GT(came->facts["legend"]["high"], came->facts["legend"]["low"]);
  EXPECT_EQ(picture_of(*came).bytes, rendered("yard.yaml --layer steps --no-legend").bytes);
  const Json wrong = page.act({{{"layer", "smell"}}});
  EXPECT_THAT(wrong["refused"][0].get<std::string>(), HasSubstr("smell"));
}

TEST_F(Live, PathsGrowUntilTheyAreDone) {
  const LiveServer server(
      folder, {"yard.yaml", "--set", "light.transport=paths", "--set", "frame.samples=6"});
  LivePage page(server);
  page.act({{{"size", {64, 40}}}, {{"measure", false}}});
  double samples = 0;
  for (;;) {
    const auto came = page.next();
    ASSERT_TRUE(came);
    if (!came->facts["whole"].get<bool>() || came->facts["size"] != Json({64, 40})) continue;
    EXPECT_GE(came->facts["frame"]["paths"]["samples"].get<double>(), samples);
    samples = came->facts["frame"]["paths"]["samples"];
    if (!came->facts["last"].get<bool>()) continue;
    EXPECT_EQ(samples, 6);
    EXPECT_EQ(picture_of(*came).bytes,
              rendered("yard.yaml --set light.transport=paths --set frame.samples=6").bytes);
    break;
  }
}

TEST_F(Live, KeepsPicturesAsFiles) {
  const LiveServer server(folder, {"yard.yaml"});
  LivePage page(server);
  page.act({{{"size", {64, 40}}}});
  folder.write("kept.png", page.get("picture.png")->body);
  EXPECT_EQ(io::read_png(folder.path() + "/kept.png").bytes, rendered("yard.yaml").bytes);
  folder.write("kept.exr", page.get("picture.exr")->body);
  const Frame frame = io::read_frame(folder.path() + "/kept.exr");
  EXPECT_EQ(frame.size(), (Size{64, 40}));
  EXPECT_TRUE(frame.has(Layer::depth));
}

}  // namespace
}  // namespace photonlane
