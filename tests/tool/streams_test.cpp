// What the tool does where its streams are closed or full, and where it is told to stop.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include "photonlane/io.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::Outcome;
using ::testing::HasSubstr;
using ::testing::Not;

class Streams : public test::ToolRun {
 protected:
  void SetUp() override {
    folder.write("ball.yaml",
                 "camera: {eye: [0, -5, 1], look_at: [0, 0, 0]}\nroom: {solids: [{field: {sphere: "
                 "}}]}\nbudget: {frame: "
                 "{width: 32, height: 20}}\n");
    folder.write("plane.yaml",
                 "plane: {power: 2}\nbudget: {frame: {width: 64, height: 40}, plane: {iterations: "
                 "3000}}\n");
  }
  /// A command through the shell, its own redirections first.
  Outcome shell(const std::string& command) {
    return test::run(fmt::format("{{ {}; }}", command), folder);
  }
  const std::string exe = "'" PHOTONLANE_TOOL "'";
};

TEST_F(Streams, ClosedErrorsAreNoErrorOfTheirOwn) {
  EXPECT_EQ(shell(exe + " render nothing.yaml -o a.png 2>&-").code, 2);
  EXPECT_EQ(shell(exe + " render nothing.yaml -o a.png 2> /dev/full").code, 2);
  EXPECT_EQ(shell(exe + " nope 2>&-").code, 2);
  EXPECT_EQ(shell(exe + " render ball.yaml -o a.png --quiet 2>&-").code, 0);
  // No file gets the number of a closed stream, and with it what is printed.
  EXPECT_EQ(shell(exe + " render ball.yaml -o b.png 0<&- 1>&- 2>&-").code, 2);
  EXPECT_EQ(folder.read("a.png"), folder.read("b.png"));
}

TEST_F(Streams, LostOutputIsTold) {
  const Outcome lost = shell(exe + " render ball.yaml -o a.png --json > /dev/full");
  EXPECT_EQ(lost.code, 2);
  EXPECT_THAT(lost.errors, HasSubstr("standard output cannot be written"));
  EXPECT_EQ(shell(exe + " check ball.yaml --json > /dev/full").code, 2);
  EXPECT_EQ(shell(exe + " describe --as schema > /dev/full").code, 2);
  EXPECT_EQ(shell(exe + " --help > /dev/full").code, 2);
  EXPECT_EQ(shell(exe + " check ball.yaml >&-").code, 2);
}

TEST_F(Streams, FullDisksAreTold) {
  // A file system of one page.
  const Outcome full = shell(exe + " render ball.yaml -o /dev/full/a.png");
  EXPECT_EQ(full.code, 2);
  EXPECT_THAT(full.errors, HasSubstr("cannot be written: Not a directory"));
}

/// Runs a command, sends it a signal once a file is there, and waits.
std::string stopped(const std::string& command, const std::string& file, const char* signal) {
  return fmt::format(
      "{} & pid=$!; for i in $(seq 400); do [ -e '{}' ] && break; sleep 0.05; done; kill -{} $pid; "
      "wait "
      "$pid",
      command, file, signal);
}

TEST_F(Streams, StoppedZoomsKeepWhatTheyMade) {
  for (const char* signal : {"INT", "TERM"}) {
    const std::string zoom =
        " zoom plane.yaml --to=-0.743643887037151,0.131825904205330 --width 1e-10 --frames 5000 -o "
        "z --quiet";
    std::filesystem::remove_all(folder.path() + "/z");
    const Outcome outcome = shell(stopped(exe + zoom, "z/frame-0003.png", signal));
    EXPECT_GT(outcome.code, 128) << outcome.errors;
    EXPECT_THAT(outcome.errors, HasSubstr("of 5000 frames; what they took is in z/zoom.csv"));
    const std::string table = folder.read("z/zoom.csv");
    const auto lines = static_cast<std::size_t>(std::count(table.begin(), table.end(), '\n')) - 1;
    EXPECT_GE(lines, 3u);
    std::size_t frames = 0;
    for (const auto& entry : std::filesystem::directory_iterator(folder.path() + "/z")) {
      const std::string name = entry.path().filename().string();
      EXPECT_THAT(name, Not(HasSubstr(".part")));
      frames += name.starts_with("frame-");
    }
    EXPECT_EQ(frames, lines) << "the frames of this run alone";
  }
}

