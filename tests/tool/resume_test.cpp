// Runs that are stopped or killed and begun again end as those that were left alone.

#include <gmock/gmock.h>

#include <map>
#include <regex>

#include <nlohmann/json.hpp>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::Outcome;
using ::testing::HasSubstr;
using ::testing::StartsWith;

class Resume : public test::ToolRun {
 protected:
  void SetUp() override {
    folder.write("pane.yaml",
                 "plane: {escape_radius: 50}\n"
                 "window: {center: [-0.74329189085243, 0.13124055230880], width: 0.01}\n"
                 "budget: {frame: {" +
                     size(240, 160) + "}, plane: {iterations: 20000}}\n");
    folder.write("yard.yaml",
                 "numbers: {lean: 0}\n"
                 "camera: {eye: [-3, -4, 1.6], heading: 60}\n"
                 "room:\n  solids:\n    - field: {plane: {}}\n"
                 "    - field: {place: {at: [0, 0, 1], turn: [0, 0, $lean], of: {box: {round: "
                 "0.2}}}}\n"
                 "  bodies: [{at: [-1.5, -1, 1], radius: 0.2}]\n"
                 "  light: {sun: {heading: 200}}\n"
                 "budget: {frame: {" +
                     size(160, 100) + ", samples: 2}}\n");
    folder.write("way.yaml",
                 "rate: 12\nmoves:\n  - {forward: 1, over: 1}\n"
                 "  - {turn: 20, over: 1, numbers: {lean: 40}}\n");
  }

  static std::string size(int width, int height) {
    return fmt::format("width: {}, height: {}", test::effort(width), test::effort(height));
  }

  /// Starts the tool, waits until a file is there, and ends it by a signal.
  int kill_at(const std::string& arguments, const std::string& file, const std::string& signal) {
    return test::run(fmt::format("{{ '{}' {} & pid=$!; while [ ! -e {} ] && kill -0 $pid; do sleep "
                                 "0.01; done; kill -{} $pid; wait $pid; }}",
                                 PHOTONLANE_TOOL, arguments, file, signal),
                     folder)
        .code;
  }

  /// The files of a folder: their bytes, tables without the columns of measured times.
  std::map<std::string, std::string> left_in(const std::string& name) const {
    std::map<std::string, std::string> files;
    for (const auto& entry : std::filesystem::directory_iterator(folder.path() + "/" + name)) {
      const std::string file = entry.path().filename().string();
      std::string text = folder.read(name + "/" + file);
      if (file.ends_with(".csv")) text = without_times(text);
      if (file == "walk.json") {
        nlohmann::json json = nlohmann::json::parse(text);
        for (const char* key : {"frame_ms", "slowest_frame", "edit_ms"}) json.erase(key);
        text = json.dump();
      }
      files[file] = text;
    }
    return files;
  }
  static std::vector<std::string> split(const std::string& line) {
    std::vector<std::string> cells{""};
    for (const char c : line) {
      if (c == ',') {
        cells.emplace_back();
      } else {
        cells.back() += c;
      }
    }
    return cells;
  }
  static std::string without_times(const std::string& table) {
    std::string result;
    std::vector<bool> timed;
    for (std::size_t from = 0; from < table.size();) {
      const std::size_t end = std::min(table.find('\n', from), table.size());
      const std::vector<std::string> cells = split(table.substr(from, end - from));
      if (timed.empty()) {
        for (const std::string& cell : cells) timed.push_back(cell.find("_ms") != cell.npos);
      }
      for (std::size_t i = 0; i < cells.size(); ++i) {
        if (i >= timed.size() || !timed[i]) result += cells[i] + ",";
      }
      result += "\n";
      from = end + 1;
    }
    return result;
  }
};

TEST_F(Resume, ZoomsThatWereKilledEndAsOthers) {
  for (const std::string more : {"", " --allow-error 0.05"}) {
    const std::string zoom =
        "zoom pane.yaml --to=-0.74329189085243,0.13124055230880 --width 1e-7 --frames 8 --quiet" +
        more + " -o ";
    const std::string whole = more.empty() ? "whole" : "whole2";
    const std::string cut = more.empty() ? "cut" : "cut2";
    ASSERT_EQ(tool(zoom + whole).code, 0);
    EXPECT_NE(kill_at(zoom + cut, cut + "/frame-0003.png", "KILL"), 0);
    ASSERT_TRUE(std::filesystem::exists(folder.path() + "/" + cut + "/run.journal"));
    const Outcome resumed = tool(zoom + cut + " --resume");
    ASSERT_EQ(resumed.code, 0) << resumed.errors;
    EXPECT_EQ(left_in(cut), left_in(whole)) << more;
  }
}

