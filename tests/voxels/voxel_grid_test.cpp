// Grids of voxels: what a tree holds against an array of all cells, where lanes meet it against a
// walk in whole numbers, nearest voxels against all of them.

#include <cmath>
#include <limits>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/planes.hpp"
#include "voxels/sources.hpp"

namespace photonlane {
namespace {

using namespace test;

using ::testing::HasSubstr;

constexpr Filling all_fillings[] = {Filling::sparse, Filling::half,   Filling::dense,
                                    Filling::ground, Filling::porous, Filling::single,
                                    Filling::blocks};

std::shared_ptr<const Solid> solid_of(std::shared_ptr<const VoxelGrid> grid,
                                      const Vec3d& at = {0, 0, 0}, double cell = 1) {
  Voxels part(std::move(grid));
  part.at = at;
  part.cell = cell;
  return part.compile({.materials = 3, .plain = 0});
}

TEST(VoxelGrids, HoldWhatTheirSourceSays) {
  const VoxelCell sizes[] = {{1, 1, 1}, {16, 16, 16}, {65, 33, 17}, {70, 3, 130}, {64, 64, 64}};
  std::uint64_t seed = 1;
  for (const VoxelCell& size : sizes) {
    for (const Filling filling : all_fillings) {
      for (const std::size_t kinds : {0, 1, 2, 3, 12, 200, 1000}) {
        const DenseVoxels source = filled(size, filling, kinds, ++seed);
        const bool shared = seed % 2 == 0;
        const auto grid = VoxelGrid::make(source, {.shared = shared, .threads = 2, .progress = {}});
        std::uint64_t count = 0;
        VoxelBox box{size, {0, 0, 0}};
        for (int z = -1; z <= size[2]; ++z) {
          for (int y = -1; y <= size[1]; ++y) {
            for (int x = -1; x <= size[0]; ++x) {
              const std::uint32_t value = source.at(x, y, z);
              ASSERT_EQ(grid->at({x, y, z}), value) << x << " " << y << " " << z;
              if (value == 0) continue;
              ++count;
              const VoxelCell cell{x, y, z};
              for (std::size_t k = 0; k < 3; ++k) {
                box.low[k] = std::min(box.low[k], cell[k]);
                box.high[k] = std::max(box.high[k], cell[k] + 1);
              }
            }
          }
        }
        EXPECT_EQ(grid->count(), count);
        if (count == 0) {
          EXPECT_TRUE(grid->bounds().empty());
          continue;
        }
        EXPECT_EQ(grid->bounds().low, box.low);
        EXPECT_EQ(grid->bounds().high, box.high);
      }
    }
  }
}

/// A fraction compared exactly.
struct Fraction {
  __int128 over = 0, under = 1;  // under is above 0
  bool operator<(const Fraction& other) const { return over * other.under < other.over * under; }
  bool operator==(const Fraction& other) const { return over * other.under == other.over * under; }
  double value() const { return static_cast<double>(over) / static_cast<double>(under); }
};

struct Met {
  bool met = false;
  Fraction t;
  VoxelCell cell{};
  int axis = -1;
};

/// The first set cell of a lane whose place and way are whole numbers of 64ths: from face to face
/// in the order of exact distances, x before y before z where they are equal.
Met exact_walk(const DenseVoxels& grid, const std::array<std::int64_t, 3>& from,
               const std::array<std::int64_t, 3>& way, bool& inside) {
  constexpr std::int64_t unit = 64;
  const VoxelCell size = grid.size();
  std::array<std::int64_t, 3> cell;
  for (std::size_t k = 0; k < 3; ++k) {
    cell[k] = from[k] >= 0 ? from[k] / unit : -((-from[k] + unit - 1) / unit);
    // A lane to lower cells that starts on a face has passed it.
    if (way[k] < 0 && from[k] % unit == 0) --cell[k];
  }
  const auto set = [&] {
    return grid.at(static_cast<int>(cell[0]), static_cast<int>(cell[1]),
                   static_cast<int>(cell[2])) != 0;
  };
  inside = set();
  Met result;
  if (inside) return result;
  for (;;) {
    int axis = -1;
    Fraction next;
    for (int k = 0; k < 3; ++k) {
      const auto a = static_cast<std::size_t>(k);
      if (way[a] == 0) continue;
      const std::int64_t face = way[a] > 0 ? cell[a] + 1 : cell[a];
      Fraction at{face * unit - from[a], way[a]};
      if (at.under < 0) at = {-at.over, -at.under};
      if (axis < 0 || at < next) {
        axis = k;
        next = at;
      }
    }
    if (axis < 0) return result;
    const auto a = static_cast<std::size_t>(axis);
    cell[a] += way[a] > 0 ? 1 : -1;
    if (way[a] > 0 ? cell[a] >= size[a] : cell[a] < 0) return result;
    if (!set()) continue;
    result.met = true;
    result.t = next;
    result.axis = axis;
    for (std::size_t k = 0; k < 3; ++k) result.cell[k] = static_cast<std::int32_t>(cell[k]);
    return result;
  }
}

TEST(VoxelGrids, AreMetWhereAWalkInWholeNumbersSays) {
  std::uint64_t seed = 100;
  std::size_t met = 0;
  std::size_t missed = 0;
  for (const Filling filling : all_fillings) {
    for (const VoxelCell& size : {VoxelCell{27, 27, 27}, {64, 64, 64}, {81, 70, 5}, {5, 4, 200}}) {
      // Every cell of a kind of its own neighborhood, so that kinds tell cells apart.
      const DenseVoxels source = filled(size, filling, 60000, ++seed);
      const auto grid = VoxelGrid::make(source, {.shared = seed % 2 == 0, .progress = {}});
      const auto solid = solid_of(grid);
      LaneBatch<double> lanes;
      lanes.far_limit = 1e9;
      for (int round = 0; round < effort(16); ++round) {
        lanes.size = lanes.capacity;
        std::array<std::int64_t, 3> froms[LaneBatch<double>::capacity];
        std::array<std::int64_t, 3> ways[LaneBatch<double>::capacity];
        for (std::size_t i = 0; i < lanes.size; ++i) {
          const auto draw = [&](std::uint32_t what, std::uint32_t below) {
            return static_cast<std::int64_t>(random_below(
                {.seed = seed, .pixel = i, .sample = static_cast<std::uint32_t>(round)}, what,
                below));
          };
          const std::int64_t kind = draw(0, 6);
          for (std::size_t k = 0; k < 3; ++k) {
            const auto axis = static_cast<std::uint32_t>(k);
            const std::int64_t wide = 64 * size[k];
            // Anywhere, on faces and corners, or far away.
            froms[i][k] = draw(1 + axis, static_cast<std::uint32_t>(3 * wide)) - wide;
            if (kind >= 2) froms[i][k] = froms[i][k] / 64 * 64;
            if (kind == 3) froms[i][k] += 32;
            if (kind == 5) froms[i][k] *= 30;
            // Few ways, so that many go through edges and corners.
            ways[i][k] = draw(5 + axis, 9) - 4;
            if (kind == 1) ways[i][k] = draw(9 + axis, 4001) - 2000;
            if (kind == 5) {
              ways[i][k] = draw(12 + axis, static_cast<std::uint32_t>(wide)) - froms[i][k];
            }
          }
          if (ways[i] == std::array<std::int64_t, 3>{0, 0, 0}) ways[i][2] = -1;
          lanes.x[i] = static_cast<double>(froms[i][0]) / 64;
          lanes.y[i] = static_cast<double>(froms[i][1]) / 64;
          lanes.z[i] = static_cast<double>(froms[i][2]) / 64;
          lanes.direction_x[i] = static_cast<double>(ways[i][0]) / 64;
          lanes.direction_y[i] = static_cast<double>(ways[i][1]) / 64;
          lanes.direction_z[i] = static_cast<double>(ways[i][2]) / 64;
        }
        const HitBatch<double> hits = solid->nearest_hit(lanes, {});
        for (std::size_t i = 0; i < lanes.size; ++i) {
          bool inside = false;
          const Met truth = exact_walk(source, froms[i], ways[i], inside);
          if (inside) continue;
          ASSERT_EQ(hits.ending[i], truth.met ? Ending::hit : Ending::escaped)
              << lanes.x[i] << " " << lanes.y[i] << " " << lanes.z[i] << " way "
              << lanes.direction_x[i] << " " << lanes.direction_y[i] << " " << lanes.direction_z[i];
          if (!truth.met) {
            ++missed;
            continue;
          }
          ++met;
          EXPECT_DOUBLE_EQ(hits.t[i], truth.t.value());
          EXPECT_EQ(hits.item[i], source.at(truth.cell[0], truth.cell[1], truth.cell[2]));
          const float normal[3] = {hits.normal_x[i], hits.normal_y[i], hits.normal_z[i]};
          for (int axis = 0; axis < 3; ++axis) {
            const float expected = axis != truth.axis                            ? 0.0f
                                   : ways[i][static_cast<std::size_t>(axis)] > 0 ? -1.0f
                                                                                 : 1.0f;
            EXPECT_EQ(normal[axis], expected);
          }
        }
      }
    }
  }
  EXPECT_GT(met, missed / 10);
  EXPECT_GT(missed, met / 10);
}

/// Lanes drawn at random through a grid.
template <class Number>
LaneBatch<Number> lanes_through(const VoxelCell& size, std::uint64_t seed, double scale = 1) {
  LaneBatch<Number> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = Number(1e7);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const auto draw = [&](std::uint32_t what) {
      return static_cast<double>(random_uniform({.seed = seed, .pixel = i}, what));
    };
    Vec3d from;
    Vec3d to;
    for (int k = 0; k < 3; ++k) {
      const double wide = size[static_cast<std::size_t>(k)];
      from[k] = wide * (2 * draw(static_cast<std::uint32_t>(k)) - 0.5);
      to[k] = wide * draw(static_cast<std::uint32_t>(k + 3));
    }
    const Vec3d way = (to - from).normalized();
    aim(lanes, i, scale * from, way);
  }
  return lanes;
}

TEST(VoxelGrids, TellWhatALaneLooksInto) {
  std::uint64_t seed = 300;
  for (const Filling filling : all_fillings) {
    const VoxelCell size{90, 70, 60};
    const DenseVoxels source = filled(size, filling, 60000, ++seed);
    Voxels part(VoxelGrid::make(source));
    const auto solid = part.compile({});
    const LaneBatch<double> lanes = lanes_through<double>(size, seed);
    const HitBatch<double> hits = solid->nearest_hit(lanes, {});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const Vec3d from = from_of(lanes, i);
      const Vec3d way = way_of(lanes, i);
      if (source.at(static_cast<int>(std::floor(from.x())), static_cast<int>(std::floor(from.y())),
                    static_cast<int>(std::floor(from.z()))) != 0) {
        continue;  // from inside it leaves first
      }
      const std::vector<VoxelVisit> visits = visit_voxels(part, from, way, 1e7);
      std::uint32_t opened = 0;
      for (const VoxelVisit& visit : visits) {
        opened += visit.kind == VoxelVisitKind::opened ? 1 : 0;
        const Vec3d place = from + visit.t * way;
        for (int k = 0; k < 3; ++k) {
          const double low = visit.low[static_cast<std::size_t>(k)];
          EXPECT_GE(place[k], low - 1e-9);
          EXPECT_LE(place[k], low + visit.side + 1e-9);
        }
      }
      EXPECT_EQ(opened, hits.steps[i]);
      if (visits.empty()) {
        EXPECT_EQ(hits.ending[i], Ending::escaped);
        continue;
      }
      EXPECT_EQ(visits.back().kind == VoxelVisitKind::met, hits.ending[i] == Ending::hit);
      if (hits.ending[i] != Ending::hit) continue;
      EXPECT_EQ(visits.back().t, hits.t[i]);
      const auto& cell = visits.back().low;
      EXPECT_EQ(source.at(cell[0], cell[1], cell[2]), hits.item[i]);
    }
  }
}

