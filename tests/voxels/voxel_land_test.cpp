// Land without end: what is made around an eye against its source, cell by cell; in whatever order
// and with whatever memory; and in scenes.

#include <gmock/gmock.h>

#include <atomic>
#include <cmath>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "voxels/sources.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

/// Of every cell by chance, empty above a height that goes up and down, of one value deep below.
/// Says what it knows far from the ground alone.
class Chance final : public LandSource {
 public:
  static std::uint32_t value(std::int64_t x, std::int64_t y, std::int64_t z, std::int64_t step) {
    const auto high = static_cast<double>(step / 2);
    const double ground =
        30 * std::sin(0.02 * static_cast<double>(x)) + 20 * std::cos(0.03 * static_cast<double>(y));
    if (static_cast<double>(z) + high > ground) return 0;
    if (static_cast<double>(z) + high < -60) return 5;
    const auto bits = static_cast<std::uint64_t>(x) * 73856093u ^
                      static_cast<std::uint64_t>(y) * 19349663u ^
                      static_cast<std::uint64_t>(z) * 83492791u;
    return static_cast<std::uint32_t>(mix(bits + static_cast<std::uint64_t>(step)) % 7);
  }
  VoxelPalette palette() const override { return kinds_of(6); }
  std::optional<std::uint32_t> known(const LandCube& cube, std::int64_t) const override {
    if (cube.low[2] > 60) return 0;
    if (cube.low[2] + cube.side < -60) return 5;
    return {};
  }
  void read(const LandCell& low, std::int64_t step, std::uint32_t* values) const override {
    before_reading();
    reads += 1;
    for (int z = 0; z < 16; ++z) {
      for (int y = 0; y < 16; ++y) {
        for (int x = 0; x < 16; ++x) {
          *values++ = value(low[0] + x * step, low[1] + y * step, low[2] + z * step, step);
        }
      }
    }
  }
  mutable std::atomic<int> reads{0};
  std::function<void()> before_reading = [] {};
};

std::int64_t down(std::int64_t value, std::int64_t by) {
  std::int64_t quotient = value / by;
  if (value % by != 0 && value < 0) --quotient;
  return quotient * by;
}

/// How coarse the cube is that stands for a cell, as the options' texts say it.
std::int64_t step_at(const LandCell& cell, const LandCell& eye, const LandOptions& options,
                     std::int64_t coarsest) {
  for (std::int64_t step = coarsest;; step /= 4) {
    const std::int64_t side = 64 * step;
    double sum = 0;
    for (std::size_t axis = 0; axis < 3; ++axis) {
      const std::int64_t low = down(cell[axis], side);
      const std::int64_t off = std::max<std::int64_t>({low - eye[axis], eye[axis] - low - side, 0});
      sum += static_cast<double>(off * off);
    }
    if (std::sqrt(sum) > options.reach) return 0;
    if (step == 1 || std::sqrt(sum) >= options.full * static_cast<double>(step / 4)) return step;
  }
}

/// Values of cells all around an eye, near ones more often.
std::vector<LandCell> cells_around(const Vec3d& eye, double reach, int count, std::uint64_t seed) {
  std::vector<LandCell> cells;
  for (int i = 0; i < count; ++i) {
    const RandomKey key{.seed = seed, .pixel = static_cast<std::uint64_t>(i)};
    const double share = std::pow(random_uniform(key, 3), 3.0f);
    LandCell cell;
    for (std::uint32_t axis = 0; axis < 3; ++axis) {
      const double off = (axis == 2 ? 0.3 : 1.0) * (2 * random_uniform(key, axis) - 1);
      cell[axis] = static_cast<std::int64_t>(
          std::floor(eye[static_cast<int>(axis)] + 1.2 * reach * share * off));
    }
    cells.push_back(cell);
  }
  return cells;
}

std::uint32_t value_in(const LandView& view, const LandCell& cell) {
  VoxelCell own;
  for (std::size_t axis = 0; axis < 3; ++axis) {
    const std::int64_t off = cell[axis] - view.low[axis];
    if (off < 0 || off >= view.grid->size()[axis]) return 0;
    own[axis] = static_cast<std::int32_t>(off);
  }
  return view.grid->at(own);
}

