// Frames in tiles: the bytes of a frame made at once, for any number of tiles, beginnings and
// processes; whatever ends them, and whatever happens to what they left.

#include <gmock/gmock.h>
#include <signal.h>
#include <sys/file.h>

#include <chrono>
#include <thread>

#include "many/with_mpi.hpp"
#include "photonlane/io.hpp"
#include "photonlane/many/tiles.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

const std::string demo = std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-";

TEST(TileParts, AreWholeBlocksAndHoldEveryPixelOnce) {
  for (const Size frame :
       {Size{640, 400}, Size{65, 33}, Size{1, 1}, Size{7, 500}, Size{5000, 20}}) {
    for (const int tiles : {1, 2, 3, 7, 64, 1000}) {
      const Size block{64, 32};
      const std::vector<PixelPart> parts = io::tile_parts(frame, block, tiles);
      ASSERT_GE(parts.size(), 1u);
      EXPECT_LE(parts.size(), 1.6 * tiles + 1);
      std::vector<int> held(static_cast<std::size_t>(frame.width) *
                            static_cast<std::size_t>(frame.height));
      for (const PixelPart& part : parts) {
        EXPECT_EQ(part.x % block.width, 0);
        EXPECT_EQ(part.y % block.height, 0);
        ASSERT_GT(part.size.width, 0);
        ASSERT_GT(part.size.height, 0);
        for (int y = part.y; y < part.y + part.size.height; ++y) {
          for (int x = part.x; x < part.x + part.size.width; ++x) {
            held[static_cast<std::size_t>(x + frame.width * y)] += 1;
          }
        }
      }
      for (const int count : held) ASSERT_EQ(count, 1);
    }
  }
  // As many as were asked for, where blocks are small beside them.
  EXPECT_EQ(io::tile_parts({1280, 800}, {64, 32}, 64).size(), 60u);
  EXPECT_THROW(io::tile_parts({64, 64}, {64, 32}, 0), Error);
}

class Tiles : public ToolRun {
 protected:
  /// Pictures of a few tiles, with all there is to tell.
  std::string whole_of(const std::string& scene, const std::string& more) {
    EXPECT_EQ(tool(fmt::format("render {} -o whole.exr {}", scene, more)).code, 0);
    return folder.read("whole.exr");
  }
  std::set<std::string> tiles_in(const std::string& name) {
    std::set<std::string> names;
    for (const auto& entry : std::filesystem::directory_iterator(folder.path() + "/" + name)) {
      if (entry.path().extension() == ".tile") names.insert(entry.path().filename());
    }
    return names;
  }
  std::string small(int samples = 1) {
    // At least four tiles.
    return fmt::format("--size {} --set frame.samples={}", effort(4) == 4 ? "200x120" : "129x65",
                       samples);
  }
};

TEST_F(Tiles, AreTheBytesOfTheWholeFrame) {
  // Of columns, fields, portals, a plane, voxels, and light that is carried by paths.
#ifdef PHOTONLANE_SANITIZED
  const std::vector<std::string> names{"wings", "window"};
#else
  const std::vector<std::string> names{"evening", "fountain", "wings", "window", "terraces", "urn"};
#endif
  for (const std::string& name : names) {
    const std::string scene = demo + name + ".yaml";
    const std::string whole = whole_of(scene, small());
    for (const int tiles : {1, 5}) {
      const Outcome made = tool(
          fmt::format("render {} -o made.exr {} --tiles {} --threads 2", scene, small(), tiles));
      ASSERT_EQ(made.code, 0) << made.errors;
      EXPECT_EQ(folder.read("made.exr") == whole, true) << name << " " << tiles;
      EXPECT_EQ(std::filesystem::exists(folder.path() + "/made.exr.tiles"), false);
    }
  }
  folder.write("yard.yaml",
               yard_text("Yard", "  light: {transport: paths}\n  frame: {samples: 3}\n"));
  whole_of("yard.yaml", "--size 200x120");
  std::string first;
  for (const int tiles : {1, 6}) {
    const Outcome made =
        tool(fmt::format("render yard.yaml -o made.exr --size 200x120 --tiles {}", tiles));
    ASSERT_EQ(made.code, 0) << made.errors;
    if (first.empty()) first = folder.read("made.exr");
    EXPECT_EQ(folder.read("made.exr") == first, true);
    // What is left of their error is told by frames of paths that are made at once alone.
    const Outcome same = tool("compare made.exr whole.exr --limit rmse=0 --limit largest=0");
    EXPECT_EQ(same.code, 0) << same.output << same.errors;
  }
  // A PNG is the same too.
  ASSERT_EQ(tool("render yard.yaml -o a.png --size 200x120").code, 0);
  ASSERT_EQ(tool("render yard.yaml -o b.png --size 200x120 --tiles 6").code, 0);
  EXPECT_EQ(folder.read("a.png") == folder.read("b.png"), true);
}

