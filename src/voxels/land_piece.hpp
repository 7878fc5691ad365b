#pragma once

#include <compare>

#include "photonlane/voxels/voxel_land.hpp"
#include "voxels/voxel_build.hpp"

namespace photonlane {

/// A piece of a land that is made at once: 64 x 64 x 64 cubes of 4^coarseness cells a side.
struct LandPiece {
  int coarseness = 0;
  LandCell at{0, 0, 0};  ///< its lowest cell, in pieces

  std::int64_t step() const { return std::int64_t{1} << (2 * coarseness); }
  std::int64_t side() const { return chunk_side * step(); }
  /// Of the tree's node that it is.
  int level() const { return chunk_level + coarseness; }
  LandCube cube() const { return {{at[0] * side(), at[1] * side(), at[2] * side()}, side()}; }
  /// Those that it consists of, one less coarse.
  LandPiece child(unsigned which) const {
    return {coarseness - 1,
            {4 * at[0] + (which & 3), 4 * at[1] + (which >> 2 & 3), 4 * at[2] + (which >> 4)}};
  }
  auto operator<=>(const LandPiece&) const = default;
};

/// Throws Error (input) for values beyond `largest`.
VoxelPart make_piece(const LandSource& source, const LandPiece& piece, const VoxelLight& light,
                     std::uint32_t largest, ChunkMaker& maker);

/// Bytes that it takes, what is around the voxels among them.
std::size_t part_bytes(const VoxelPart& part);

}  // namespace photonlane
