#pragma once

/// A terraced garden on a hillside, in voxels: demo data of any size, the same for the same seed.
///
///   Voxels garden(VoxelGrid::make(TerraceSource({.side = 1024})));

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

struct TerraceRecipe {
  std::int64_t side = 512;    ///< cells along x and y
  std::int64_t height = 160;  ///< cells up
  std::int64_t seed = 1;
  std::int64_t terraces = 9;  ///< from the foot of the hill, at low y, to its top
  double plants = 0.5;        ///< share of places for bushes, trees and flowers that have one
  double caves = 0.3;         ///< how much of the hill under the terraces is hollow
};
std::span<const Knob<TerraceRecipe>> terrace_recipe_knobs();

/// Voxels of it: walls of stone, grass, beds, a path with lanterns and steps, ponds, plants, caves.
/// All kinds have colors.
class TerraceSource final : public VoxelSource {
 public:
  /// Numbers of materials: those of lanterns and water, -1 for none. Throws Error (input) for
  /// values out of range.
  explicit TerraceSource(const TerraceRecipe& recipe, int lantern_material = -1,
                         int water_material = -1);
  ~TerraceSource() override;

  VoxelCell size() const override;
  VoxelPalette palette() const override;
  std::optional<std::uint32_t> known(const VoxelBox& box) const override;
  void read(const VoxelCell& low, std::uint32_t* values) const override;

  /// Middles of the lanterns along the path, in cells.
  std::vector<Vec3d> lanterns() const;
  /// The lowest empty cell over the ground of a column.
  int ground(int x, int y) const;

 private:
  struct Garden;
  std::unique_ptr<const Garden> garden_;
  int lantern_material_, water_material_;
};

}  // namespace photonlane