TEST(VoxelLands, AreWhatTheirSourceSaysAsCoarseAsTheyShouldBe) {
  struct Case {
    Vec3d eye;
    LandOptions options;
    std::int64_t coarsest;
  };
  const Case cases[] = {
      {{5, -7, 3}, {.reach = 90, .full = 90}, 1},
      {{-1000.5, 33, 40}, {.reach = 300, .full = 70}, 4},
      {{0, 0, 0}, {.reach = 900, .full = 40}, 16},
      {{1e9 + 0.5, -3e8, 12}, {.reach = 700, .full = 100}, 16},
      {{-4e11, 2e11, -20}, {.reach = 200, .full = 0}, 4},
  };
  for (const Case& one : cases) {
    VoxelLand land(std::make_shared<Chance>(), one.options);
    const LandView view = land.around(one.eye, true);
    EXPECT_EQ(view.missing, 0u);
    EXPECT_EQ(view.left_out, 0u);
    EXPECT_GT(view.wanted, 3u);
    // Eyes are told apart by 32 cells.
    LandCell eye;
    for (int axis = 0; axis < 3; ++axis) {
      eye[static_cast<std::size_t>(axis)] =
          down(static_cast<std::int64_t>(std::floor(one.eye[axis])), 32) + 16;
    }
    int set = 0;
    for (const LandCell& cell : cells_around(one.eye, one.options.reach, effort(40000), 5)) {
      const std::int64_t step = step_at(cell, eye, one.options, one.coarsest);
      const std::uint32_t expected =
          step == 0
              ? 0
              : Chance::value(down(cell[0], step), down(cell[1], step), down(cell[2], step), step);
      ASSERT_EQ(value_in(view, cell), expected)
          << cell[0] << " " << cell[1] << " " << cell[2] << " in cubes of " << step;
      set += expected != 0 ? 1 : 0;
    }
    EXPECT_GT(set, effort(2000));
  }
}

TEST(VoxelLands, AreTheSameWhereverTheEyeWasBeforeAndWhoeverMadeThem) {
  const LandOptions options{.reach = 350, .full = 80, .threads = 1};
  const Vec3d eye(40, 30, 10);
  VoxelLand plain(std::make_shared<Chance>(), options);
  const LandView first = plain.around(eye, true);
  const auto cells = cells_around(eye, options.reach, effort(8000), 9);
  for (const int threads : {1, 3}) {
    LandOptions own = options;
    own.threads = threads;
    VoxelLand land(std::make_shared<Chance>(), own);
    // Some of these are left before all is made.
    land.around({900, 0, 0}, false);
    land.around({200, 30, 10}, true);
    land.around({72, 30, 10}, false);
    land.around({40, -300, 10}, false);
    const LandView view = land.around(eye, true);
    EXPECT_EQ(view.low, first.low);
    EXPECT_EQ(view.wanted, first.wanted);
    EXPECT_EQ(view.bytes, first.bytes);
    EXPECT_EQ(view.grid->count(), first.grid->count());
    EXPECT_EQ(view.grid->bytes(), first.grid->bytes());
    for (const LandCell& cell : cells) ASSERT_EQ(value_in(view, cell), value_in(first, cell));
    // Nothing changes any more, and no step within 32 cells does.
    EXPECT_EQ(land.around(eye + Vec3d(3, 1, 2), false).version, view.version);
  }
}

