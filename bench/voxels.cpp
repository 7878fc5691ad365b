// Voxels against the loops that are written first: a walk through an array of all cells, and an
// octree descended from the root for every cell; making a grid of a field against sampling every
// cell; edits.

#include <cmath>

#include "eye_lanes.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "race.hpp"
#include "textbook/voxels.hpp"

namespace photonlane::bench {
namespace {

/// Hills of a skin of voxels with kinds that change from one to the next, as land has it; or a cube
/// with holes in all of its parts.
class Land final : public VoxelSource {
 public:
  Land(int cells, bool porous)
      : cells_(cells),
        porous_(porous),
        ground_(porous ? 0 : static_cast<std::size_t>(cells) * static_cast<std::size_t>(cells)) {
    const double scale = 2048.0 / cells;
    for (int y = 0; !porous && y < cells; ++y) {
      for (int x = 0; x < cells; ++x) {
        const double u = x * scale;
        const double v = y * scale;
        const auto wave = [](double angle) { return sine_cosine(angle).sine; };
        const double height =
            0.32 + 0.10 * wave(u * 0.004 + wave(v * 0.003)) * wave(v * 0.0051 + 1.6) +
            0.05 * wave(u * 0.017 + 1.3 * wave(v * 0.011)) +
            0.02 * wave(u * 0.06) * wave(v * 0.071) + 0.004 * wave(u * 0.31) * wave(v * 0.27);
        ground_[index(x, y)] = static_cast<std::int32_t>(height * cells);
      }
    }
  }
  VoxelCell size() const override { return {cells_, cells_, cells_}; }
  VoxelPalette palette() const override {
    VoxelPalette palette;
    for (std::uint32_t k = 0; k < 9; ++k) palette.kinds.push_back({-1, 0x304020 + k * 0x0a0806});
    return palette;
  }
  std::uint32_t at(int x, int y, int z) const {
    if (porous_) {
      for (int k = 0; k < 6; ++k, x /= 3, y /= 3, z /= 3) {
        if ((x % 3 == 1) + (y % 3 == 1) + (z % 3 == 1) >= 2) return 0;
      }
      return 1;
    }
    const int own = ground(x, y);
    if (z >= own) return 0;
    const int low = std::min(std::min(ground(x - 1, y), ground(x + 1, y)),
                             std::min(ground(x, y - 1), ground(x, y + 1)));
    // What nobody sees is empty.
    if (z < std::min(own - 1, low)) return 0;
    const std::uint64_t bits =
        random_bits({.seed = 3, .pixel = index(x, y)}, static_cast<std::uint32_t>(z));
    const int third = std::min(2, 5 * z / cells_);
    return static_cast<std::uint32_t>(1 + 3 * third) +
           (bits % 100 < 70 ? 0 : static_cast<std::uint32_t>(bits % 3));
  }
  std::optional<std::uint32_t> known(const VoxelBox& box) const override {
    if (porous_ || box.high[0] - box.low[0] > 64) return {};
    int low = cells_;
    int high = 0;
    for (int y = box.low[1] - 1; y <= box.high[1]; ++y) {
      for (int x = box.low[0] - 1; x <= box.high[0]; ++x) {
        low = std::min(low, ground(x, y));
        high = std::max(high, ground(x, y));
      }
    }
    if (box.low[2] >= high || box.high[2] < low) return 0;
    return {};
  }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    for (int z = 0; z < side; ++z) {
      for (int y = 0; y < side; ++y) {
        for (int x = 0; x < side; ++x) {
          const bool there = low[0] + x < cells_ && low[1] + y < cells_ && low[2] + z < cells_;
          *values++ = there ? at(low[0] + x, low[1] + y, low[2] + z) : 0;
        }
      }
    }
  }
  /// Calls each(x, y, z) for the cells that are set.
  template <class Each>
  void for_each(const Each& each) const {
    for (int y = 0; y < cells_; ++y) {
      for (int x = 0; x < cells_; ++x) {
        const int top = porous_ ? cells_ : ground(x, y);
        const int bottom =
            porous_ ? 0
                    : std::min(top - 1, std::min(std::min(ground(x - 1, y), ground(x + 1, y)),
                                                 std::min(ground(x, y - 1), ground(x, y + 1))));
        for (int z = bottom; z < top; ++z) {
          if (const std::uint32_t value = at(x, y, z))
            each(x, y, z, static_cast<std::uint8_t>(value));
        }
      }
    }
  }