TEST(VoxelGrids, HideWhatTheyAreMetBefore) {
  const VoxelCell size{90, 70, 60};
  const auto solid = solid_of(VoxelGrid::make(filled(size, Filling::sparse, 3, 5)));
  for (std::uint64_t seed = 0; seed < 20; ++seed) {
    LaneBatch<float> lanes = lanes_through<float>(size, seed);
    lanes.any_start = lanes.any_limit = true;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      lanes.start[i] = i % 3 == 0 ? 20.0f : 0.0f;
      lanes.limit[i] = i % 2 == 0 ? 60.0f : 1e6f;
    }
    const HitBatch<float> hits = solid->nearest_hit(lanes, {});
    bool hidden[LaneBatch<float>::capacity] = {};
    hidden[7] = true;
    solid->hide(lanes, {}, hidden);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      EXPECT_EQ(hidden[i], i == 7 || hits.ending[i] == Ending::hit) << i;
      if (hits.ending[i] != Ending::hit) continue;
      EXPECT_GT(hits.t[i], lanes.start[i]);
      EXPECT_LT(hits.t[i], lanes.limit[i]);
    }
    // What starts where something was met meets what is behind it, or where it ends.
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (hits.ending[i] == Ending::hit) lanes.start[i] = hits.t[i];
    }
    const HitBatch<float> behind = solid->nearest_hit(lanes, {});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (behind.ending[i] == Ending::hit) EXPECT_GT(behind.t[i], lanes.start[i]);
    }
  }
}

