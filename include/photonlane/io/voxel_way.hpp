#pragma once

/// A lane's way through a tree of voxels, in words and as a picture.

#include <string>
#include <vector>

#include "photonlane/io/picture.hpp"
#include "photonlane/voxels/voxel_visits.hpp"

namespace photonlane::io {

/// A line for each cube, nodes indented by how deep they lie.
std::string visits_text(const std::vector<VoxelVisit>& visits);

/// The upright slice of the grid that the lane lies in: cubes it looked into and passed, by their
/// sizes, the lane, and what it met.
Picture visits_picture(const Voxels& part, const std::vector<VoxelVisit>& visits, const Vec3d& from,
                       const Vec3d& way, double length);

}  // namespace photonlane::io