TEST(VoxelLands, KeepToTheirMemory) {
  const Vec3d eye(16, 16, 10);
  LandOptions options{.reach = 700, .full = 150, .memory = 8'000'000, .threads = 1};
  VoxelLand land(std::make_shared<Chance>(), options);
  const LandView small = land.around(eye, true);
  EXPECT_LE(small.bytes, 8'000'000u);
  EXPECT_GT(small.bytes, 6'000'000u);
  EXPECT_GT(small.left_out, 10u);
  EXPECT_EQ(small.missing, 0u);
  EXPECT_GT(small.grid->count(), 10000u);
  // The same whatever was there before.
  options.threads = 3;
  VoxelLand other(std::make_shared<Chance>(), options);
  other.around(eye + Vec3d(300, 0, 0), true);
  other.around(eye - Vec3d(0, 300, 0), false);
  const LandView again = other.around(eye, true);
  EXPECT_EQ(again.bytes, small.bytes);
  EXPECT_EQ(again.left_out, small.left_out);
  EXPECT_EQ(again.grid->count(), small.grid->count());
  // What was made for an eye is there when it comes back, if memory holds it.
  auto source = std::make_shared<Chance>();
  VoxelLand roomy(source, {.reach = 150, .full = 80});
  roomy.around(eye, true);
  roomy.around(eye + Vec3d(100, 0, 0), true);
  const int reads = source->reads;
  roomy.around(eye, true);
  EXPECT_EQ(source->reads, reads);
}

TEST(VoxelLands, DoNotKeepWaiting) {
  // A source that gives nothing until it may.
  std::mutex mutex;
  std::condition_variable opened;
  bool open = false;
  int allowed = 0;
  auto source = std::make_shared<Chance>();
  source->before_reading = [&] {
    std::unique_lock lock(mutex);
    opened.wait(lock, [&] { return open || allowed > 0; });
    if (!open) --allowed;
  };
  auto land =
      std::make_shared<VoxelLand>(source, LandOptions{.reach = 300, .full = 80, .threads = 2});
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.5f, 0.5f}}};
  Voxels part(land);
  part.cell = 0.5;
  part.at = {1, 2, 0};
  scene.room().add(part);
  const World world = compile(scene);
  Camera camera;
  camera.eye = {10, 12, 40};
  camera.pitch = -0.6;
  Budget budget;
  budget.frame = {48, 32, 1};
  const Frame none = render(world, camera, budget);
  EXPECT_GT(none.cost.missing, 3u);
  EXPECT_EQ(none.tally.hits, 0u);
  EXPECT_EQ(world.missing(), 0u) << "of a world that nobody looks at nothing is wanted";
  const std::size_t all = none.cost.missing;
  // Waiting is given up when that is wanted.
  budget.voxels.wait = true;
  EXPECT_THROW(
      render(world, camera, budget, {.progress = [](double) { return false; }, .recycle = {}}),
      Error);
  {
    const std::scoped_lock lock(mutex);
    allowed = 64;
    opened.notify_all();
  }
  budget.voxels.wait = false;
  Frame some = none;
  for (int i = 0; i < 1000 && some.cost.missing == all; ++i) {
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
    some = render(world, camera, budget);
  }
  EXPECT_LT(some.cost.missing, all);
  EXPECT_GT(some.cost.missing, 0u);
  {
    const std::scoped_lock lock(mutex);
    open = true;
    opened.notify_all();
  }
  budget.voxels.wait = true;
  const Frame whole = render(world, camera, budget);
  EXPECT_EQ(whole.cost.missing, 0u);
  EXPECT_GT(whole.tally.hits, 1000u);
  // The same as a grid of it that stands there.
  Scene fixed = scene;
  fixed.rooms[0].parts.clear();
  fixed.room().add(part.seen_from(camera.eye));
  const Frame grid = render(compile(fixed), camera, budget);
  for (int y = 0; y < 32; ++y) {
    for (int x = 0; x < 48; ++x) {
      for (int channel = 0; channel < 3; ++channel) {
        ASSERT_EQ(whole.values(Layer::color, channel)(x, y),
                  grid.values(Layer::color, channel)(x, y));
      }
    }
  }
  // A world that was seen by an eye stays as it is.
  const World seen = seen_by(world, camera, true);
  EXPECT_EQ(seen.missing(), 0u);
  land->around({5000, 0, 0}, false);
  EXPECT_EQ(render(seen, camera, budget).tally.hits, whole.tally.hits);
}

