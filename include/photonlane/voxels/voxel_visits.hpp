#pragma once

/// The way of a lane through the tree of a grid, cube by cube.
///
///   for (const VoxelVisit& visit : visit_voxels(garden, eye, way, 100)) {
///     printf("%d cells a side at %.2f m\n", visit.side, visit.t);
///   }

#include <cstdint>
#include <vector>

#include "photonlane/voxels/voxels.hpp"

namespace photonlane {

enum class VoxelVisitKind {
  opened,  ///< a node that was looked into
  passed,  ///< a cube in which nothing lies in the lane's way
  met      ///< what the lane ends at
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<VoxelVisitKind>{"opened", "passed",
                                                                              "met"};

struct VoxelVisit {
  VoxelVisitKind kind = VoxelVisitKind::opened;
  VoxelCell low{0, 0, 0};  ///< the cube's lowest cell
  std::int32_t side = 1;   ///< cells
  double t = 0;            ///< meters along the lane, where it comes to the cube
};

/// What a lane of a unit way that starts at a place of the room looks into, in its order, up to
/// what it meets or so many meters; the first copy alone. Throws Error (input) as Voxels::compile
/// does.
std::vector<VoxelVisit> visit_voxels(const Voxels& part, const Vec3d& from, const Vec3d& way,
                                     double length);

}  // namespace photonlane
