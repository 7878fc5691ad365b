// Lanes against voxels at the ends of the range: far away, tiny, huge, turned, whole cubes of one
// value at every level, every vector target, and while somebody else edits.

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <cmath>
#include <limits>
#include <thread>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/files.hpp"
#include "support/lanes.hpp"
#include "support/targets.hpp"
#include "voxels/sources.hpp"

namespace photonlane {
namespace {

using namespace test;

/// Where a lane comes into the first set cell, by cutting it with each of them in long doubles;
/// `sure` unless another answer is as good: a lane that grazes an edge.
struct Truth {
  long double t = std::numeric_limits<long double>::infinity();
  std::uint32_t value = 0;
  bool sure = true;
};

Truth truth(const DenseVoxels& grid, const Voxels& part, const Vec3d& from, const Vec3d& way,
            double error) {
  using Wide = Eigen::Matrix<long double, 3, 1>;
  const Mat3d turn = (Eigen::AngleAxisd(part.turn.z(), Vec3d::UnitZ()) *
                      Eigen::AngleAxisd(part.turn.y(), Vec3d::UnitY()) *
                      Eigen::AngleAxisd(part.turn.x(), Vec3d::UnitX()))
                         .toRotationMatrix();
  const Eigen::Matrix<long double, 3, 3> back = turn.transpose().cast<long double>();
  const auto cell = static_cast<long double>(part.cell);
  const Wide start = back * (from - part.at).cast<long double>() / cell;
  const Wide along = back * way.cast<long double>() / cell;
  Truth best;
  long double second = best.t;
  const VoxelCell size = grid.size();
  for (int z = 0; z < size[2]; ++z) {
    for (int y = 0; y < size[1]; ++y) {
      for (int x = 0; x < size[0]; ++x) {
        const std::uint32_t value = grid.at(x, y, z);
        if (value == 0) continue;
        const Wide low(x, y, z);
        long double in = 0;
        long double out = std::numeric_limits<long double>::infinity();
        for (int axis = 0; axis < 3; ++axis) {
          const long double one = (low[axis] - start[axis]) / along[axis];
          const long double other = (low[axis] + 1 - start[axis]) / along[axis];
          in = std::max(in, std::min(one, other));
          out = std::min(out, std::max(one, other));
        }
        const auto slack = static_cast<long double>(error) * (1 + std::abs(in));
        if (in > out + slack) continue;
        // At an edge it may be this one or its neighbor.
        if (out - in < 2 * slack && in < best.t + slack) best.sure = false;
        if (in > out) continue;
        if (in < best.t) {
          second = best.t;
          best.t = in;
          best.value = value;
        } else {
          second = std::min(second, in);
        }
      }
    }
  }
  if (second - best.t < static_cast<long double>(error) * (1 + std::abs(best.t))) best.sure = false;
  return best;
}

template <class Number>
void compare_with_truth(const Voxels& part, const DenseVoxels& grid, double away, double error,
                        std::uint64_t seed) {
  const auto solid = part.compile({});
  const VoxelCell size = grid.size();
  const Vec3d extent = part.cell * Vec3d(size[0], size[1], size[2]);
  const Bounds bounds = solid->bounds();
  LaneBatch<Number> lanes;
  lanes.size = 128;
  lanes.far_limit = Number(1e30);
  int unsure = 0;
  int met = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const auto draw = [&](std::uint32_t what) {
      return static_cast<double>(random_uniform({.seed = seed, .pixel = i}, what));
    };
    const Vec3d target =
        bounds.low + (bounds.high - bounds.low).cwiseProduct(Vec3d(draw(0), draw(1), draw(2)));
    const Vec3d side = Vec3d(draw(3) - 0.5, draw(4) - 0.5, draw(5) - 0.5).normalized();
    const Vec3d from = target + away * extent.norm() * side;
    aim(lanes, i, from, (target - from).normalized());
  }
  const HitBatch<Number> hits = solid->nearest_hit(lanes, {});
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Truth one = truth(grid, part, from_of(lanes, i), way_of(lanes, i), error);
    if (!one.sure) {
      ++unsure;
      continue;
    }
    const bool hit = std::isfinite(static_cast<double>(one.t));
    ASSERT_EQ(hits.ending[i] == Ending::hit, hit) << i;
    if (!hit) continue;
    ++met;
    EXPECT_NEAR(static_cast<double>(hits.t[i]), static_cast<double>(one.t),
                error * (1 + static_cast<double>(one.t)))
        << i;
    EXPECT_EQ(hits.item[i], one.value);
  }
  EXPECT_LT(unsure, 16);
  EXPECT_GT(met, 10);
}