TEST(VoxelGrids, AreMetTheSameInAnyCompanyAndPlaced) {
  const VoxelCell size{130, 130, 70};
  const auto grid = VoxelGrid::make(filled(size, Filling::ground, 9, 3));
  const auto solid = solid_of(grid);
  // Half as large, elsewhere: powers of two, so that nothing is rounded.
  const auto moved = solid_of(grid, {512, -256, 64}, 0.5);
  for (std::uint64_t seed = 0; seed < 10; ++seed) {
    const LaneBatch<double> lanes = lanes_through<double>(size, seed);
    LaneBatch<double> others = lanes;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      others.x[i] = 512 + 0.5 * std::round(1024 * lanes.x[i]) / 1024;
      others.y[i] = -256 + 0.5 * std::round(1024 * lanes.y[i]) / 1024;
      others.z[i] = 64 + 0.5 * std::round(1024 * lanes.z[i]) / 1024;
    }
    LaneBatch<double> rounded = lanes;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      rounded.x[i] = std::round(1024 * lanes.x[i]) / 1024;
      rounded.y[i] = std::round(1024 * lanes.y[i]) / 1024;
      rounded.z[i] = std::round(1024 * lanes.z[i]) / 1024;
    }
    const HitBatch<double> hits = solid->nearest_hit(rounded, {});
    const HitBatch<double> half = moved->nearest_hit(others, {});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      ASSERT_EQ(hits.ending[i], half.ending[i]);
      if (hits.ending[i] == Ending::hit) EXPECT_EQ(half.t[i], hits.t[i] / 2);
      LaneBatch<double> one = rounded;
      one.size = 0;
      one.take(rounded, i);
      const HitBatch<double> alone = solid->nearest_hit(one, {});
      EXPECT_EQ(alone.t[0], hits.t[i]);
      EXPECT_EQ(alone.steps[0], hits.steps[i]);
    }
  }
}