TEST_F(Tiles, GoOnWhereTheyWereLeft) {
  const io::SceneFile file = [&] {
    io::SceneFile scene = io::read_scene(demo + "fountain.yaml");
    scene.budget.frame = {200, 120, 1};
    return scene;
  }();
  const World world = compile(file.scene);
  const Frame whole = render(world, file.camera, file.budget, {.layers = {Layer::display}});
  const auto same = [&](const Frame& made) {
    for (int y = 0; y < 120; ++y) {
      for (int x = 0; x < 200; ++x) {
        if (made.codes(Layer::display)(x, y) != whole.codes(Layer::display)(x, y)) return false;
      }
    }
    return made.tally.lanes == whole.tally.lanes && made.tally.steps == whole.tally.steps;
  };
  const auto company = no_company();
  for (const std::size_t after : {0, 1, 3, 7}) {
    io::TileRun run{.tiles = 9, .folder = fmt::format("{}/t{}", folder.path(), after)};
    std::size_t done = 0;
    run.progress = [&](double) { ++done; };
    run.go_on = [&] { return done < after; };
    EXPECT_THROW(io::make_tiles(file, world, run, *company), Error);
    EXPECT_EQ(tiles_in(fmt::format("t{}", after)).size(), after);
    run = {.tiles = run.tiles, .folder = run.folder};
    const io::TiledFrame made = io::make_tiles(file, world, run, *company);
    EXPECT_EQ(made.found, after);
    EXPECT_EQ(made.damaged, 0u);
    EXPECT_GT(made.tiles, 7u);
    EXPECT_TRUE(same(made.frame));
    // Once more: all are there.
    EXPECT_EQ(io::make_tiles(file, world, run, *company).found, made.tiles);
  }
  // Other tiles of the same frame may be in the same folder.
  const io::TileRun more{.tiles = 4, .folder = folder.path() + "/t3"};
  const io::TiledFrame made = io::make_tiles(file, world, more, *company);
  EXPECT_EQ(made.found, 0u);
  EXPECT_TRUE(same(made.frame));
}

TEST_F(Tiles, ThatAreDamagedAreMadeAgain) {
  const std::string scene = demo + "shapes.yaml";
  const std::string whole = whole_of(scene, small());
  const std::string command =
      fmt::format("render {} -o made.exr {} --tiles 6 --tiles-in kept", scene, small());
  ASSERT_EQ(tool(command).code, 0);
  const std::set<std::string> names = tiles_in("kept");
  ASSERT_GE(names.size(), 4u);
  int which = 0;
  for (const std::string& name : names) {
    const std::string path = "kept/" + name;
    const std::string tile = folder.read(path);
    const std::size_t head = tile.find('\n');
    ASSERT_NE(head, tile.npos);
    std::string damaged = tile;
    switch (which++ % 5) {
      case 0:
        damaged[head + (tile.size() - head) / 2] ^= 1;
        break;
      case 1:
        damaged.resize(tile.size() - 1);
        break;
      case 2:
        damaged += "x";
        break;
      case 3:
        damaged = "";
        break;
      default:
        damaged[3] = '\0';
    }
    folder.write(path, damaged);
    const Outcome again = tool(command);
    ASSERT_EQ(again.code, 0) << again.errors;
    EXPECT_THAT(again.output, HasSubstr("1 were damaged and made again")) << which;
    EXPECT_THAT(again.output, HasSubstr(fmt::format("{} of them were there", names.size() - 1)));
    EXPECT_EQ(folder.read("made.exr") == whole, true);
    EXPECT_EQ(folder.read(path) == tile, true);
  }
  // A head that lies about the size of what follows, and about what was counted.
  for (const std::string name : {"\"bytes\":", "\"steps\":"}) {
    const std::string path = "kept/" + *names.begin();
    std::string tile = folder.read(path);
    const std::size_t at = tile.find(name);
    ASSERT_NE(at, tile.npos);
    tile.insert(at + name.size(), "9");
    folder.write(path, tile);
    EXPECT_THAT(tool(command).output, HasSubstr("1 were damaged"));
    EXPECT_EQ(folder.read("made.exr") == whole, true);
  }
}

