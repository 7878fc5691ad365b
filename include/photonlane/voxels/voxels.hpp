#pragma once

/// A grid of small cubes that stands in a room.
///
///   Voxels garden(VoxelGrid::make(TerraceSource({.side = 512})));
///   garden.cell = 0.1;
///   garden.at = {-25.6, 0, 0};
///   scene.room().add(garden);

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/lane/solid.hpp"
#include "photonlane/voxels/voxel_grid.hpp"
#include "photonlane/voxels/voxel_land.hpp"

namespace photonlane {

/// Which way the surface of a voxel faces.
enum class VoxelNormals {
  faces,  ///< as the face that was met
  smooth  ///< away from what is set in the neighborhood, as if it were round
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<VoxelNormals>{"faces", "smooth"};

/// A grid of a room, as it is described; add it to a Room.
struct Voxels final : SolidPart {
  std::shared_ptr<const VoxelGrid> grid;
  /// Instead of a grid: voxels without end, of which those around the eye are there.
  std::shared_ptr<VoxelLand> land;
  double cell = 1;        ///< meters: a side of a voxel
  Vec3d at{0, 0, 0};      ///< of the grid's lowest corner, or a land's cell (0, 0, 0)
  Vec3d turn{0, 0, 0};    ///< radians about x, then y, then z, about that corner
  Vec3d copies{1, 1, 1};  ///< side by side along each of the grid's axes
  VoxelNormals normals = VoxelNormals::faces;
  int material = -1;  ///< of voxels without their own; -1: the plain gray of what has none
  /// Which materials of the scene those numbers are that kinds have; without one, the numbers are
  /// the scene's.
  std::vector<int> materials;
  /// Where a scene file has the grid from, as it stands there; written back as it is.
  std::string source_text;
  bool own_place = false;  ///< that source says where it stands,
  bool own_cell = false;   ///< and how large a cell is

  Voxels() = default;
  explicit Voxels(std::shared_ptr<const VoxelGrid> all, int of = -1)
      : grid(std::move(all)), material(of) {}
  explicit Voxels(std::shared_ptr<VoxelLand> all, int of = -1)
      : land(std::move(all)), material(of) {}

  /// Of a land, what is around an eye, as a grid; see VoxelLand::around(). Of a grid, itself.
  Voxels seen_from(const Vec3d& eye, bool wait = true) const;

  std::string_view kind() const override { return "voxels"; }
  void use_materials(const std::function<void(int)>& use) const override;
  /// Throws Error (input) for no grid and no land, or both, copies of a land, values out of range,
  /// and materials that are not there.
  std::shared_ptr<const Solid> compile(const SolidContext& context) const override;
};
std::span<const Knob<Voxels>> voxels_knobs();

}  // namespace photonlane
