#pragma once

#include "voxels/voxel_tree.hpp"

namespace photonlane {

/// A branch, a node of a chunk, or a brick, told alike: for what goes through a tree without haste.
struct AnyVoxelNode {
  int level = 0;
  VoxelCell low{0, 0, 0};
  const VoxelBranch* branch = nullptr;
  const VoxelChunk* chunk = nullptr;
  const VoxelNode* node = nullptr;  ///< of the chunk; of bricks the one above
  std::uint32_t brick = 0;

  static AnyVoxelNode root_of(const VoxelTree& tree) {
    return {tree.level, {0, 0, 0}, tree.root.get()};
  }

  int child_side() const { return 1 << (2 * (level - 1)); }
  std::uint64_t mask() const {
    if (branch != nullptr) return branch->mask;
    return level > brick_level ? node->mask : chunk->masks[brick];
  }
  /// Children that are of one value throughout: of bricks all.
  std::uint64_t full() const {
    if (branch != nullptr) return branch->full;
    return level > brick_level ? node->full : chunk->masks[brick];
  }
  VoxelCell child_low(unsigned child) const { return photonlane::child_low(low, child, level); }
  /// Of a child that is full.
  std::uint32_t value(unsigned child) const {
    if (branch != nullptr) return branch->values[rank_in(branch->full, child)];
    if (level == brick_level) {
      return brick_value(*chunk, *node, brick, rank_in(chunk->masks[brick], child));
    }
    return chunk->values[node->values + rank_in(node->full, child)];
  }
  /// A child that is there and not full.
  AnyVoxelNode child(unsigned at) const {
    const unsigned rank = rank_in(mask() & ~full(), at);
    AnyVoxelNode next{level - 1, child_low(at)};
    if (branch != nullptr && level > chunk_level + 1) {
      next.branch = branch->branches[rank].get();
    } else if (branch != nullptr) {
      next.chunk = branch->chunks[rank].get();
      next.node = next.chunk->nodes;
    } else {
      next.chunk = chunk;
      next.node = node;
      if (level > brick_level + 1) {
        next.node = chunk->nodes + node->first + rank;
      } else {
        next.brick = node->first + rank;
      }
    }
    return next;
  }
};

}  // namespace photonlane