TEST(VoxelGrids, AreMetTheSameByLanesThatAreLedTogether) {
  // Lanes of a picture, wide and narrow, from outside, close by and within; led they skip what is
  // empty before all of them.
  std::uint64_t seed = 60;
  std::uint64_t led_steps = 0;
  std::uint64_t own_steps = 0;
  for (const Filling filling : all_fillings) {
    const VoxelCell size{150, 140, 130};
    const auto solid = solid_of(VoxelGrid::make(filled(size, filling, 60000, ++seed)));
    for (int round = 0; round < effort(24); ++round) {
      const auto draw = [&](std::uint32_t what) {
        return static_cast<double>(
            random_uniform({.seed = seed, .pixel = static_cast<std::uint64_t>(round)}, what));
      };
      const double away = round % 3 == 0 ? 1 : 3;
      const Vec3d eye = away * Vec3d(150 * draw(0), 140 * draw(1), 130 * draw(2));
      const Vec3d target(150 * draw(3), 140 * draw(4), 130 * draw(5));
      const Camera camera = Camera::look_at(eye, target, degrees(round % 2 == 0 ? 2 : 40));
      const Viewing seen = viewing(camera, {16, 8});
      LaneBatch<float> lanes;
      lanes.size = round % 5 == 0 ? 50 : 128;
      lanes.far_limit = 1e6;
      for (std::size_t i = 0; i < lanes.size; ++i) {
        const auto x = static_cast<double>(i % 16);
        const auto y = static_cast<double>(i / 16);
        test::aim(lanes, i, eye, seen.ray(seen.u(x + 0.5), seen.v(y + 0.5)));
      }
      const HitBatch<float> alone = solid->nearest_hit(lanes, {});
      lanes.together = true;
      const HitBatch<float> led = solid->nearest_hit(lanes, {});
      for (std::size_t i = 0; i < lanes.size; ++i) {
        ASSERT_EQ(alone.ending[i], led.ending[i]) << i;
        ASSERT_EQ(alone.t[i], led.t[i]);
        ASSERT_EQ(alone.item[i], led.item[i]);
        if (led.ending[i] == Ending::hit) EXPECT_EQ(alone.normal_x[i], led.normal_x[i]);
        led_steps += led.steps[i];
        own_steps += alone.steps[i];
      }
    }
  }
  EXPECT_LT(led_steps, own_steps);
}