TEST(VoxelLands, TellWhatIsWrong) {
  struct Fails final : LandSource {
    VoxelPalette palette() const override { return kinds_of(2); }
    void read(const LandCell&, std::int64_t, std::uint32_t* values) const override {
      if (wrong == 0) throw Error(ErrorKind::file, "the disk is gone");
      std::fill_n(values, 4096, wrong);
    }
    std::uint32_t wrong = 0;
  };
  const auto message = [](const std::function<void()>& act) -> std::string {
    try {
      act();
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  auto source = std::make_shared<Fails>();
  VoxelLand land(source, {.reach = 100, .full = 50});
  EXPECT_THAT(message([&] { land.around({0, 0, 0}, true); }), HasSubstr("the disk is gone"));
  auto wrong = std::make_shared<Fails>();
  wrong->wrong = 3;
  VoxelLand beyond(wrong, {.reach = 100, .full = 50});
  EXPECT_THAT(message([&] {
                beyond.around({0, 0, 0}, true);
              }),
              HasSubstr("a voxel of value 3, expected 2 at most"));
  EXPECT_THAT(message([&] { beyond.around({0, 2e12, 0}, true); }), HasSubstr("an eye 2e+12 cells"));
  EXPECT_THAT(message([&] { beyond.around({0, std::nan(""), 0}, true); }), HasSubstr("an eye"));
  // Neither pieces without end, nor what is left of a source that was asked in vain.
  struct Unknown final : LandSource {
    VoxelPalette palette() const override { return kinds_of(2); }
    std::optional<std::uint32_t> known(const LandCube&, std::int64_t) const override {
      if (!ready) throw Error(ErrorKind::file, "not ready");
      return {};
    }
    void read(const LandCell&, std::int64_t, std::uint32_t* values) const override {
      std::fill_n(values, 4096, 1u);
    }
    bool ready = false;
  };
  auto unknown = std::make_shared<Unknown>();
  VoxelLand later(unknown, {.reach = 60, .full = 40});
  EXPECT_THAT(message([&] { later.around({0, 0, 0}, true); }), HasSubstr("not ready"));
  unknown->ready = true;
  EXPECT_GT(later.around({0, 0, 0}, true).grid->count(), 0u);
  VoxelLand endless(unknown, {.reach = 20000, .full = 20000});
  EXPECT_THAT(message([&] {
                endless.around({0, 0, 0}, true);
              }),
              HasSubstr("land of more than 1048576 pieces"));
  EXPECT_THAT(message([&] { VoxelLand(source, {.reach = 1e5}); }), HasSubstr("reach"));
  EXPECT_THAT(message([&] { VoxelLand(source, {.threads = -1}); }), HasSubstr("threads"));
  EXPECT_THAT(message([&] { FieldLand(field::sphere(1), 0); }), HasSubstr("expected more than 0"));
  EXPECT_THAT(message([&] { GardenLand({.rise = -2}); }), HasSubstr("rise"));
  Scene scene;
  Voxels part(std::make_shared<VoxelLand>(source));
  part.copies = {2, 1, 1};
  scene.room().add(part);
  EXPECT_THAT(message([&] { compile(scene); }), HasSubstr("copies of a land"));
  part.copies = {1, 1, 1};
  part.grid = VoxelGrid::make(filled({4, 4, 4}, Filling::half, 1, 1));
  scene.rooms[0].parts.clear();
  scene.room().add(part);
  EXPECT_THAT(message([&] { compile(scene); }), HasSubstr("expected one of them"));
}

/// Whatever is known of a cube is what reading it gives.
void expect_known_is_read(const LandSource& source, double up, int count, int least) {
  int known = 0;
  int empty = 0;
  std::vector<std::uint32_t> values(VoxelSource::block);
  for (int i = 0; i < count; ++i) {
    const RandomKey key{.seed = 77, .pixel = static_cast<std::uint64_t>(i)};
    std::int64_t step = 1;
    for (std::uint32_t k = random_below(key, 0, 4); k > 0; --k) step *= 4;
    const std::int64_t side = 16 * step;
    LandCube cube{{0, 0, 0}, side};
    for (std::uint32_t axis = 0; axis < 3; ++axis) {
      const double far = axis == 2 ? up : 20000.0;
      const double place = far * (axis == 2 ? static_cast<double>(random_uniform(key, 1))
                                            : 2.0 * random_uniform(key, 1 + axis) - 1);
      cube.low[axis] = down(static_cast<std::int64_t>(place), side);
    }
    const auto value = source.known(cube, step);
    if (!value) continue;
    ++known;
    empty += *value == 0 ? 1 : 0;
    source.read(cube.low, step, values.data());
    for (std::size_t k = 0; k < values.size(); ++k) ASSERT_EQ(values[k], *value) << i << " " << k;
  }
  EXPECT_GT(known - empty, least);
  EXPECT_GT(empty, least);
}

TEST(VoxelLands, KnowOfCubesWhatReadingThemGives) {
  expect_known_is_read(GardenLand({.seed = 4}), 330, effort(1500), effort(60));
  expect_known_is_read(GardenLand({.rise = 900, .step = 40, .plants = 1}), 1000, effort(600),
                       effort(20));
  const Field waves = field::join(
      {field::repeat({24, 24, 24}, {0, 0, 0}, field::sphere(9)), field::plane({0, 0, 1}, 12)});
  expect_known_is_read(FieldLand(waves, 0.5), 60, effort(1500), effort(10));
}

TEST(VoxelLands, GardensAreTheSameEachTimeAndAsHighAsTheySay) {
  const GardenLand garden({.seed = 11});
  const GardenLand again({.seed = 11});
  const GardenLand other({.seed = 12});
  std::vector<std::uint32_t> values(VoxelSource::block);
  std::vector<std::uint32_t> same(VoxelSource::block);
  int differ = 0;
  std::vector<int> kinds(40, 0);
  for (int i = 0; i < effort(400); ++i) {
    const RandomKey key{.seed = 3, .pixel = static_cast<std::uint64_t>(i)};
    const auto x = static_cast<std::int64_t>(random_below(key, 0, 4000)) - 2000;
    const auto y = static_cast<std::int64_t>(random_below(key, 1, 4000)) - 2000;
    const std::int64_t ground = garden.ground(x, y);
    EXPECT_GE(ground, -2);
    EXPECT_LE(ground, 260 + 3);
    differ += other.ground(x, y) != ground ? 1 : 0;
    const LandCell low{down(x, 16), down(y, 16), down(ground - 1, 16)};
    garden.read(low, 1, values.data());
    again.read(low, 1, same.data());
    EXPECT_EQ(values, same);
    for (const std::uint32_t value : values) kinds[value] += 1;
    // The highest cell of the ground is not empty, nor is what is below.
    const auto at = [&](std::int64_t z) {
      return values[static_cast<std::size_t>((x - low[0]) +
                                             16 * ((y - low[1]) + 16 * (z - low[2])))];
    };
    for (std::int64_t z = low[2]; z < ground; ++z) EXPECT_NE(at(z), 0u);
  }
  EXPECT_GT(differ, effort(300));
  // Earth, grass, walls, path, leaves, water.
  for (const std::size_t kind : {1, 2, 8, 12, 15, 30}) EXPECT_GT(kinds[kind], 0) << kind;
}

TEST(VoxelLands, CarryWhoWalks) {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.5f, 0.5f}}};
  auto garden = std::make_shared<GardenLand>(GardenRecipe{.seed = 2, .plants = 0});
  Voxels part(std::make_shared<VoxelLand>(garden, LandOptions{.reach = 120, .full = 120}));
  part.cell = 0.25;
  scene.room().add(part);
  const World world = compile(scene);
  Camera camera;
  camera.eye = {10.1, 20.1, 0.25 * static_cast<double>(garden->ground(40, 80)) + 1.7};
  WalkScript script;
  script.rate = 2;
  script.step = 0.6;
  script.moves.push_back({.forward = effort(60) / 1.0, .over = effort(40) / 1.0});
  const std::vector<WalkStep> steps = walk(world, camera, script);
  ASSERT_GT(steps.size(), 10u);
  double before = 1e300;
  int fell = 0;
  for (const WalkStep& step : steps) {
    // On the highest ground that is under the body, or on its way down from a wall.
    const double foot = camera.eye.z() + step.level - 1.7;
    double highest = -1e300;
    double lowest = 1e300;
    for (const double dx : {-0.3, 0.0, 0.3}) {
      for (const double dy : {-0.3, 0.0, 0.3}) {
        const auto x = static_cast<std::int64_t>(std::floor((step.place.x() + dx) / 0.25));
        const auto y = static_cast<std::int64_t>(std::floor((step.place.y() + dy) / 0.25));
        const double ground = 0.25 * static_cast<double>(garden->ground(x, y));
        highest = std::max(highest, ground);
        lowest = std::min(lowest, ground);
      }
    }
    if (foot > highest + 0.05) {
      EXPECT_LT(foot, before - 1);
      ++fell;
    }
    EXPECT_GE(foot, lowest - 0.05);
    before = foot;
  }
  EXPECT_LT(3 * fell, std::ssize(steps));
  EXPECT_GT((steps.back().place - steps.front().place).norm(), 5);
}