TEST_F(Streams, StoppedWalksKeepTheirWay) {
  folder.write("walk.yaml", "rate: 1000\nmoves: [{turn: 360, over: 100}]\n");
  const Outcome outcome = shell(
      stopped(exe + " walk ball.yaml --script walk.yaml -o w --quiet", "w/frame-00003.png", "INT"));
  EXPECT_GT(outcome.code, 128);
  EXPECT_THAT(outcome.errors, HasSubstr("their way is in w/path.csv"));
  const std::string path = folder.read("w/path.csv");
  EXPECT_GE(std::count(path.begin(), path.end(), '\n'), 4);
  for (const auto& entry : std::filesystem::directory_iterator(folder.path() + "/w")) {
    EXPECT_THAT(entry.path().filename().string(), Not(HasSubstr(".part")));
  }
}

TEST_F(Streams, StoppedSweepsSayHowToGoOn) {
  const Outcome outcome = shell(
      stopped(exe + " sweep ball.yaml --vary field.steps=10..1000/500 --size 640x400 -o s --quiet",
              "s", "INT"));
  EXPECT_GT(outcome.code, 128);
  EXPECT_THAT(outcome.errors, HasSubstr("stopped after"));
  // With nothing measured by then there is nothing to go on with, and no folder.
  const bool kept = std::filesystem::exists(folder.path() + "/s/run.journal");
  EXPECT_EQ(outcome.errors.find("--resume goes on") != std::string::npos, kept);
  EXPECT_EQ(std::filesystem::exists(folder.path() + "/s"), kept);
}

TEST_F(Streams, WrongWordsAreNamed) {
  EXPECT_THAT(refused("nope"), HasSubstr("no such command 'nope'"));
  EXPECT_THAT(refused("rendr ball.yaml -o a.png"), HasSubstr("did you mean render?"));
  EXPECT_THAT(refused("render --nope"), HasSubstr("no such option '--nope'"));
  EXPECT_THAT(refused("render ball.yaml -o a.png --layr steps"),
              HasSubstr("did you mean --layer?"));
  EXPECT_THAT(refused("make mop -o a.yaml"), HasSubstr("no such command 'mop'; did you mean map?"));
  EXPECT_THAT(refused("compare a.png b.png --limit rsme=1"),
              HasSubstr("expected one of rmse, psnr"));
}

TEST_F(Streams, OutputsAreLookedAtFirst) {
  // So large that rendering it would be seen by the memory limit: the name comes first.
  const std::string large = " --size 900000x900000";
  EXPECT_THAT(refused("render ball.yaml -o a.jpg" + large), HasSubstr("ends in .png or .exr"));
  EXPECT_THAT(refused("render ball.yaml -o no/a.png" + large),
              HasSubstr("No such file or directory"));
  EXPECT_THAT(refused("render ball.yaml --layer steps -o a.exr" + large),
              HasSubstr("ends in .png"));
  EXPECT_THAT(refused("compare nothing.png nothing.png -o x.jpg"), HasSubstr("ends in .png"));
  EXPECT_THAT(refused("make fractal -o f.txt"), HasSubstr("ends in .yaml"));
  EXPECT_THAT(refused("make map -o f.jpg"), HasSubstr("ends in .yaml, .txt or .png"));
  EXPECT_THAT(refused("make volume ball.yaml -o f.raw"), HasSubstr("ends in .volume"));
}

TEST_F(Streams, NotesStandBesideFramesThatShowLittle) {
  const Outcome spent = tool(
      "render ball.yaml -o a.png --set field.steps=1 --set field.pruning=false --set "
      "field.cones=false");
  EXPECT_EQ(spent.code, 0);
  EXPECT_THAT(spent.errors, HasSubstr("% of the lanes ran out of steps"));
  const Outcome inside = tool("render ball.yaml -o a.png --set camera.eye='[0,0,0.5]'");
  EXPECT_EQ(inside.code, 0);
  EXPECT_THAT(inside.errors, HasSubstr("is inside field 1"));
  EXPECT_EQ(tool("render ball.yaml -o a.png").errors, "");
}

}  // namespace
}  // namespace photonlane