TEST(VoxelGrids, ReachToTheLastOf65536Cells) {
  // Single cells in the corners of the largest grid, and lanes at them from the other end.
  constexpr int side = 65536;
  VoxelEditor editor({side, side, side}, kinds_of(8));
  std::vector<VoxelCell> corners;
  for (unsigned corner = 0; corner < 8; ++corner) {
    corners.push_back({(corner & 1) != 0 ? side - 1 : 0, (corner & 2) != 0 ? side - 1 : 0,
                       (corner & 4) != 0 ? side - 1 : 0});
    editor.set(corners.back(), corner + 1);
  }
  const auto solid = solid_of(editor.grid());
  for (unsigned to = 0; to < 8; ++to) {
    for (int near = 0; near < 3; ++near) {
      // From a little beside the middle, aimed at the cell's middle.
      const Vec3d from(32768.25 + near, 32767.5, 32768.125);
      const Vec3d target =
          Vec3d(corners[to][0], corners[to][1], corners[to][2]) + Vec3d::Constant(0.5);
      LaneBatch<double> lanes;
      lanes.size = 1;
      lanes.far_limit = 1e9;
      const Vec3d way = (target - from).normalized();
      test::aim(lanes, 0, from, way);
      const HitBatch<double> hits = solid->nearest_hit(lanes, {});
      ASSERT_EQ(hits.ending[0], Ending::hit);
      EXPECT_EQ(hits.item[0], to + 1);
      EXPECT_LT(hits.steps[0], 64u);
    }
  }
}

TEST(VoxelGrids, AreLeftWhereTheyEnd) {
  // From inside: to the first empty cell, or with matter that bends light to where another begins.
  DenseVoxels source({40, 5, 5}, kinds_of(3));
  for (int x = 4; x < 30; ++x) {
    for (int y = 0; y < 5; ++y) {
      for (int z = 0; z < 5; ++z) source.at(x, y, z) = x < 12 ? 1 : x < 20 ? 2 : 3;
    }
  }
  VoxelPalette palette = source.palette();
  for (int k = 0; k < 3; ++k) palette.kinds[static_cast<std::size_t>(k)].material = k;
  DenseVoxels made({40, 5, 5}, palette);
  made.cells = source.cells;
  const auto grid = VoxelGrid::make(made);
  Voxels part(grid);
  LaneBatch<double> lanes;
  lanes.size = 1;
  lanes.far_limit = 1000;
  lanes.x[0] = 6.5;
  lanes.y[0] = lanes.z[0] = 2.5;
  lanes.direction_x[0] = 1;
  const auto met = [&](std::vector<bool> bends) {
    const auto solid = part.compile({.materials = 3, .plain = 0, .bends = std::move(bends)});
    return solid->nearest_hit(lanes, {});
  };
  const HitBatch<double> opaque = met({});
  EXPECT_EQ(opaque.t[0], 23.5);  // 30 - 6.5: all are opaque, and alike
  EXPECT_EQ(opaque.item[0], 3u);
  EXPECT_EQ(opaque.normal_x[0], -1);
  const HitBatch<double> clear = met({true, false, false});
  EXPECT_EQ(clear.t[0], 5.5);  // 12 - 6.5: glass ends there
  EXPECT_EQ(clear.item[0], 2u);
  const HitBatch<double> other = met({true, true, false});
  EXPECT_EQ(other.t[0], 5.5);
}