TEST(VoxelLands, StandInScenes) {
  const std::string head =
      "materials: {glow: {glow: 1.5}}\nroom:\n  solids:\n    - voxels:\n        cell: 0.25\n";
  const std::string camera =
      "camera: {eye: [3, 4, 90], pitch: -40}\nbudget: {frame: {width: 32, height: 20}}\n";
  const auto parse = [&](const std::string& land) {
    return io::parse_scene(head + land + camera, "land.yaml");
  };
  const auto message = [&](const std::string& land) -> std::string {
    try {
      const io::SceneFile file = parse(land);
      compile(file.scene);
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  io::SceneFile file = parse(
      "        materials: [glow]\n        land: {garden: {seed: 5, plants: 0.25}, reach: 500, "
      "full: 60}\n");
  io::set_by_name(file, "voxels.wait", "true");
  const Frame frame = render(compile(file.scene), file.camera, file.budget);
  EXPECT_GT(frame.tally.hits, 200u);
  EXPECT_EQ(frame.cost.missing, 0u);
  // Written and read back it is the same.
  const io::SceneFile again = io::parse_scene(io::scene_text(file), "again.yaml");
  EXPECT_EQ(io::scene_text(again), io::scene_text(file));
  const Frame same = render(compile(again.scene), again.camera, again.budget);
  EXPECT_EQ(same.tally.hits, frame.tally.hits);
  EXPECT_EQ(same.tally.steps, frame.tally.steps);
  // A field without end.
  io::SceneFile waves = parse(
      "        land: {reach: 120, full: 60, field: {repeat: {spacing: [8, 8, 8], of: {sphere: "
      "{radius: 3}}}}}\n");
  const SceneReport report = check(waves.scene, waves.camera, waves.budget);
  ASSERT_EQ(report.solids.size(), 1u);
  EXPECT_THAT(report.solids[0], HasSubstr("without end"));
  EXPECT_THAT(report.solids[0], Not(HasSubstr("missing")));

  EXPECT_THAT(message("        land: {reach: 100}\n"), HasSubstr("garden or field"));
  EXPECT_THAT(message("        land: {garden: {}, reach: 1e9}\n"),
              HasSubstr("expected number, 16 to 24576, in cells"));
  EXPECT_THAT(message("        land: {garden: {rise: -1}}\n"),
              HasSubstr("expected number, 1 to 10000"));
  EXPECT_THAT(message("        land: {garden: {}}\n        terraces: {}\n"), HasSubstr("once"));
  EXPECT_THAT(message("        land: {garden: {}}\n        copies: [2, 1, 1]\n"),
              HasSubstr("copies"));
  EXPECT_THAT(message("        land: {garden: {}}\n        shared: true\n"), HasSubstr("shared"));
  EXPECT_THAT(message("        land: {field: {sphere: {radius: -1}}}\n"), HasSubstr("more than 0"));
}

}  // namespace
}  // namespace photonlane
