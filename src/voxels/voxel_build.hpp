#pragma once

#include <array>
#include <memory>

#include "voxels/chunk_maker.hpp"

namespace photonlane {

/// What stands for a child of a branch: nothing, one value, or more than that.
struct VoxelPart {
  std::uint32_t value = 0;  ///< of all of it, where the others are null
  std::shared_ptr<const VoxelBranch> branch{};
  std::shared_ptr<const VoxelChunk> chunk{};
  bool single() const { return branch == nullptr && chunk == nullptr; }
};

/// A branch of 64 parts, itself of a level; as a part, of one value where all are.
VoxelPart join_parts(std::array<VoxelPart, 64> parts, int level, const VoxelLight& light);
/// A root, which is a branch whatever its parts are.
std::shared_ptr<const VoxelBranch> root_of(std::array<VoxelPart, 64> parts, int level,
                                           const VoxelLight& light);
/// The parts of a branch.
std::array<VoxelPart, 64> parts_of(const VoxelBranch& branch);

/// A tree without voxels. Throws Error (input) for sizes and palettes that cannot be.
VoxelTree empty_voxels(const VoxelCell& size, VoxelPalette palette);

}  // namespace photonlane
