#pragma once

#include <vector>

#include "photonlane/base/vector.hpp"
#include "voxels/voxel_tree.hpp"

namespace photonlane {

/// What is nearest to a place, in cells from the grid's corner.
struct NearestVoxel {
  bool found = false;
  double distance = 0;      ///< cells, below 0 where the place is in a voxel
  Vec3d place{0, 0, 0};     ///< of the surface
  std::uint32_t value = 0;  ///< of the voxel whose surface it is
};

/// The nearest surface between voxels that count and those that do not. `counts` says by value
/// which do; empty: all.
NearestVoxel nearest_voxel(const VoxelTree& tree, const Vec3d& place,
                           const std::vector<bool>& counts);

}  // namespace photonlane
