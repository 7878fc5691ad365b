#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>
#include <httplib.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <vector>

#include "photonlane/io.hpp"
#include "support/tool.hpp"

namespace photonlane::test {

using Json = nlohmann::ordered_json;

/// The tool as it serves a page, in a process of its own that ends with this.
class LiveServer {
 public:
  LiveServer(const TemporaryFolder& folder, std::vector<std::string> arguments) {
    int out[2];
    if (pipe(out) != 0) throw std::runtime_error("no pipe");
    process_ = fork();
    if (process_ == 0) {
      dup2(out[1], STDOUT_FILENO);
      close(out[0]);
      const int nothing = open("/dev/null", O_WRONLY);
      dup2(nothing, STDERR_FILENO);
      if (chdir(folder.path().c_str()) != 0) _exit(126);
      arguments.insert(arguments.begin(), {PHOTONLANE_TOOL, "live"});
      std::vector<char*> words;
      for (std::string& word : arguments) words.push_back(word.data());
      words.push_back(nullptr);
      execv(PHOTONLANE_TOOL, words.data());
      _exit(127);
    }
    close(out[1]);
    char letter = 0;
    while (read(out[0], &letter, 1) == 1 && letter != '\n') address_ += letter;
    close(out[0]);
  }
  ~LiveServer() { end(); }
  LiveServer(const LiveServer&) = delete;
  LiveServer& operator=(const LiveServer&) = delete;

  /// Ends it as Ctrl-C does, and tells by which signal it ended.
  int end(int signal = SIGINT) {
    if (process_ <= 0) return 0;
    kill(process_, signal);
    int status = 0;
    waitpid(process_, &status, 0);
    process_ = 0;
    return WIFSIGNALED(status) ? WTERMSIG(status) : 0;
  }
  bool runs() const { return process_ > 0 && waitpid(process_, nullptr, WNOHANG) == 0; }
  pid_t process() const { return process_; }
  const std::string& address() const { return address_; }
  std::string token() const { return address_.substr(address_.find('#') + 1); }
  std::string host() const {
    const auto from = std::string("http://").size();
    return address_.substr(from, address_.find('/', from) - from);
  }
  int port() const { return std::stoi(host().substr(host().find(':') + 1)); }
  httplib::Client client() const {
    httplib::Client one("127.0.0.1", port());
    one.set_keep_alive(true);
    one.set_tcp_nodelay(true);
    one.set_read_timeout(120);
    return one;
  }

 private:
  pid_t process_ = 0;
  std::string address_;
};

/// A picture as it came.
struct Came {
  Json facts;
  std::string type, bytes;
};

/// One open page, without a browser.
class LivePage {
 public:
  explicit LivePage(const LiveServer& server, int scene = 0)
      : client_(server.client()), headers_({{"Authorization", "Bearer " + server.token()}}) {
    const auto answer =
        client_.Post("/api/sittings", headers_, Json{{"scene", scene}}.dump(), "application/json");
    if (!answer || answer->status != 200) throw std::runtime_error("no page was opened");
    id_ = Json::parse(answer->body)["id"];
  }
  httplib::Client& client() { return client_; }
  const httplib::Headers& headers() const { return headers_; }
  std::string at(const std::string& path) const { return "/api/sittings/" + id_ + "/" + path; }

  httplib::Result get(const std::string& path) { return client_.Get(at(path), headers_); }
  httplib::Result post(const std::string& path, const std::string& body) {
    return client_.Post(at(path), headers_, body, "application/json");
  }
  Json act(const Json& acts) {
    const auto answer = post("acts", acts.dump());
    return answer ? Json::parse(answer->body) : Json();
  }
  Json tell(const std::string& path) {
    const auto answer = get(path);
    return answer ? Json::parse(answer->body) : Json();
  }
  Json state() { return tell("state"); }
  httplib::Result put_text(const std::string& text, std::uint64_t version) {
    return client_.Put(at("text"), headers_, Json{{"text", text}, {"version", version}}.dump(),
                       "application/json");
  }
  void close() { client_.Delete("/api/sittings/" + id_, headers_); }

  /// The next picture; nothing where none comes within a minute.
  std::optional<Came> next() {
    for (int tries = 0; tries < 60; ++tries) {
      const auto answer = get("picture?wait=1&after=" + std::to_string(number_));
      if (!answer) return std::nullopt;
      if (answer->status == 204) continue;
      const std::size_t length = std::stoul(answer->body.substr(0, 8));
      Came came{Json::parse(answer->body.substr(8, length)), answer->get_header_value("Live-Type"),
                answer->body.substr(8 + length)};
      number_ = came.facts["number"];
      return came;
    }
    return std::nullopt;
  }
  /// The picture that stays, of a version not before this one.
  std::optional<Came> last(std::uint64_t version = 0) {
    while (std::optional<Came> came = next()) {
      if (came->facts["last"].get<bool>() && came->facts["version"] >= version) return came;
    }
    return std::nullopt;
  }
  /// What a knob stands at.
  std::string knob(const std::string& name) {
    for (const Json& one : tell("knobs")) {
      if (one["name"] == name) return one["value"];
    }
    return "(none)";
  }

 private:
  httplib::Client client_;
  httplib::Headers headers_;
  std::string id_;
  std::uint64_t number_ = 0;
};

inline constexpr const char* hall_text =
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

inline constexpr const char* plane_text =
    "title: Plane\n"
    "plane: {}\n"
    "window: {center: [-0.5, 0], width: 3}\n"
    "budget:\n"
    "  frame: {width: 96, height: 60}\n";

class LiveTool : public ToolRun {
 protected:
  LiveTool() {
    folder.write("hall.yaml", hall_text);
    folder.write("plane.yaml", plane_text);
    folder.write("yard.yaml", yard_text("Yard", "  frame: {width: 64, height: 40}\n"));
  }
  io::Picture rendered(const std::string& arguments) {
    EXPECT_EQ(tool("render " + arguments + " -o rendered.png").code, 0) << arguments;
    return io::read_png(folder.path() + "/rendered.png");
  }
  io::Picture picture_of(const Came& came) {
    folder.write("came.png", came.bytes);
    return io::read_png(folder.path() + "/came.png");
  }
};

}  // namespace photonlane::test
