#pragma once

/// Grids of small cubes, most of them empty or buried, kept in a sparse tree.
///
///   class Ball final : public VoxelSource { ... };
///   const auto grid = VoxelGrid::make(Ball(2048));
///   scene.room().add(Voxels(grid));

#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "photonlane/base/bounds.hpp"

namespace photonlane {

/// A cell of a grid, or how many there are along x, y and z (up).
using VoxelCell = std::array<std::int32_t, 3>;

/// Cells from `low` up to, but not including, `high`.
struct VoxelBox {
  VoxelCell low{0, 0, 0};
  VoxelCell high{0, 0, 0};
  bool empty() const { return high[0] <= low[0] || high[1] <= low[1] || high[2] <= low[2]; }
};

/// What voxels of one value are: of a material, of a color, or both.
struct VoxelKind {
  static constexpr std::uint32_t no_color = 0xffffffffu;
  int material = -1;               ///< index of the scene's; -1: what the part says
  std::uint32_t color = no_color;  ///< 0xRRGGBB in sRGB, instead of the material's
  bool operator==(const VoxelKind&) const = default;
};

/// How values say what a voxel is. 0 is empty everywhere.
struct VoxelPalette {
  /// Value n is kinds[n - 1]; 65,535 at most.
  std::vector<VoxelKind> kinds;
  /// Value n is the color n - 1, 0xRRGGBB in sRGB; there are no kinds.
  bool direct = false;

  std::uint32_t largest() const {
    return direct ? 0x1000000u : static_cast<std::uint32_t>(kinds.size());
  }
  bool operator==(const VoxelPalette&) const = default;
};

/// Where voxels are from. Asked from several threads at once.
class VoxelSource {
 public:
  /// A cube of so many cells along each side is read at once, aligned to as many.
  static constexpr int side = 16;
  static constexpr std::size_t block = std::size_t{side} * side * side;

  virtual ~VoxelSource() = default;
  /// Cells along each axis, 65,536 at most.
  virtual VoxelCell size() const = 0;
  virtual VoxelPalette palette() const = 0;
  /// The value of all cells of a box, where that is known without reading them. Boxes are cubes of
  /// 16, 64, 256 ... cells; what lies outside of size() does not matter.
  virtual std::optional<std::uint32_t> known(const VoxelBox& box) const;
  /// Values of the block with that lowest cell, x fastest, then y. What lies outside of size() is
  /// not looked at.
  virtual void read(const VoxelCell& low, std::uint32_t* values) const = 0;
};

struct VoxelGridOptions {
  /// Keep equal parts once: cubes of 64 cells, and of 16 within one of 64.
  bool shared = false;
  int threads = 0;  ///< 0: all of the machine
  /// Throws Error (memory) where the grid gets larger.
  std::size_t memory_limit = std::size_t{16} << 30;
  /// Told how much is done, 0 to 1; false stops it: throws Error (cancelled).
  std::function<bool(double)> progress;
};

/// What making a grid took.
struct VoxelGridCost {
  double seconds = 0;
  std::uint64_t blocks_read = 0;  ///< of 16 cells a side
};

struct VoxelTree;

/// A grid as it is kept: a tree of nodes with 4 x 4 x 4 children, each with a bit that says whether
/// something is there (a sparse tree as of Museth, "VDB: High-Resolution Sparse Volumes with
/// Dynamic Topology", 2013, with Laine and Karras' masks, "Efficient Sparse Voxel Octrees", 2010).
/// Immutable; a copy shares everything.
class VoxelGrid {
 public:
  /// Throws Error (input) for sizes and values that cannot be, and as the options say.
  static std::shared_ptr<const VoxelGrid> make(const VoxelSource& source,
                                               const VoxelGridOptions& options = {});
  explicit VoxelGrid(VoxelTree tree, const VoxelGridCost& cost = {});
  ~VoxelGrid();

  const VoxelCell& size() const;
  const VoxelPalette& palette() const;
  /// 0 outside of the grid.
  std::uint32_t at(const VoxelCell& cell) const;
  /// How many voxels are not empty.
  std::uint64_t count() const;
  /// Holds all that are not empty, and nothing around; empty where there are none.
  VoxelBox bounds() const;
  /// What the voxels take, without what is kept once for all of them.
  std::size_t bytes() const;
  std::size_t memory_bytes() const;
  const VoxelGridCost& cost() const { return cost_; }
  /// Of what the voxels are: equal for grids of equal trees, else almost surely not. Goes over all.
  std::uint64_t hash() const;

  /// The same for the library's own use.
  const VoxelTree& tree() const { return *tree_; }

 private:
  std::unique_ptr<const VoxelTree> tree_;
  VoxelGridCost cost_;
};

}  // namespace photonlane
