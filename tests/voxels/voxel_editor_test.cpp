// Edits of voxels against an array of all cells, and grids that share what did not change.

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/planes.hpp"
#include "voxels/sources.hpp"

namespace photonlane {
namespace {

using namespace test;

using ::testing::HasSubstr;

void expect_equal(const VoxelGrid& grid, const DenseVoxels& dense) {
  const VoxelCell size = dense.size();
  std::uint64_t count = 0;
  for (int z = 0; z < size[2]; ++z) {
    for (int y = 0; y < size[1]; ++y) {
      for (int x = 0; x < size[0]; ++x) {
        ASSERT_EQ(grid.at({x, y, z}), dense.at(x, y, z)) << x << " " << y << " " << z;
        count += dense.at(x, y, z) != 0 ? 1 : 0;
      }
    }
  }
  ASSERT_EQ(grid.count(), count);
}

TEST(VoxelEdits, LeaveWhatAnArrayHas) {
  const VoxelCell size{100, 50, 70};
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(effort(4)); ++seed) {
    DenseVoxels dense = filled(size, seed % 2 == 0 ? Filling::ground : Filling::sparse, 20, seed);
    VoxelEditor editor(VoxelGrid::make(dense));
    std::vector<std::vector<std::uint32_t>> before;
    for (int step = 0; step < 40; ++step) {
      before.push_back(dense.cells);
      const auto draw = [&](std::uint32_t what, int below) {
        return static_cast<int>(
            random_below({.seed = seed, .pixel = static_cast<std::uint64_t>(step)}, what,
                         static_cast<std::uint32_t>(below)));
      };
      const VoxelCell cell{draw(0, 170) - 10, draw(1, 90) - 10, draw(2, 110) - 10};
      const auto value = static_cast<std::uint32_t>(draw(3, 21));
      const auto each = [&](const auto& change) {
        for (int z = 0; z < size[2]; ++z) {
          for (int y = 0; y < size[1]; ++y) {
            for (int x = 0; x < size[0]; ++x) change(x, y, z, dense.at(x, y, z));
          }
        }
      };
      switch (draw(4, 6)) {
        case 0:
          editor.set(cell, value);
          if (cell[0] >= 0 && cell[1] >= 0 && cell[2] >= 0 && cell[0] < size[0] &&
              cell[1] < size[1] && cell[2] < size[2]) {
            dense.at(cell[0], cell[1], cell[2]) = value;
          }
          break;
        case 1: {
          const VoxelBox box{cell,
                             {cell[0] + draw(5, 80), cell[1] + draw(6, 80), cell[2] + draw(7, 80)}};
          editor.fill(box, value);
          each([&](int x, int y, int z, std::uint32_t& at) {
            if (x >= box.low[0] && y >= box.low[1] && z >= box.low[2] && x < box.high[0] &&
                y < box.high[1] && z < box.high[2]) {
              at = value;
            }
          });
          break;
        }
        case 2: {
          const Vec3d center(cell[0] + 0.25, cell[1], cell[2] + 0.5);
          const double radius = draw(5, 40);
          editor.fill_ball(center, radius, value);
          each([&](int x, int y, int z, std::uint32_t& at) {
            const Vec3d off = Vec3d(x + 0.5, y + 0.5, z + 0.5) - center;
            if (off.squaredNorm() <= radius * radius) at = value;
          });
          break;
        }
        case 3: {
          const Field brush =
              field::place(Vec3d(cell[0], cell[1], cell[2]), field::torus(18, 7), {0.4, 0.1, 0});
          editor.fill_field(brush, value);
          const CompiledField field(brush);
          each([&](int x, int y, int z, std::uint32_t& at) {
            if (field.distance({x + 0.5, y + 0.5, z + 0.5}) < 0) at = value;
          });
          break;
        }
        case 4: {
          const VoxelBox box{{20, 10, 5}, {20 + 1 + draw(5, 40), 40, 37}};
          const auto part = editor.copy(box);
          const bool empty = draw(6, 2) == 0;
          editor.paste(*part, cell, empty);
          const std::vector<std::uint32_t> was = dense.cells;
          DenseVoxels from(size, dense.palette());
          from.cells = was;
          each([&](int x, int y, int z, std::uint32_t& at) {
            const VoxelCell own{x - cell[0] + box.low[0], y - cell[1] + box.low[1],
                                z - cell[2] + box.low[2]};
            for (std::size_t k = 0; k < 3; ++k) {
              if (own[k] < box.low[k] || own[k] >= box.high[k]) return;
            }
            const std::uint32_t put = from.at(own[0], own[1], own[2]);
            if (put != 0 || empty) at = put;
          });
          break;
        }
        default: {
          std::vector<VoxelEdit> edits;
          for (std::uint32_t k = 0; k < 200; ++k) {
            edits.push_back({{draw(100 + 4 * k, 160) - 5, draw(101 + 4 * k, 80) - 5,
                              draw(102 + 4 * k, 100) - 5},
                             static_cast<std::uint32_t>(draw(103 + 4 * k, 21))});
          }
          editor.set(edits);
          for (const VoxelEdit& edit : edits) {
            const auto [x, y, z] = edit.cell;
            if (x >= 0 && y >= 0 && z >= 0 && x < size[0] && y < size[1] && z < size[2]) {
              dense.at(x, y, z) = edit.value;
            }
          }
        }
      }
      if (step % 8 == 7) expect_equal(*editor.grid(), dense);
    }
    expect_equal(*editor.grid(), dense);
    // All the way back, and half of it forth.
    for (int step = 39; step >= 0; --step) {
      ASSERT_TRUE(editor.undo());
      if (step % 13 != 0) continue;
      DenseVoxels old(size, dense.palette());
      old.cells = before[static_cast<std::size_t>(step)];
      expect_equal(*editor.grid(), old);
    }
    EXPECT_FALSE(editor.undo());
    for (int step = 0; step < 20; ++step) ASSERT_TRUE(editor.redo());
    DenseVoxels half(size, dense.palette());
    half.cells = before[20];
    expect_equal(*editor.grid(), half);
    editor.set({0, 0, 0}, 3);
    EXPECT_FALSE(editor.redo());
  }
}

TEST(VoxelEdits, ShareWhatDidNotChange) {
  const DenseVoxels dense = filled({256, 256, 64}, Filling::ground, 20, 4);
  const auto first = VoxelGrid::make(dense);
  VoxelEditor editor(first);
  editor.set({100, 100, 60}, 3);
  const auto second = editor.grid();
  EXPECT_EQ(first->at({100, 100, 60}), 0u);
  EXPECT_EQ(second->at({100, 100, 60}), 3u);
  EXPECT_EQ(second->count(), first->count() + 1);
  EXPECT_NEAR(static_cast<double>(second->bytes()), static_cast<double>(first->bytes()), 200);
  // What an edit leads back to is held as it was made.
  editor.set({100, 100, 60}, 0);
  EXPECT_EQ(editor.grid()->bytes(), first->bytes());
}

TEST(VoxelEdits, TakeAsManyKindsAsThereMayBe) {
  VoxelEditor editor({64, 64, 64}, kinds_of(250));
  DenseVoxels dense({64, 64, 64}, kinds_of(250));
  for (int k = 0; k < 250; ++k) {
    const VoxelCell cell{k % 64, k / 64, 5};
    editor.set(cell, static_cast<std::uint32_t>(k + 1));
    dense.at(cell[0], cell[1], cell[2]) = static_cast<std::uint32_t>(k + 1);
  }
  // The 256th takes two bytes from then on.
  for (int k = 0; k < 20; ++k) {
    const std::uint32_t value = editor.kind({.material = k, .color = 0xffffff});
    EXPECT_EQ(value, static_cast<std::uint32_t>(251 + k));
    EXPECT_EQ(editor.kind({.material = k, .color = 0xffffff}), value);
    editor.set({k, 40, 5}, value);
    dense.at(k, 40, 5) = value;
  }
  expect_equal(*editor.grid(), dense);
  EXPECT_THAT(refusal([&] { editor.set({0, 0, 0}, 271); }), HasSubstr("271, expected 270"));
  // Kinds come along with what is pasted.
  VoxelEditor other({64, 64, 64}, kinds_of(1));
  other.paste(*editor.grid(), {0, 0, 0});
  EXPECT_EQ(other.palette().kinds[other.at({3, 40, 5}) - 1].material, 3);
  VoxelPalette colors;
  colors.direct = true;
  VoxelEditor painted({8, 8, 8}, colors);
  painted.set({1, 1, 1}, 1 + 0x336699);
  EXPECT_EQ(painted.at({1, 1, 1}), 1u + 0x336699);
  EXPECT_THAT(refusal([&] { painted.kind({}); }), HasSubstr("colors"));
  EXPECT_THAT(refusal([&] { painted.paste(*editor.grid(), {0, 0, 0}); }), HasSubstr("colors"));
}

TEST(VoxelEdits, ShowInTheNextFrame) {
  const auto frame_of = [&](std::shared_ptr<const VoxelGrid> grid) {
    Scene one;
    one.room().add(Voxels(std::move(grid)));
    one.room().fog = {.color = {0, 0, 0}, .start = 1e6, .end = 2e6};
    Budget budget;
    budget.frame = {32, 20, 1};
    return render(compile(one), Camera::look_at({-20, -30, 40}, {16, 16, 4}, degrees(50)), budget,
                  {});
  };
  VoxelEditor editor({32, 32, 32}, kinds_of(2));
  editor.fill({{0, 0, 0}, {32, 32, 4}}, 1);
  const Frame before = frame_of(editor.grid());
  editor.fill_ball({16, 16, 8}, 6, 2);
  const Frame after = frame_of(editor.grid());
  editor.undo();
  const Frame undone = frame_of(editor.grid());
  EXPECT_GT(compare(before, after).rmse, 0.01);
  EXPECT_EQ(compare(before, undone).rmse, 0);
}

}  // namespace
}  // namespace photonlane