TEST_F(Tiles, OfSomethingElseAreRefused) {
  const std::string scene = demo + "shapes.yaml";
  const auto refuses = [&](const std::string& more, const std::string& why) {
    const Outcome outcome = tool(
        fmt::format("render {} -o made.exr {} --tiles 4 --tiles-in kept {}", scene, small(), more));
    EXPECT_EQ(outcome.code, 2) << more;
    EXPECT_THAT(outcome.errors, HasSubstr(why)) << more;
  };
  ASSERT_EQ(
      tool(fmt::format("render {} -o made.exr {} --tiles 4 --tiles-in kept", scene, small())).code,
      0);
  refuses("--set field.steps=77", "with field.steps 4096, this is 77");
  refuses("--set camera.pitch=-1", "with camera.pitch");
  refuses("--set frame.seed=5", "with frame.seed 0, this is 5");
  folder.write("other.yaml", yard_text("Yard", "  field: {steps: 98}\n"));
  const Outcome other = tool("render other.yaml -o o.exr --tiles 4 --tiles-in kept " + small());
  EXPECT_EQ(other.code, 2);
  EXPECT_THAT(other.errors, HasSubstr("of another scene"));
  // A picture has fewer layers: its tiles are others, and may be there too.
  const Outcome png =
      tool(fmt::format("render {} -o made.png {} --tiles 4 --tiles-in kept2", scene, small()));
  EXPECT_EQ(png.code, 0) << png.errors;
  // While somebody is at them nobody else is.
  const int lock = open((folder.path() + "/kept/lock").c_str(), O_RDWR);
  ASSERT_GE(lock, 0);
  ASSERT_EQ(flock(lock, LOCK_EX | LOCK_NB), 0);
  refuses("", "another process is at the tiles in kept");
  close(lock);

  EXPECT_THAT(refused(fmt::format("render {} -o x.png --tiles 0 --tiles-in k", scene)),
              HasSubstr("at least 1"));
  EXPECT_THAT(refused(fmt::format("render {} -o x.png --tiles-in k", scene)),
              HasSubstr("--tiles N"));
  EXPECT_THAT(refused(fmt::format("render {} -o x.png --tiles 4 --layer depth", scene)),
              HasSubstr("expected no --layer"));
  EXPECT_THAT(refused(fmt::format("render {} -o x.png --tiles 4 --part 0,0,8x8", scene)),
              HasSubstr("--part"));
  folder.write("paths.yaml", yard_text("Yard", "  light: {transport: paths}\n"));
  EXPECT_THAT(refused("render paths.yaml -o x.png --tiles 4 --set frame.denoise=3"),
              HasSubstr("expected frame.denoise=0"));
  EXPECT_THAT(refused("render paths.yaml -o x.png --tiles 4 --set light.metering=picture"),
              HasSubstr("expected light.metering=manual"));
}

TEST_F(Tiles, StayWhereNoMoreCanBeWritten) {
  // A limit on the size of files stands for a full disk: tiles of more layers do not fit.
  const std::string scene = demo + "shapes.yaml";
  const std::string command =
      fmt::format("render {} -o made.exr {} --tiles 6 --tiles-in kept", scene, small());
  const Outcome full = test::run(
      fmt::format("bash -c \"ulimit -f 100; exec '{}' {}\"", PHOTONLANE_TOOL, command), folder);
  EXPECT_EQ(full.code, 2);
  EXPECT_THAT(full.errors, HasSubstr(".tile: cannot be written: File too large"));
  for (const std::string& name : folder.names()) EXPECT_EQ(name.ends_with(".part"), false);
  const Outcome again = tool(command);
  EXPECT_EQ(again.code, 0) << again.errors;
  EXPECT_EQ(folder.read("made.exr") == whole_of(scene, small()), true);
}

/// With several processes on this machine.
class TilesOfMany : public Tiles {
 protected:
  void SetUp() override {
    if (const std::string why = without_mpi(); !why.empty()) GTEST_SKIP() << why;
  }
  std::string many(int processes, const std::string& arguments) {
    return with_mpi(processes, fmt::format("'{}' {}", PHOTONLANE_TOOL, arguments));
  }
};

TEST_F(TilesOfMany, AreTheSameBytes) {
  for (const std::string name : {"fountain", "evening"}) {
    const std::string scene = demo + name + ".yaml";
    const std::string whole = whole_of(scene, small());
    for (const auto [processes, threads, tiles] :
         {std::array{2, 1, 1}, std::array{2, 2, 7}, std::array{3, 1, 12}, std::array{4, 1, 64}}) {
      // Of columns once.
      if (name == "evening" && processes != 3) continue;
      const Outcome made =
          test::run(many(processes, fmt::format("render {} -o made.exr {} --tiles {} --threads {}",
                                                scene, small(), tiles, threads)),
                    folder);
      ASSERT_EQ(made.code, 0) << made.errors;
      EXPECT_EQ(folder.read("made.exr") == whole, true) << processes << " " << tiles;
      EXPECT_THAT(made.output, HasSubstr(fmt::format("by {} processes", processes)));
    }
  }
}