TEST(VoxelLanes, MeetWhatCuttingEveryCellSays) {
  std::uint64_t seed = 900;
  for (const Filling filling : {Filling::sparse, Filling::ground, Filling::porous}) {
    const DenseVoxels grid = filled({27, 22, 30}, filling, 60000, ++seed);
    Voxels part(VoxelGrid::make(grid));
    compare_with_truth<double>(part, grid, 2, 1e-12, seed);
    compare_with_truth<float>(part, grid, 2, 1e-5, seed);
    compare_with_truth<double>(part, grid, 1e5, 1e-10, seed);
    part.turn = {0.4, -1.1, 2.5};
    part.at = {12.3, -4.5, 6.7};
    part.cell = 0.037;
    compare_with_truth<double>(part, grid, 2, 1e-11, seed);
    // As small and as large as there is, far from the origin.
    part.turn = {0, 0, 0};
    part.cell = 1e-3;
    part.at = {9e5, -9e5, 3e5};
    compare_with_truth<double>(part, grid, 2, 1e-7, seed);
    part.cell = 1000;
    part.at = {-1e6, 1e6, 1e6};
    compare_with_truth<double>(part, grid, 3, 1e-11, seed);
  }
}

TEST(VoxelLanes, AreAlikeOnEveryTarget) {
  const auto grid = VoxelGrid::make(filled({130, 90, 100}, Filling::ground, 30, 6));
  const auto solid = Voxels(grid).compile({});
  LaneBatch<float> lanes;
  lanes.size = 117;
  lanes.far_limit = 1000;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const RandomKey key{.seed = 8, .pixel = i};
    const Vec3d to(130 * random_uniform(key, 0), 90 * random_uniform(key, 1),
                   60 * random_uniform(key, 2));
    aim(lanes, i, {-30, -20, 120}, (to - Vec3d(-30, -20, 120)).normalized());
  }
  const auto told = [&] {
    std::string text;
    for (const bool together : {false, true}) {
      lanes.together = together;
      Budget budget;
      lanes.spread = 0.01;
      budget.voxels.detail = together ? 2 : 0;
      const HitBatch<float> hits = solid->nearest_hit(lanes, budget);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        text += fmt::format("{} {} {};", hits.t[i], hits.item[i], hits.steps[i]);
      }
    }
    return text;
  };
  const std::string plain = told();
  for_each_target([&](const char* name) { EXPECT_EQ(told(), plain) << name; });
}

/// Everything is of one value, but for what is carved out of it: cubes of one value at every level.
class Carved final : public VoxelSource {
 public:
  VoxelCell size() const override { return {1024, 1024, 1024}; }
  VoxelPalette palette() const override { return kinds_of(3); }
  static std::uint32_t at(int x, int y, int z) {
    // A tunnel, and all above half the height.
    if (z >= 512) return 0;
    if (std::abs(x - 700) < 5 && std::abs(z - 100) < 5) return 0;
    return y < 256 ? 1 : 2;
  }
  std::optional<std::uint32_t> known(const VoxelBox& box) const override {
    if (box.low[2] >= 512) return 0;
    if (box.high[2] > 512) return {};
    const bool tunnel =
        box.low[0] < 705 && box.high[0] > 695 && box.low[2] < 105 && box.high[2] > 95;
    const bool one = box.high[1] <= 256 || box.low[1] >= 256;
    if (tunnel || !one) return {};
    return box.low[1] < 256 ? 1 : 2;
  }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    for (int z = 0; z < side; ++z) {
      for (int y = 0; y < side; ++y) {
        for (int x = 0; x < side; ++x) *values++ = at(low[0] + x, low[1] + y, low[2] + z);
      }
    }
  }
};

