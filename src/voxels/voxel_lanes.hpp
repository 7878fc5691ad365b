#pragma once

#include <cstddef>
#include <cstdint>

#include "photonlane/voxels/voxel_visits.hpp"
#include "voxels/voxel_tree.hpp"

namespace photonlane {

/// Ways slower than this, in cells a meter, pass no face.
inline constexpr double slowest_way = 1e-300;

/// Lanes and what they meet: one array a quantity. Places are in cells, from the grid's corner;
/// ways are cells a meter, of any length. What a lane meets lies beyond `start` and before `limit`,
/// both in meters.
struct VoxelLanes {
  static constexpr std::size_t capacity = 128;

  std::size_t count = 0;
  /// Where not null, what the lane looks into and passes goes there; for one lane.
  std::vector<VoxelVisit>* visits = nullptr;
  bool together = false;  ///< neighbors go the same way
  bool single = true;     ///< distances are compared as floats, as the lane will be told them
  /// Cells for a meter along the lane: nodes smaller than this are not gone into. 0: all are.
  double detail = 0;
  alignas(64) double from[3][capacity];
  alignas(64) double way[3][capacity];
  alignas(64) double start[capacity];
  alignas(64) double limit[capacity];
  /// From where on they are looked at: nothing lies before. At least `start`.
  alignas(64) double lead[capacity];

  bool met[capacity];
  double t[capacity];
  std::int8_t axis[capacity];   ///< of the face that was met
  bool leaving[capacity];       ///< what was met was met from inside
  VoxelCell cell[capacity];     ///< that was met; of a node, its lowest
  std::int8_t level[capacity];  ///< of what was met: 0, or of a node that stands for its cells
  std::uint32_t value[capacity];
  std::uint32_t mean[capacity];   ///< of a node
  std::uint32_t steps[capacity];  ///< nodes that were looked into
};

/// Of values, which are of one body: a lane that starts in one meets where another begins. 0: all
/// of 0 are one.
struct VoxelBodies {
  const std::uint32_t* of_value = nullptr;  ///< by value; null: all are of body 0
};

/// Meets voxels: the first of each lane. A lane passes the faces of cells in the order of their
/// distances; where two are equally far it passes the one across x first, then y, then z. Face k of
/// an axis lies at (k - from) / way, in doubles, never added up (Amanatides and Woo, "A Fast Voxel
/// Traversal Algorithm for Ray Tracing", 1987, with numbered faces): quotients that are equal are
/// rounded to the same number. What is found is therefore what a walk from cell to cell finds. With
/// `any` values are not told.
void meet_voxels(const VoxelTree& tree, const VoxelBox& bounds, const VoxelBodies& bodies, bool any,
                 VoxelLanes& lanes);

}  // namespace photonlane