TEST_F(Resume, WalksThatWereStoppedEndAsOthers) {
  const std::string walk = "walk yard.yaml --script way.yaml --quiet -o ";
  ASSERT_EQ(tool(walk + "whole").code, 0);
  kill_at(walk + "cut", "cut/frame-00004.png", "INT");
  ASSERT_TRUE(std::filesystem::exists(folder.path() + "/cut/run.journal"));
  kill_at(walk + "cut --resume", "cut/frame-00015.png", "KILL");
  const Outcome resumed = tool(walk + "cut --resume");
  ASSERT_EQ(resumed.code, 0) << resumed.errors;
  EXPECT_EQ(left_in("cut"), left_in("whole"));
}

TEST_F(Resume, SweepsGoOnAndLeaveTheirTableAsTheyCome) {
  const io::SceneFile file = io::read_scene(folder.path() + "/yard.yaml");
  const std::vector<Vary> vary{parse_vary("bounces.limit=0,1"), parse_vary("scene.lean=0,20")};
  const SweepOptions options{.repeats = 3, .warm_up = 0, .progress = {}};
  const std::string cut = folder.path() + "/cut";
  // Stopped after the errors and half of the second round; references are half of it all.
  double last = 0;
  io::RunOptions run;
  run.progress = [&](double share) {
    EXPECT_GE(share, last);
    last = share;
    return share < 0.5 + 0.5 * (4 + 4 + 2) / 16;
  };
  std::string message;
  try {
    io::run_sweep(file, vary, cut, options, run);
  } catch (const Error& error) {
    message = error.what();
  }
  EXPECT_THAT(message, HasSubstr("stopped after"));
  EXPECT_THAT(message, HasSubstr("--resume goes on"));
  EXPECT_THAT(message, HasSubstr("/cut/sweep.csv"));
  EXPECT_THAT(folder.read("cut/sweep.csv"), HasSubstr("bounces.limit"));
  std::size_t measured = 0;
  const std::string journal = folder.read("cut/run.journal");
  measured = static_cast<std::size_t>(std::count(journal.begin(), journal.end(), '\n')) - 1;
  EXPECT_GT(measured, 4u);

  run.resume = true;
  run.progress = {};
  const Sweep resumed = io::run_sweep(file, vary, cut, options, run);
  const Sweep whole = io::run_sweep(file, vary, folder.path() + "/whole", options, {});
  ASSERT_EQ(resumed.settings.size(), whole.settings.size());
  for (std::size_t i = 0; i < whole.settings.size(); ++i) {
    EXPECT_EQ(resumed.settings[i].tally, whole.settings[i].tally);
    EXPECT_EQ(resumed.settings[i].error.rmse, whole.settings[i].error.rmse);
    EXPECT_EQ(resumed.settings[i].error.share_other, whole.settings[i].error.share_other);
    EXPECT_GT(resumed.settings[i].total_ms.median, 0);
  }
  EXPECT_FALSE(std::filesystem::exists(cut + "/run.journal"));
}

TEST_F(Resume, SweepsKeepTheirReferences) {
  const auto references = [&] {
    std::vector<std::string> names;
    for (const auto& entry : std::filesystem::directory_iterator(folder.path() + "/out")) {
      const std::string name = entry.path().filename().string();
      if (name.starts_with("reference-")) names.push_back(name);
    }
    return names;
  };
  const auto errors_of = [](const Sweep& sweep) {
    std::vector<double> errors;
    for (const Setting& setting : sweep.settings) errors.push_back(setting.error.rmse);
    return errors;
  };
  io::SceneFile file = io::read_scene(folder.path() + "/yard.yaml");
  const std::vector<Vary> vary{parse_vary("field.tolerance=0.1,0.01")};
  int made = 0;
  SweepOptions options{.repeats = 1, .warm_up = 0, .progress = {}};
  options.announce = [&](const ReferencePlan&) { ++made; };
  const auto run = [&] { return io::run_sweep(file, vary, folder.path() + "/out", options, {}); };
  const Sweep first = run();
  const std::vector<std::string> kept = references();
  ASSERT_EQ(kept.size(), 1u);
  const Sweep again = run();
  EXPECT_EQ(made, 1) << "the second sweep takes the first one's";
  EXPECT_EQ(errors_of(again), errors_of(first));
  EXPECT_EQ(references(), kept);
  // So does one that finds all errors in its journal, and leaves it for the next.
  io::RunOptions stopped;
  stopped.progress = [](double share) { return share < 0.95; };
  options.repeats = 20;
  EXPECT_THROW(io::run_sweep(file, vary, folder.path() + "/out", options, stopped), Error);
  io::RunOptions resumed;
  resumed.resume = true;
  io::run_sweep(file, vary, folder.path() + "/out", options, resumed);
  EXPECT_EQ(made, 1);
  EXPECT_EQ(references(), kept);
  // Of a knob that does not vary it is another one; the old one goes.
  file.budget.bounces.limit = 0;
  run();
  EXPECT_EQ(made, 2);
  ASSERT_EQ(references().size(), 1u);
  EXPECT_NE(references(), kept);
  // One that is damaged is made anew.
  folder.write("out/" + references().front(), "not a picture");
  const Sweep mended = run();
  EXPECT_EQ(made, 3);
  EXPECT_EQ(mended.settings.size(), 2u);
}