TEST(VoxelLanes, GoByCubesOfOneValueAtEveryLevel) {
  const auto grid = VoxelGrid::make(Carved());
  EXPECT_EQ(grid->count(), 1024ull * 1024 * 512 - 9ull * 9 * 1024);
  EXPECT_LT(grid->bytes(), 200000u);
  for (int k = 0; k < 4000; ++k) {
    const RandomKey key{.seed = 2, .pixel = static_cast<std::uint64_t>(k)};
    const auto near = [&](std::uint32_t what, int about) {
      return k % 2 == 0 ? static_cast<int>(random_below(key, what, 1024))
                        : about - 8 + static_cast<int>(random_below(key, what, 16));
    };
    const VoxelCell cell{near(0, 700), near(1, 256), near(2, 100)};
    ASSERT_EQ(grid->at(cell), Carved::at(cell[0], cell[1], cell[2]));
  }
  const auto solid = Voxels(grid).compile({});
  LaneBatch<double> lanes;
  lanes.size = 4;
  lanes.far_limit = 5000;
  // Down on the top, along the tunnel, across it from within, and from within what is full.
  aim(lanes, 0, {100.25, 700.5, 900}, {0, 0, -1});
  aim(lanes, 1, {700.5, -20, 100.5}, {0, 1, 0});
  aim(lanes, 2, {700.5, 300.5, 100.5}, {1, 0, 0});
  aim(lanes, 3, {300.5, 100.5, 200.5}, {0, 0, 1});
  const HitBatch<double> hits = solid->nearest_hit(lanes, {});
  EXPECT_EQ(hits.t[0], 900 - 512);
  EXPECT_EQ(hits.item[0], 2u);
  EXPECT_EQ(hits.ending[1], Ending::escaped);
  EXPECT_EQ(hits.t[2], 705 - 700.5);
  EXPECT_EQ(hits.t[3], 512 - 200.5);
  EXPECT_LT(hits.steps[3], 20u);
  EXPECT_NEAR(solid->closest({300.5, 100.5, 200.5})->distance, 100.5, 1e-9);
  EXPECT_NEAR(solid->closest({700.5, 500, 100.5})->distance, 4.5, 1e-9);
  EXPECT_NEAR(solid->closest({500, 500, 2000})->distance, 2000 - 512, 1e-9);

  // Written, mapped, edited: the same.
  const TemporaryFolder folder;
  io::write_voxels(folder.path() + "/c.voxels", *grid);
  const auto mapped = io::map_voxels(folder.path() + "/c.voxels");
  EXPECT_EQ(mapped->count(), grid->count());
  VoxelEditor editor(mapped);
  editor.set({512, 512, 300}, 0);
  EXPECT_EQ(editor.grid()->count(), grid->count() - 1);
  editor.set({512, 512, 300}, 2);
  EXPECT_EQ(editor.grid()->count(), grid->count());
  EXPECT_EQ(editor.grid()->bytes(), grid->bytes()) << "what is of one value again is kept as that";
}

TEST(VoxelLanes, MeetTheGridTheyWereGivenWhileItIsEdited) {
  const auto grid = VoxelGrid::make(filled({200, 200, 64}, Filling::ground, 30, 6));
  const auto solid = Voxels(grid).compile({});
  LaneBatch<float> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = 1000;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const RandomKey key{.seed = 8, .pixel = i};
    aim(lanes, i, {200 * random_uniform(key, 0), 200 * random_uniform(key, 1), 100},
        Vec3d(0.3, 0.2, -1).normalized());
  }
  const HitBatch<float> before = solid->nearest_hit(lanes, {});
  std::thread other([&] {
    VoxelEditor editor(grid);
    for (int k = 0; k < effort(400); ++k) {
      const RandomKey key{.seed = 9, .pixel = static_cast<std::uint64_t>(k)};
      editor.fill_ball({200 * random_uniform(key, 0), 200 * random_uniform(key, 1), 25}, 9,
                       static_cast<std::uint32_t>(k % 3));
      if (k % 7 == 0) editor.undo();
    }
  });
  for (int k = 0; k < effort(200); ++k) {
    const HitBatch<float> now = solid->nearest_hit(lanes, {});
    for (std::size_t i = 0; i < lanes.size; ++i) ASSERT_EQ(now.t[i], before.t[i]);
  }
  other.join();
}

TEST(VoxelLanes, MeetSmallCubesBeyondTheirStartAlone) {
  // With detail cubes stand for their voxels, but none that a lane starts in or at.
  const auto solid =
      Voxels(VoxelGrid::make(filled({128, 128, 128}, Filling::half, 30, 6))).compile({});
  Budget budget;
  budget.voxels.detail = 1;
  int met = 0;
  for (int round = 0; round < effort(40); ++round) {
    LaneBatch<float> lanes;
    lanes.size = lanes.capacity;
    lanes.far_limit = 1000;
    lanes.any_start = true;
    lanes.spread = 0.2;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const RandomKey key{.seed = 8, .pixel = i, .sample = static_cast<std::uint32_t>(round)};
      const Vec3d to(128 * random_uniform(key, 0), 128 * random_uniform(key, 1),
                     128 * random_uniform(key, 2));
      aim(lanes, i, {-300, 60, 60}, (to - Vec3d(-300, 60, 60)).normalized());
      // On faces of bricks, where rounding decides.
      lanes.start[i] = 300 + 4 * static_cast<float>(random_below(key, 3, 32));
    }
    const HitBatch<float> hits = solid->nearest_hit(lanes, budget);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (hits.ending[i] != Ending::hit) continue;
      ++met;
      EXPECT_GT(hits.t[i], lanes.start[i]);
    }
  }
  EXPECT_GT(met, 100);
}