TEST_F(TilesOfMany, GoOnWhenOneIsKilled) {
  const std::string scene = demo + "fountain.yaml";
  const std::string size = "--size 320x200 --set frame.samples=2";
  const std::string whole = whole_of(scene, size);
  for (int round = 0; round < 4; ++round) {
    const std::string kept = fmt::format("kept{}", round);
    const std::string command =
        many(3, fmt::format("render {} -o made{}.exr {} --tiles 40 --threads 1 --tiles-in {}",
                            scene, round, size, kept));
    const pid_t pid = fork();
    ASSERT_GE(pid, 0);
    if (pid == 0) {
      setpgid(0, 0);
      if (chdir(folder.path().c_str()) != 0) _exit(9);
      execl("/bin/sh", "sh", "-c", ("exec >/dev/null 2>&1; " + command).c_str(), nullptr);
      _exit(9);
    }
    setpgid(pid, pid);
    // When some tiles are there, one of its processes is killed: the first, or another.
    std::size_t there = 0;
    pid_t victim = 0;
    for (int i = 0; i < 3000; ++i) {
      std::this_thread::sleep_for(std::chrono::milliseconds(10));
      there = std::filesystem::exists(folder.path() + "/" + kept) ? tiles_in(kept).size() : 0;
      if (there >= 3u + 6u * static_cast<unsigned>(round)) break;
    }
    std::vector<pid_t> processes;
    for (const auto& entry : std::filesystem::directory_iterator("/proc")) {
      const std::string name = entry.path().filename();
      if (name.find_first_not_of("0123456789") != name.npos) continue;
      std::ifstream line(entry.path() / "cmdline", std::ios::binary);
      const std::string words{std::istreambuf_iterator<char>(line), {}};
      if (words.rfind(PHOTONLANE_TOOL, 0) == 0 && words.find(kept) != words.npos &&
          words.find("made" + std::to_string(round)) != words.npos) {
        std::ifstream own(entry.path() / "cwd");
        std::error_code problem;
        if (std::filesystem::read_symlink(entry.path() / "cwd", problem) == folder.path()) {
          processes.push_back(std::stoi(name));
        }
      }
    }
    std::sort(processes.begin(), processes.end());
    if (!processes.empty()) {
      victim = processes[static_cast<std::size_t>(round) % processes.size()];
      kill(victim, SIGKILL);
    }
    int status = 0;
    const auto begin = std::chrono::steady_clock::now();
    ASSERT_EQ(waitpid(pid, &status, 0), pid);
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - begin;
    ASSERT_NE(victim, 0) << "it was over before one could be killed";
    EXPECT_NE(status, 0);
    EXPECT_LT(took.count(), 10.0);
    EXPECT_FALSE(std::filesystem::exists(fmt::format("{}/made{}.exr", folder.path(), round)));
    const std::size_t left = tiles_in(kept).size();
    EXPECT_GE(left, there);
    // What was there is not made again.
    const Outcome again = test::run(command, folder);
    ASSERT_EQ(again.code, 0) << again.errors;
    EXPECT_THAT(again.output, HasSubstr(fmt::format("{} of them were there", left)));
    EXPECT_EQ(folder.read(fmt::format("made{}.exr", round)) == whole, true);
  }
}

TEST_F(TilesOfMany, EndTogetherWhereOneReadsSomethingElse) {
  // Each process has a scene of its own name.
  folder.write("scene0.yaml", yard_text("Yard", "  field: {steps: 98}\n"));
  folder.write("scene1.yaml", yard_text("Court", "  field: {steps: 99}\n"));
  folder.write("each.sh",
               fmt::format("exec '{}' render scene$OMPI_COMM_WORLD_RANK.yaml -o made.png "
                           "--size 64x40 --tiles 4\n",
                           PHOTONLANE_TOOL));
  const Outcome outcome = test::run(with_mpi(2, "sh each.sh"), folder);
  EXPECT_NE(outcome.code, 0);
  EXPECT_THAT(outcome.errors, HasSubstr("process 1: "));
  EXPECT_THAT(outcome.errors, HasSubstr("reads something else than process 0"));
}

}  // namespace
}  // namespace photonlane