TEST_F(Resume, RefusesWhatIsNotItsRun) {
  const std::string zoom =
      "zoom pane.yaml --to=-0.74329189085243,0.13124055230880 --width 1e-5 --frames 4 --quiet";
  EXPECT_THAT(refused(zoom + " -o none --resume"), HasSubstr("there is no run.journal"));
  kill_at(zoom + " -o cut", "cut/frame-0002.png", "KILL");
  ASSERT_TRUE(std::filesystem::exists(folder.path() + "/cut/run.journal"));
  for (const char* other : {" --set plane.iterations=500", " --size 100x80", " --allow-error 1"}) {
    const Outcome outcome = tool(zoom + other + " -o cut --resume");
    EXPECT_EQ(outcome.code, 2) << other;
    EXPECT_THAT(outcome.errors, HasSubstr("is the journal of another zoom")) << other;
  }
  EXPECT_THAT(tool("walk yard.yaml --script way.yaml -o cut --resume").errors,
              HasSubstr("is the journal of another run"));
  // A last line that was cut off is done again; what is no part is refused with its line.
  std::string journal = folder.read("cut/run.journal");
  folder.write("cut/run.journal", journal + "{\"part\":2,\"le");
  EXPECT_EQ(tool(zoom + " -o cut --resume").code, 0);
  folder.write("cut/run.journal", journal.substr(0, journal.find('\n') + 1) + "{\"part\":-2}\n");
  EXPECT_THAT(tool(zoom + " -o cut --resume").errors, HasSubstr("line 2 is no part of the run"));
  folder.write("cut/run.journal",
               journal.substr(0, journal.find('\n') + 1) + "{\"part\":0,\"left\":{\"cost\":7}}\n");
  EXPECT_THAT(tool(zoom + " -o cut --resume").errors, HasSubstr("does not read back"));
}

TEST_F(Resume, RefusesFilesThatHaveChanged) {
  const auto draw = [&](const std::string& file, int bright) {
    io::Picture picture(Size{4, 4});
    for (std::uint8_t& byte : picture.bytes) byte = static_cast<std::uint8_t>(bright);
    io::write_png(folder.path() + "/" + file, picture);
  };
  draw("tile.png", 90);
  draw("hills.png", 40);
  folder.write("map.txt", "###\n#.#\n###\n");
  folder.write("hall.yaml",
               "textures: {tile: {file: tile.png}}\n"
               "materials: {stone: {texture: tile}}\n"
               "camera: {eye: [1.5, 1.5, 1.6], heading: 60}\n"
               "room:\n  solids:\n    - cells: {map_file: map.txt, legend: {\"#\": "
               "stone, \".\": empty}}\n"
               "    - field: {place: {at: [1.5, 1.5, 0], of: {heights: {file: hills.png, size: "
               "[0.5, 0.5, 0.3]}}}}\n"
               "budget: {frame: {" +
                   size(160, 100) + ", samples: 2}}\n");
  folder.write("turn.yaml", "rate: 40\nmoves: [{turn: 90, over: 3}]\n");
  const std::string walk = "walk hall.yaml --script turn.yaml --quiet -o cut";
  kill_at(walk, "cut/frame-00003.png", "KILL");
  ASSERT_TRUE(std::filesystem::exists(folder.path() + "/cut/run.journal"));
  const auto expect_refused = [&](const char* what) {
    const Outcome outcome = tool(walk + " --resume");
    EXPECT_EQ(outcome.code, 2) << what;
    EXPECT_THAT(outcome.errors, HasSubstr("is the journal of another walk")) << what;
  };
  draw("tile.png", 91);
  expect_refused("the texture");
  draw("tile.png", 90);
  draw("hills.png", 41);
  expect_refused("the heights");
  draw("hills.png", 40);
  folder.write("map.txt", "###\n#..\n###\n");
  expect_refused("the map");
  folder.write("map.txt", "###\n#.#\n###\n");
  const Outcome resumed = tool(walk + " --resume");
  EXPECT_EQ(resumed.code, 0) << resumed.errors;
}

}  // namespace
}  // namespace photonlane
