// Who may use the page's server, what it stands, and how it ends.

#include <gmock/gmock.h>

#include <chrono>
#include <fstream>
#include <memory>
#include <random>
#include <regex>
#include <sstream>
#include <thread>

#include "live/server.hpp"
#include "support/effort.hpp"

namespace photonlane {
namespace {

using test::effort;
using test::Json;
using test::LivePage;
using test::LiveServer;
using ::testing::AnyOf;
using ::testing::HasSubstr;
using ::testing::Not;

class LiveGuard : public test::LiveTool {
 protected:
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

TEST_F(LiveGuard, ServesThePageWithAllItNeedsAndNothingInline) {
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

TEST_F(LiveGuard, NobodyElseReadsOrSteers) {
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

TEST_F(LiveGuard, ClosedPagesDoNoWork) {
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

TEST_F(LiveGuard, RefusesWhatIsTooMuchOrNoRequestAtAll) {
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

TEST_F(LiveGuard, StandsRequestsOfAnyKind) {
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
  for (int round = 0; round < effort(300); ++round) {
    const bool which = random() % 2 == 0;
    LivePage& page = which ? room : plane;
    // The other one is open as well: pages that ask nothing for long are taken as closed.
    ASSERT_TRUE((which ? plane : room).post("acts", "[]"));
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

TEST_F(LiveGuard, MemoryStaysLevelWhileKnobsAreTurned) {
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

TEST_F(LiveGuard, EndsByASignalAndComesBackAtTheSameAddress) {
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

TEST_F(LiveGuard, RefusesWhatItCannotServe) {
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
