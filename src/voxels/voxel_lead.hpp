#pragma once

#include <cstddef>

#include "voxels/voxel_lanes.hpp"

namespace photonlane {

/// How far neighboring lanes, those from `first` up to `last`, may go before one of them can meet
/// anything, in meters: they are taken as one wedge, and what of the tree it touches first is
/// looked for down to cubes of four cells (as with cones in Aaltonen, "GPU-based clay simulation
/// and ray-tracing tech in Claybook", 2018, here by intervals). 0 where they go too different ways.
double lead_lanes(const VoxelTree& tree, const VoxelLanes& lanes, std::size_t first,
                  std::size_t last);

}  // namespace photonlane