TEST(VoxelLanes, OfColorsAloneAreGlassAsAWhole) {
  VoxelPalette colors;
  colors.direct = true;
  DenseVoxels grid({10, 10, 10}, colors);
  for (int z = 2; z < 8; ++z) {
    for (int y = 2; y < 8; ++y) {
      for (int x = 2; x < 8; ++x) grid.at(x, y, z) = 1 + 0x8090a0;
    }
  }
  const auto solid = Voxels(VoxelGrid::make(grid), 0).compile({.materials = 1, .bends = {true}});
  const double place[3] = {0, 5, 5};
  double value = 0;
  DistanceBatch batch;
  batch.count = 1;
  batch.x = place;
  batch.y = place + 1;
  batch.z = place + 2;
  batch.value = &value;
  solid->measure(batch);
  EXPECT_EQ(value, 2);
  batch.opaque_only = true;
  solid->measure(batch);
  EXPECT_GT(value, 1e6) << "what bends light is not there";
  LaneBatch<double> lanes;
  lanes.size = 1;
  lanes.far_limit = 100;
  aim(lanes, 0, {5, 5, 5}, {1, 0, 0});
  const HitBatch<double> hits = solid->nearest_hit(lanes, {});
  EXPECT_EQ(hits.t[0], 3);
  EXPECT_EQ(hits.item[0], 0x8090a0u);
}

TEST(VoxelLanes, KnowWhichWayDistancesGrow) {
  DenseVoxels source = filled({30, 30, 30}, Filling::sparse, 2, 12);
  VoxelPalette palette = source.palette();
  palette.kinds[0].material = 0;
  palette.kinds[1].material = 1;
  DenseVoxels grid({30, 30, 30}, palette);
  grid.cells = source.cells;
  Voxels part(VoxelGrid::make(grid));
  part.turn = {0.3, 0.2, -0.9};
  part.cell = 0.2;
  part.at = {1, 2, 3};
  // The second is of glass: where that is asked it is not there.
  const auto solid = part.compile({.materials = 2, .plain = 0, .bends = {false, true}});
  DenseVoxels opaque({30, 30, 30}, palette);
  for (std::size_t k = 0; k < grid.cells.size(); ++k) {
    opaque.cells[k] = grid.cells[k] == 1 ? 1 : 0;
  }
  Voxels rest = part;
  rest.grid = VoxelGrid::make(opaque);
  const auto without = rest.compile({.materials = 2});
  for (std::size_t i = 0; i < static_cast<std::size_t>(effort(300)); ++i) {
    const RandomKey key{.seed = 77, .pixel = i};
    const Vec3d place(1 + 8 * (random_uniform(key, 0) - 0.2),
                      2 + 8 * (random_uniform(key, 1) - 0.2),
                      3 + 8 * (random_uniform(key, 2) - 0.2));
    const auto measured = [](const Solid& of, const Vec3d& at, Vec3d* slope, bool opaque_only) {
      double value = 0;
      Vec3d grows;
      DistanceBatch batch;
      batch.count = 1;
      batch.x = &at[0];
      batch.y = &at[1];
      batch.z = &at[2];
      batch.value = &value;
      batch.slope_x = &grows[0];
      batch.slope_y = &grows[1];
      batch.slope_z = &grows[2];
      batch.opaque_only = opaque_only;
      of.measure(batch);
      if (slope != nullptr) *slope = grows;
      return value;
    };
    Vec3d slope;
    const double value = measured(*solid, place, &slope, false);
    EXPECT_NEAR(slope.norm(), 1, 1e-9);
    constexpr double step = 1e-6;
    // Along the slope it grows by as much; elsewhere by no more.
    EXPECT_NEAR(measured(*solid, place + step * slope, nullptr, false) - value, step, 1e-9);
    for (int axis = 0; axis < 3; ++axis) {
      const Vec3d beside = place + 0.05 * Vec3d::Unit(axis);
      EXPECT_LE(std::abs(measured(*solid, beside, nullptr, false) - value), 0.05 + 1e-9);
    }
    EXPECT_NEAR(measured(*solid, place, nullptr, true), measured(*without, place, nullptr, false),
                1e-9);
  }
}

}  // namespace
}  // namespace photonlane
