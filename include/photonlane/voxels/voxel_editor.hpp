#pragma once

/// Changes grids of voxels. What a change does not touch is shared with the grid before.
///
///   VoxelEditor editor(garden);
///   const std::uint32_t brick = editor.kind({.color = 0xa0522d});
///   editor.fill({{0, 0, 0}, {64, 64, 2}}, brick);
///   editor.clear_ball({32, 32, 2}, 6);
///   const auto changed = editor.grid();  // garden is as it was

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "photonlane/base/vector.hpp"
#include "photonlane/field/field.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

class ChunkMaker;
class VoxelBrush;
struct VoxelBranch;

struct VoxelEdit {
  VoxelCell cell;
  std::uint32_t value = 0;  ///< 0 empties it
};

/// Not for several threads at once; grids it gave are, while it goes on.
class VoxelEditor {
 public:
  /// Steps that can be undone at most.
  static constexpr std::size_t most_steps = 256;

  explicit VoxelEditor(std::shared_ptr<const VoxelGrid> grid);
  /// Throws Error (input) for sizes and palettes that cannot be.
  VoxelEditor(const VoxelCell& size, VoxelPalette palette);
  ~VoxelEditor();

  const VoxelCell& size() const;
  const VoxelPalette& palette() const;
  /// The value of a kind; a new one where there is none like it. Throws Error (input) where 65,535
  /// are there, and for values that are colors.
  std::uint32_t kind(const VoxelKind& kind);
  std::uint32_t at(const VoxelCell& cell) const;

  // What lies outside of the grid is left out. Each of these is a step, and throws Error (input)
  // for values that the palette does not have.
  void set(const VoxelCell& cell, std::uint32_t value);
  void set(std::span<const VoxelEdit> edits);
  void fill(const VoxelBox& box, std::uint32_t value);
  /// Cells whose middles lie in a ball; in cells, cell (0, 0, 0) from 0 to 1.
  void fill_ball(const Vec3d& center, double radius, std::uint32_t value);
  /// Cells whose middles lie in a field, a meter of which is a cell.
  void fill_field(const Field& field, std::uint32_t value);
  void clear(const VoxelBox& box) { fill(box, 0); }
  void clear_ball(const Vec3d& center, double radius) { fill_ball(center, radius, 0); }
  void clear_field(const Field& field) { fill_field(field, 0); }

  /// A box as a grid of its own. Throws Error (input) for an empty one.
  std::shared_ptr<const VoxelGrid> copy(const VoxelBox& box) const;
  /// Puts a grid's voxels where their lowest corner is `low`; with `empty` also what is empty of
  /// it. Kinds come along. Throws Error (input) where they are too many, or one of both grids has
  /// values that are colors and the other not.
  void paste(const VoxelGrid& from, const VoxelCell& low, bool empty = false);

  /// Back to before the last step, and forth again; false: there is none.
  bool undo();
  bool redo();

  /// As it is now. Costs nothing.
  std::shared_ptr<const VoxelGrid> grid() const;

 private:
  void remember(std::shared_ptr<const VoxelBranch> root);
  void paint(const VoxelBrush& brush, const VoxelBox& box);
  void change(const VoxelBrush& brush, const VoxelBox& box);
  void check_value(std::uint32_t value) const;
  ChunkMaker& maker();

  std::unique_ptr<VoxelTree> tree_;
  std::unique_ptr<ChunkMaker> maker_;
  std::vector<std::shared_ptr<const VoxelBranch>> before_, after_;
};

}  // namespace photonlane