TEST(VoxelGrids, KnowTheNearestOfAll) {
  std::uint64_t seed = 40;
  for (const Filling filling : all_fillings) {
    const VoxelCell size{37, 20, 66};
    const DenseVoxels source = filled(size, filling, 5, ++seed);
    const auto solid = solid_of(VoxelGrid::make(source));
    for (std::size_t i = 0; i < static_cast<std::size_t>(effort(60)); ++i) {
      const auto draw = [&](std::uint32_t what) {
        return static_cast<double>(random_uniform({.seed = seed, .pixel = i}, what));
      };
      const Vec3d place(size[0] * (1.6 * draw(0) - 0.3), size[1] * (1.6 * draw(1) - 0.3),
                        size[2] * (1.6 * draw(2) - 0.3));
      const auto cell = [&](int k) { return static_cast<int>(std::floor(place[k])); };
      const bool inside = source.at(cell(0), cell(1), cell(2)) != 0;
      double square = std::numeric_limits<double>::infinity();
      for (int z = -1; z <= size[2]; ++z) {
        for (int y = -1; y <= size[1]; ++y) {
          for (int x = -1; x <= size[0]; ++x) {
            if ((source.at(x, y, z) != 0) == inside) continue;
            const Vec3d low(x, y, z);
            const Vec3d near = place.cwiseMax(low).cwiseMin(low + Vec3d::Constant(1));
            square = std::min(square, (place - near).squaredNorm());
          }
        }
      }
      double value = 0;
      DistanceBatch batch;
      batch.count = 1;
      batch.x = &place[0];
      batch.y = &place[1];
      batch.z = &place[2];
      batch.value = &value;
      solid->measure(batch);
      EXPECT_NEAR(value, inside ? -std::sqrt(square) : std::sqrt(square), 1e-12);
      const auto closest = solid->closest(place);
      ASSERT_TRUE(closest.has_value());
      EXPECT_NEAR((closest->place - place).norm(), std::sqrt(square), 1e-12);
    }
  }
}

TEST(VoxelGrids, AreTheSameSharedAndWithAnyNumberOfThreads) {
  // The same 64 cells again and again, and once something else.
  DenseVoxels source({256, 256, 64}, kinds_of(40));
  const DenseVoxels part = filled({64, 64, 64}, Filling::ground, 40, 9);
  for (int z = 0; z < 64; ++z) {
    for (int y = 0; y < 256; ++y) {
      for (int x = 0; x < 256; ++x) source.at(x, y, z) = part.at(x % 64, y % 64, z);
    }
  }
  source.at(100, 100, 60) = 7;
  const auto one = VoxelGrid::make(source, {.shared = false, .threads = 1, .progress = {}});
  const auto two = VoxelGrid::make(source, {.shared = false, .threads = 2, .progress = {}});
  const auto shared = VoxelGrid::make(source, {.shared = true, .threads = 2, .progress = {}});
  EXPECT_EQ(one->bytes(), two->bytes());
  EXPECT_LT(shared->bytes(), one->bytes() / 6);
  const VoxelCell size{256, 256, 64};
  for (std::uint64_t seed = 0; seed < 8; ++seed) {
    const LaneBatch<double> lanes = lanes_through<double>(size, seed);
    const HitBatch<double> here = solid_of(one)->nearest_hit(lanes, {});
    const HitBatch<double> there = solid_of(shared)->nearest_hit(lanes, {});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      EXPECT_EQ(here.t[i], there.t[i]);
      EXPECT_EQ(here.item[i], there.item[i]);
      EXPECT_EQ(here.steps[i], there.steps[i]);
    }
  }
}

TEST(VoxelGrids, StandSideBySideAsOftenAsIsAsked) {
  const VoxelCell size{20, 30, 12};
  const DenseVoxels source = filled(size, Filling::sparse, 50, 77);
  DenseVoxels many({60, 60, 12}, source.palette());
  for (int z = 0; z < 12; ++z) {
    for (int y = 0; y < 60; ++y) {
      for (int x = 0; x < 60; ++x) many.at(x, y, z) = source.at(x % 20, y % 30, z);
    }
  }
  Voxels copies(VoxelGrid::make(source));
  copies.copies = {3, 2, 1};
  const auto repeated = copies.compile({});
  const auto whole = solid_of(VoxelGrid::make(many));
  for (std::uint64_t seed = 0; seed < 30; ++seed) {
    const LaneBatch<double> lanes = lanes_through<double>({60, 60, 12}, seed);
    const HitBatch<double> one = repeated->nearest_hit(lanes, {});
    const HitBatch<double> other = whole->nearest_hit(lanes, {});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      ASSERT_EQ(one.ending[i], other.ending[i]);
      if (one.ending[i] != Ending::hit) continue;
      EXPECT_NEAR(one.t[i], other.t[i], 1e-9);
      EXPECT_EQ(one.item[i], other.item[i]);
    }
    const Vec3d place(lanes.x[0], lanes.y[0], lanes.z[0]);
    EXPECT_NEAR(repeated->closest(place)->distance, whole->closest(place)->distance, 1e-9);
  }
}