 private:
  std::size_t index(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(cells_) +
           static_cast<std::size_t>(x);
  }
  int ground(int x, int y) const {
    return ground_[index(std::clamp(x, 0, cells_ - 1), std::clamp(y, 0, cells_ - 1))];
  }
  int cells_;
  bool porous_;
  std::vector<std::int32_t> ground_;
};

template <class Grid>
void walk(const Grid& grid, const std::vector<LaneBatch<float>>& all) {
  for (const LaneBatch<float>& lanes : all) {
    for (std::size_t i = 0; i < lanes.size; ++i) {
      float t = 0;
      found += grid.first({lanes.x[i], lanes.y[i], lanes.z[i], lanes.direction_x[i],
                           lanes.direction_y[i], lanes.direction_z[i], lanes.far_limit},
                          t) != 0
                   ? static_cast<double>(t)
                   : 0;
    }
  }
}

bool named(const std::string& name, const std::string& wanted) {
  return name.find(wanted) != std::string::npos;
}

void race_land(int cells, bool porous, bool octree, const std::string& wanted,
               std::vector<Race>& races) {
  const std::string words = fmt::format("{} {}", porous ? "porous" : "land", cells);
  const std::string eye = "voxels: from the eye, " + words;
  const std::string sun = "voxels: toward the sun, " + words;
  if (!named(eye, wanted) && !named(sun, wanted)) return;
  const Land land(cells, porous);
  const auto grid = VoxelGrid::make(land, {.shared = false, .threads = 0, .progress = {}});
  fmt::print("{}: {} voxels, {:.2f} MB, {:.3f} bytes each, made in {:.2f} s\n", words,
             grid->count(), static_cast<double>(grid->bytes()) / 1e6,
             static_cast<double>(grid->bytes()) / static_cast<double>(grid->count()),
             grid->cost().seconds);
  const auto solid = Voxels(grid).compile({});
  textbook::DenseVoxels dense(cells);
  textbook::VoxelOctree tree(cells);
  land.for_each([&](int x, int y, int z, std::uint8_t value) {
    dense.at(x, y, z) = value;
    if (octree) tree.set(x, y, z, value);
  });
  const auto side = static_cast<double>(cells);
  const Camera camera = porous
                            ? Camera::look_at({-0.3 * side, -0.2 * side, 1.2 * side},
                                              {0.6 * side, 0.7 * side, 0.25 * side}, degrees(53))
                            : Camera::look_at({0.11 * side, 0.07 * side, 0.62 * side},
                                              {0.6 * side, 0.7 * side, 0.25 * side}, degrees(53));
  const EyeLanes lanes(*solid, camera, {0.55f, -0.35f, 0.45f}, 0.01f);
  std::uint64_t steps[2] = {0, 0};
  for (LaneBatch<float> batch : lanes.eye) {
    for (const bool together : {false, true}) {
      batch.together = together;
      const HitBatch<float> hits = solid->nearest_hit(batch, {});
      for (std::size_t i = 0; i < batch.size; ++i) steps[together ? 1 : 0] += hits.steps[i];
    }
  }
  constexpr double count = EyeLanes::wide * EyeLanes::high;
  fmt::print("{}: {:.1f} steps a lane from the eye, {:.1f} led together\n", words,
             static_cast<double>(steps[0]) / count, static_cast<double>(steps[1]) / count);
  std::vector<Runner> eyes{{"tree", [&] { meet(*solid, lanes.eye); }, {}},
                           {"array", [&] { walk(dense, lanes.eye); }, {}}};
  std::vector<Runner> suns{{"tree", [&] { hide(*solid, lanes.sun); }, {}},
                           {"array", [&] { walk(dense, lanes.sun); }, {}}};
  if (octree) {
    eyes.push_back({"octree", [&] { walk(tree, lanes.eye); }, {}});
    suns.push_back({"octree", [&] { walk(tree, lanes.sun); }, {}});
  }
  run_rounds(eyes, cells > 1000 ? 2 : 5);
  run_rounds(suns, cells > 1000 ? 2 : 5);
  races.push_back(race(eye, eyes[0], eyes[1], porous ? 5 : 15));
  races.push_back(race(sun, suns[0], suns[1], porous ? 5 : 15));
  if (!octree) return;
  races.push_back(race(eye + ", octree", eyes[0], eyes[2], 8));
  races.push_back(race(sun + ", octree", suns[0], suns[2], 8));
  fmt::print("{}: octree {:.1f} bytes a voxel\n", words,
             static_cast<double>(tree.bytes()) / static_cast<double>(grid->count()));
}

/// A grid of a field against sampling every cell.
void race_field(const std::string& wanted, std::vector<Race>& races) {
  const std::string name = "voxels: of a field";
  if (!named(name, wanted)) return;
  const Field field =
      field::join(0.1, {field::torus(1, 0.25), field::place({0.6, 0, 0.3}, field::sphere(0.5))});
  const FieldVoxelRecipe recipe{.points = 512};
  const CompiledField compiled(field);
  const FieldVoxels source(field, recipe);
  const VoxelCell size = source.size();
  std::vector<Runner> runners{
      {"by bounds",
       [&] {
         found += static_cast<double>(
             VoxelGrid::make(source, {.shared = false, .threads = 1, .progress = {}})->count());
       },
       {}},
      {"every cell",
       [&] {
         std::vector<Vec3d> row(static_cast<std::size_t>(size[0]));
         for (int z = 0; z < size[2]; ++z) {
           for (int y = 0; y < size[1]; ++y) {
             for (int x = 0; x < size[0]; ++x) {
               row[static_cast<std::size_t>(x)] =
                   source.corner() + source.cell() * Vec3d(x + 0.5, y + 0.5, z + 0.5);
             }
             for (const double value : compiled.distances(row)) found += value < 0 ? 1 : 0;
           }
         }
       },
       {}}};
  for (int round = 0; round < 2; ++round) {
    for (Runner& runner : runners) runner.times.push_back(milliseconds(runner.work));
  }
  races.push_back(race(name, runners[0], runners[1], 50));
}

void tell_edits(const std::string& wanted) {
  if (!named("voxels: edits", wanted)) return;
  VoxelEditor editor(VoxelGrid::make(Land(512, false)));
  constexpr int count = 20000;
  const double time = milliseconds([&] {
    for (int i = 0; i < count; ++i) {
      const RandomKey key{.seed = 5, .pixel = static_cast<std::uint64_t>(i)};
      editor.set(
          {static_cast<int>(random_below(key, 0, 512)), static_cast<int>(random_below(key, 1, 512)),
           100 + static_cast<int>(random_below(key, 2, 120))},
          1 + random_below(key, 3, 9));
    }
  });
  fmt::print("voxels: edits, {:.0f} single ones a second\n", 1000 * count / time);
}

}  // namespace

void race_voxels(const std::string& wanted, std::vector<Race>& races) {
  race_land(512, false, true, wanted, races);
  race_land(512, true, false, wanted, races);
  if (wanted == "large voxels") race_land(2048, false, false, "2048", races);
  race_field(wanted, races);
  tell_edits(wanted);
}

}  // namespace photonlane::bench
