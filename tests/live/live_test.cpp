// The page's server by its protocol, as docs/live.md says it.

#include <gmock/gmock.h>

#include <chrono>
#include <cmath>
#include <fstream>
#include <random>
#include <regex>
#include <thread>

#include "live/server.hpp"

namespace photonlane {
namespace {

using test::Came;
using test::Json;
using test::LivePage;
using test::LiveServer;
using ::testing::AnyOf;
using ::testing::ElementsAre;
using ::testing::HasSubstr;
using ::testing::Not;

constexpr const char* hall_text =
    "title: Hall\n"
    "numbers: {high: 3}\n"
    "camera: {eye: [1.5, 2.5, 1.6], heading: 0, field_of_view: 60}\n"
    "materials: {stone: {base: [0.6, 0.5, 0.4]}}\n"
    "room:\n"
    "  solids:\n"
    "    - cells:\n"
    "        wall_height: $high\n"
    "        legend: {'#': stone}\n"
    "        map: |\n"
    "          ##########\n"
    "          #........#\n"
    "          #........#\n"
    "          #........#\n"
    "          ##########\n"
    "budget:\n"
    "  frame: {width: 96, height: 60}  # small\n";

constexpr const char* plane_text =
    "title: Plane\n"
    "plane: {}\n"
    "window: {center: [-0.5, 0], width: 3}\n"
    "budget:\n"
    "  frame: {width: 96, height: 60}\n";

class Live : public test::ToolRun {
 protected:
  Live() {
    folder.write("hall.yaml", hall_text);
    folder.write("plane.yaml", plane_text);
    folder.write("yard.yaml", test::yard_text("Yard", "  frame: {width: 64, height: 40}\n"));
  }
  io::Picture rendered(const std::string& arguments) {
    EXPECT_EQ(tool("render " + arguments + " -o rendered.png").code, 0) << arguments;
    return io::read_png(folder.path() + "/rendered.png");
  }
  io::Picture picture_of(const Came& came) {
    folder.write("came.png", came.bytes);
    return io::read_png(folder.path() + "/came.png");
  }
  /// CPU seconds a process has used, and the memory it holds in MiB.
  static double cpu_seconds(pid_t process) {
    std::ifstream stream(fmt::format("/proc/{}/stat", process));
    std::string text((std::istreambuf_iterator<char>(stream)), {});
    std::istringstream words(text.substr(text.rfind(')') + 2));
    std::string word;
    double ticks = 0;
    for (int i = 0; words >> word; ++i) {
      if (i == 11 || i == 12) ticks += std::stod(word);
    }
    return ticks / static_cast<double>(sysconf(_SC_CLK_TCK));
  }
  static double held_mib(pid_t process) {
    std::ifstream stream(fmt::format("/proc/{}/status", process));
    for (std::string line; std::getline(stream, line);) {
      if (line.starts_with("VmRSS:")) return std::stod(line.substr(6)) / 1024;
    }
    return 0;
  }
};

TEST_F(Live, ServesThePageWithAllItNeedsAndNothingInline) {
  const LiveServer server(folder, {"hall.yaml"});
  EXPECT_THAT(server.address(), testing::MatchesRegex("http://127.0.0.1:[0-9]+/#[0-9a-f]{32}"));
  auto client = server.client();
  const auto page = client.Get("/");
  ASSERT_TRUE(page);
  EXPECT_EQ(page->status, 200);
  EXPECT_THAT(page->get_header_value("Content-Security-Policy"), HasSubstr("script-src 'self'"));
  EXPECT_THAT(page->get_header_value("Content-Security-Policy"), Not(HasSubstr("unsafe")));
  EXPECT_THAT(page->body, Not(HasSubstr("style=\"")));
  EXPECT_THAT(page->body, Not(HasSubstr("<style")));
  EXPECT_THAT(page->body, Not(HasSubstr("onclick")));
  const std::regex source("(?:src|href)=\"([a-z.]+)\"");
  int files = 0;
  for (std::sregex_iterator at(page->body.begin(), page->body.end(), source), end; at != end;
       ++at) {
    const auto file = client.Get("/" + (*at)[1].str());
    ASSERT_TRUE(file) << (*at)[1];
    EXPECT_EQ(file->status, 200) << (*at)[1];
    EXPECT_GT(file->body.size(), 500u) << (*at)[1];
    // No other machine is asked for anything when it loads.
    EXPECT_THAT(file->body, Not(HasSubstr("@import"))) << (*at)[1];
    ++files;
  }
  EXPECT_EQ(files, 8);
}

TEST_F(Live, NobodyElseReadsOrSteers) {
  const LiveServer server(folder, {"hall.yaml"});
  auto client = server.client();
  const std::string right = "Bearer " + server.token();
  const auto status = [&](httplib::Headers headers, const std::string& path = "/api/scenes") {
    const auto answer = client.Get(path, headers);
    return answer ? answer->status : 0;
  };
  EXPECT_EQ(status({{"Authorization", right}}), 200);
  EXPECT_EQ(status({}), 401);
  std::string wrong = right;
  wrong.back() = wrong.back() == '0' ? '1' : '0';
  EXPECT_EQ(status({{"Authorization", wrong}}), 401);
  EXPECT_EQ(status({{"Authorization", right + "0"}}), 401);
  EXPECT_EQ(status({{"Authorization", right.substr(0, right.size() - 1)}}), 401);
  EXPECT_EQ(status({}, "/api/scenes?token=" + server.token()), 401);
  // A name that somebody's name server leads here (DNS rebinding), with the token even.
  for (const char* host : {"evil.example", "127.0.0.1.evil.example", "evil.example:80",
                           "localhost.evil", "192.168.0.1", "[::2]", "[::1", ""}) {
    EXPECT_EQ(status({{"Authorization", right}, {"Host", host}}), 403) << host;
    EXPECT_EQ(status({{"Host", host}}, "/"), 403) << host;
  }
  // By a tunnel, whose port is another one.
  for (const char* host : {"localhost:9000", "127.0.0.1:1", "LOCALHOST", "[::1]:8000"}) {
    EXPECT_EQ(status({{"Authorization", right}, {"Host", host}}), 200) << host;
  }
  // A page of another site, or of another port of this machine.
  for (const char* origin :
       {"http://evil.example", "http://127.0.0.1:1", "https://localhost", "null"}) {
    EXPECT_EQ(status({{"Authorization", right}, {"Origin", origin}}), 403) << origin;
  }
  EXPECT_EQ(status({{"Authorization", right},
                    {"Origin", "http://" + server.host()},
                    {"Host", server.host()}}),
            200);
  EXPECT_EQ(status({{"Authorization", right}, {"Sec-Fetch-Site", "cross-site"}}), 403);
  EXPECT_EQ(status({{"Authorization", right}, {"Sec-Fetch-Site", "same-site"}}), 403);
  // Who guesses tokens is slowed down, who has it is not.
  bool slowed = false;
  for (int i = 0; i < 60; ++i) slowed = status({}) == 429 || slowed;
  EXPECT_TRUE(slowed);
  EXPECT_EQ(status({{"Authorization", right}}), 200);
}

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
  page.act({{{"undo", 1}}});
  EXPECT_EQ(page.knob("scene.high"), "3");
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
}

TEST_F(Live, WithoutLeaveNothingIsWritten) {
  const LiveServer server(folder, {"hall.yaml"});
  LivePage page(server);
  page.act({{{"set", {"frame.samples", "4"}}}});
  EXPECT_EQ(page.post("budget", "")->status, 400);
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

TEST_F(Live, ClosedPagesDoNoWork) {
  const LiveServer server(folder, {"yard.yaml"});
  {
    LivePage page(server);
    page.act({{{"size", {1600, 1000}}}, {{"set", {"frame.samples", "4096"}}}});
    ASSERT_TRUE(page.next());
    page.close();
  }
  // What was being made ends a tile later.
  double last = cpu_seconds(server.process());
  for (int i = 0; i < 100; ++i) {
    std::this_thread::sleep_for(std::chrono::milliseconds(300));
    const double now = cpu_seconds(server.process());
    if (now - last < 0.02) return;
    last = now;
  }
  FAIL() << "it goes on working";
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

TEST_F(Live, RefusesWhatIsTooMuchOrNoRequestAtAll) {
  const LiveServer server(folder, {"hall.yaml"});
  std::vector<std::unique_ptr<LivePage>> pages;
  for (int i = 0; i < 12; ++i) pages.push_back(std::make_unique<LivePage>(server));
  LivePage& page = *pages.front();
  auto& client = page.client();
  const auto post = [&](const std::string& path, const std::string& body) {
    const auto answer = client.Post(path, page.headers(), body, "application/json");
    return answer ? answer->status : 0;
  };
  EXPECT_EQ(post("/api/sittings", R"({"scene": 0})"), 429);
  pages.pop_back();
  EXPECT_EQ(post("/api/sittings", R"({"scene": 7})"), 400);
  EXPECT_EQ(post("/api/sittings", R"({"scene": "hall.yaml"})"), 400);
  EXPECT_EQ(post("/api/sittings", R"({"file": "/etc/passwd"})"), 400);
  EXPECT_EQ(post(page.at("acts"), "["), 400);
  EXPECT_EQ(post(page.at("acts"), "{}"), 400);
  EXPECT_EQ(post(page.at("acts"), std::string(6 << 20, ' ')), 413);
  Json many = Json::array();
  for (int i = 0; i < 1001; ++i) many.push_back({{"undo", 1}});
  EXPECT_EQ(post(page.at("acts"), many.dump()), 400);
  EXPECT_EQ(page.act({{{"set", {"frame.seed", std::string(5000, '1')}}}})["refused"].size(), 1u);
  for (const char* path :
       {"/../../../etc/passwd", "/%2e%2e/hall.yaml", "/hall.yaml", "/api/", "/api/sittings/0/state",
        "/api/sittings/ffffffffffffffffffffffffffffffff/state"}) {
    const auto answer = client.Get(path, page.headers());
    ASSERT_TRUE(answer) << path;
    EXPECT_EQ(answer->status, 404) << path;
  }
  // Sizes are held within bounds before memory is asked for.
  page.act({{{"size", {1e9, 1e9}}}, {{"size", {16, 16}}}});
  EXPECT_EQ(page.get("state")->status, 200);
  EXPECT_TRUE(server.runs());
}

TEST_F(Live, StandsRequestsOfAnyKind) {
  const LiveServer server(folder, {"hall.yaml", "plane.yaml"});
  LivePage room(server, 0);
  LivePage plane(server, 1);
  std::mt19937 random(7);
  const auto pick = [&](const auto& from) { return from[random() % from.size()]; };
  const std::vector<std::string> names{"set",     "reset",    "settings", "undo",  "size",
                                       "layer",   "frame_ms", "quality",  "speed", "fly",
                                       "measure", "forget",   "home",     "look",  "drive",
                                       "widen",   "pan",      "zoom",     "",      "x"};
  const std::vector<Json> values{Json(),
                                 true,
                                 0,
                                 -1,
                                 1e308,
                                 -1e308,
                                 5,
                                 "steps",
                                 "",
                                 Json::array(),
                                 Json::object(),
                                 Json::array({1, 2}),
                                 Json::array({"cells.steps", "3"}),
                                 Json::array({"frame.samples", "2", true}),
                                 Json::array({"camera.eye", "[3, 2.5, 1]"}),
                                 Json::array({"window.width", "1e-30"}),
                                 Json::array({0.5, 0.5, 2}),
                                 Json::array({0.3, 0.3, 1e9}),
                                 Json{{"ahead", 1}, {"turn", "left"}},
                                 Json::array({nullptr, nullptr}),
                                 Json::array({{{"name", "rays"}, {"value", "pixels"}}}),
                                 "reference"};
  const std::vector<std::string> paths{"state",
                                       "knobs",
                                       "progress",
                                       "picture?after=0&wait=0",
                                       "picture",
                                       "pixel?x=0.1&y=0.9",
                                       "lane?x=0.4&y=0.4",
                                       "lane.png?x=0.4&y=0.4",
                                       "walk.yaml",
                                       "report.html",
                                       "text",
                                       "difference.png",
                                       "picture?after=-1&wait=1e9",
                                       "nothing"};
  for (int round = 0; round < 300; ++round) {
    LivePage& page = random() % 2 == 0 ? room : plane;
    Json acts = Json::array();
    for (std::size_t i = random() % 4; i > 0; --i) acts.push_back({{pick(names), pick(values)}});
    const auto acted = page.post("acts", acts.dump());
    ASSERT_TRUE(acted) << acts;
    EXPECT_EQ(acted->status, 200) << acts;
    // Cut and twisted, too.
    std::string text = acts.dump();
    if (!text.empty()) text[random() % text.size()] = static_cast<char>(random());
    ASSERT_TRUE(page.post("acts", text)) << text;
    const auto told = page.get(pick(paths));
    ASSERT_TRUE(told);
    EXPECT_THAT(told->status, AnyOf(200, 204, 400, 404));
  }
  // Bytes that are no HTTP.
  for (int round = 0; round < 30; ++round) {
    httplib::Client client("127.0.0.1", server.port());
    std::string path = "/";
    for (std::size_t i = random() % 200; i > 0; --i) path += static_cast<char>(33 + random() % 94);
    client.set_read_timeout(5);
    client.Get(path, {{"X", std::string(random() % 3000, 'x')}});
  }
  EXPECT_TRUE(server.runs());
  room.act({{{"home", 1}},
            {{"settings", Json::array()}},
            {{"layer", "color"}},
            {{"size", {96, 60}}},
            {{"drive", Json::object()}}});
  const auto came = room.last(room.state()["state"].is_null() ? 0 : 1);
  EXPECT_TRUE(came);
}

TEST_F(Live, MemoryStaysLevelWhileKnobsAreTurned) {
#ifdef PHOTONLANE_SANITIZED
  GTEST_SKIP() << "the sanitizer keeps what is freed";
#endif
  const LiveServer server(folder, {"yard.yaml"});
  LivePage page(server);
  page.act({{{"size", {320, 200}}}, {{"measure", false}}});
  const auto turn = [&](int rounds) {
    for (int i = 0; i < rounds; ++i) {
      page.act({{{"set", {"bounces.limit", std::to_string(i % 5)}}},
                {{"look", {i % 2 == 0 ? 3 : -3, 0}}},
                {{"layer", i % 40 < 20 ? "color" : "steps"}}});
      page.get("picture?after=0&wait=0");
      if (i % 10 == 0) page.get("state");
      std::this_thread::sleep_for(std::chrono::milliseconds(2));
    }
  };
  turn(600);
  const double before = held_mib(server.process());
  turn(2000);
  EXPECT_LT(held_mib(server.process()), before + 6);
}

TEST_F(Live, EndsByASignalAndComesBackAtTheSameAddress) {
  std::string address;
  {
    LiveServer server(folder, {"hall.yaml", "--token-file", "token"});
    address = server.address();
    LivePage page(server);
    EXPECT_EQ(server.end(SIGTERM), SIGTERM);
  }
  const std::string port = address.substr(17, address.find('/', 17) - 17);
  const LiveServer again(folder, {"hall.yaml", "--token-file", "token", "--port", port});
  EXPECT_EQ(again.address(), address);
  EXPECT_EQ(std::filesystem::status(folder.path() + "/token").permissions() &
                (std::filesystem::perms::group_all | std::filesystem::perms::others_all),
            std::filesystem::perms::none);
}

TEST_F(Live, RefusesWhatItCannotServe) {
  EXPECT_THAT(refused("live none.yaml"), HasSubstr("none.yaml: cannot be read"));
  EXPECT_THAT(refused("live hall.yaml --port 80"), HasSubstr("--port: found 80"));
  EXPECT_THAT(refused("live hall.yaml --address 203.0.113.7"), HasSubstr("cannot be listened at"));
  EXPECT_THAT(refused("live hall.yaml --set nothing=1"), HasSubstr("--set nothing"));
  folder.write("token", "short\n");
  EXPECT_THAT(refused("live hall.yaml --token-file token"),
              HasSubstr("token:1:1: expected a token"));
  const LiveServer server(folder, {"hall.yaml"});
  EXPECT_THAT(refused(fmt::format("live hall.yaml --port {}", server.port())),
              HasSubstr("cannot be listened at"));
}

}  // namespace
}  // namespace photonlane