TEST(VoxelGrids, AreMadeOfFieldsAsEveryCellSays) {
  const Field urn = field::join(
      0.1,
      {field::sphere(0.8),
       field::place({0.3, 0.2, 0.6}, field::made_of(1, field::torus(0.7, 0.2)), {0.3, 0.2, 0})});
  const FieldVoxels source(urn, {.points = 70}, {VoxelKind::no_color, 0x112233});
  const auto grid = VoxelGrid::make(source);
  const CompiledField field(urn);
  std::uint64_t set = 0;
  const VoxelCell size = grid->size();
  for (int z = 0; z < size[2]; ++z) {
    for (int y = 0; y < size[1]; ++y) {
      for (int x = 0; x < size[0]; ++x) {
        const Vec3d place = source.corner() + source.cell() * Vec3d(x + 0.5, y + 0.5, z + 0.5);
        const double value = field.distance(place);
        ASSERT_EQ(grid->at({x, y, z}) != 0, value < 0) << place.transpose();
        set += value < 0 ? 1 : 0;
        if (value < -0.05 || value >= 0) continue;
        const SurfaceMaterial made = field.material(place);
        const int own = made.share > 0.5 ? made.other : made.material;
        EXPECT_EQ(grid->at({x, y, z}), static_cast<std::uint32_t>(own + 2));
      }
    }
  }
  EXPECT_EQ(grid->count(), set);
  EXPECT_GT(set, 10000u);
  // Fine ones look at a small share of all cells.
  const FieldVoxels fine(urn, {.points = 512});
  const auto large = VoxelGrid::make(fine);
  const double cells = static_cast<double>(large->size()[0]) * large->size()[1] * large->size()[2];
  EXPECT_LT(static_cast<double>(fine.evaluations()), 0.1 * cells);
}

TEST(VoxelGrids, RefuseWhatCannotBe) {
  const auto refused = [](const VoxelSource& source, VoxelGridOptions options = {}) {
    return refusal([&] { VoxelGrid::make(source, options); });
  };
  EXPECT_THAT(refused(DenseVoxels({0, 1, 1}, kinds_of(1))), HasSubstr("expected 1 to 65536"));
  EXPECT_THAT(refused(DenseVoxels({1, 1, 1}, {})), HasSubstr("without kinds"));
  DenseVoxels wrong({3, 3, 3}, kinds_of(2));
  wrong.at(1, 1, 1) = 3;
  EXPECT_THAT(refused(wrong), HasSubstr("value 3, expected 2"));
  VoxelGridOptions small;
  small.memory_limit = 1000;
  EXPECT_THAT(refused(filled({64, 64, 64}, Filling::half, 5, 1), small), HasSubstr("1000 bytes"));
  VoxelGridOptions stopped;
  stopped.progress = [](double) { return false; };
  EXPECT_THAT(refused(filled({64, 64, 64}, Filling::half, 5, 1), stopped), HasSubstr("stopped"));
  EXPECT_THAT(refusal([] { FieldVoxels(field::plane({0, 0, 1}, 0)); }), HasSubstr("without end"));
  Voxels none;
  EXPECT_THAT(refusal([&] { none.compile({}); }), HasSubstr("without a grid"));
  Voxels part(VoxelGrid::make(filled({3, 3, 3}, Filling::half, 1, 1)), 5);
  EXPECT_THAT(refusal([&] { part.compile({.materials = 2}); }), HasSubstr("material 5"));
  part.material = -1;
  part.copies = {1.5, 1, 1};
  EXPECT_THAT(refusal([&] { part.compile({}); }), HasSubstr("whole number"));
}

}  // namespace
}  // namespace photonlane
