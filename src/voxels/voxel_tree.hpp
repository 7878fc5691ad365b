#pragma once

#include <bit>
#include <cstdint>
#include <memory>
#include <vector>

#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

/// Level 0 is a cell, level l a cube of 4^l cells a side. A node of level l has 4 x 4 x 4 children
/// of level l - 1; child x + 4 y + 16 z has that bit in its masks.
inline constexpr int brick_level = 1;
inline constexpr int chunk_level = 3;
inline constexpr int most_voxel_level = 8;
inline constexpr int chunk_side = 64;

inline unsigned child_of(int x, int y, int z, int level) {
  const int shift = 2 * (level - 1);
  return static_cast<unsigned>((x >> shift & 3) | (y >> shift & 3) << 2 | (z >> shift & 3) << 4);
}
/// The lowest cell of a child of a node of a level whose lowest cell that is.
inline VoxelCell child_low(const VoxelCell& low, unsigned child, int level) {
  const int side = 1 << (2 * (level - 1));
  return {low[0] + side * static_cast<int>(child & 3),
          low[1] + side * static_cast<int>(child >> 2 & 3),
          low[2] + side * static_cast<int>(child >> 4)};
}
/// Where a brick of a block, and a cell of a brick, are among the block's cells, x fastest.
inline std::size_t cell_in_block(unsigned cell) {
  return (cell & 3) + 16 * (cell >> 2 & 3) + std::size_t{256} * (cell >> 4);
}
inline std::size_t brick_corner(unsigned brick) { return 4 * cell_in_block(brick); }
/// How many bits of a mask lie below one.
inline unsigned rank_in(std::uint64_t mask, unsigned child) {
  return static_cast<unsigned>(std::popcount(mask & ((std::uint64_t{1} << child) - 1)));
}
inline bool has_bit(std::uint64_t mask, unsigned child) { return (mask >> child & 1) != 0; }

/// A node of 64 or 16 cells a side within a chunk; all that is of one level lies together.
struct VoxelNode {
  std::uint64_t mask;    ///< children that hold something
  std::uint64_t full;    ///< of those, the ones that are of one value throughout
  std::uint32_t first;   ///< index of the first of the other children
  std::uint32_t values;  ///< index of the value of the first child that is full
  std::uint32_t colors;  ///< of nodes of 16 cells: where values of their bricks start
  std::uint32_t mean;    ///< mean color, and in the highest byte how much is covered
};

/// How the values of a brick's cells are told, in the highest three bits of its word; the other
/// bits are where, counted in two bytes from those of the node.
enum class BrickCode : std::uint16_t { one, two, four, sixteen, each };
inline constexpr int brick_code_shift = 13;
inline constexpr std::uint16_t brick_place = (1u << brick_code_shift) - 1;

/// A cube of 64 cells a side, as it lies in memory or in a file; node 0 is all of it.
struct VoxelChunk {
  std::uint32_t node_count = 0, brick_count = 0, value_count = 0, color_bytes = 0;
  std::uint32_t width = 1;  ///< bytes a value takes among a brick's
  std::uint64_t set = 0;    ///< cells that are not empty
  const VoxelNode* nodes = nullptr;
  const std::uint64_t* masks = nullptr;   ///< of bricks: cells that are not empty
  const std::uint16_t* words = nullptr;   ///< of bricks: BrickCode and place
  const std::uint32_t* values = nullptr;  ///< of children that are full
  const std::uint8_t* colors = nullptr;
  std::shared_ptr<const void> owner;

  std::size_t bytes() const {
    return node_count * sizeof(VoxelNode) + brick_count * 10 + value_count * 4 + color_bytes;
  }
};

/// Where the arrays of a chunk lie, by how many it has: those of large items first.
void place_chunk(VoxelChunk& chunk, const std::uint8_t* bytes);

/// A node above chunks. Immutable; grids that differ elsewhere share it.
struct VoxelBranch {
  std::uint64_t mask = 0;
  std::uint64_t full = 0;
  std::uint32_t mean = 0;
  std::uint64_t set = 0;
  std::vector<std::uint32_t> values;
  /// One of them is empty: chunks are the children of level chunk_level + 1 alone.
  std::vector<std::shared_ptr<const VoxelBranch>> branches;
  std::vector<std::shared_ptr<const VoxelChunk>> chunks;
};

struct VoxelTree {
  VoxelCell size{0, 0, 0};
  int level = chunk_level + 1;  ///< of the root
  std::shared_ptr<const VoxelBranch> root;
  std::shared_ptr<const VoxelPalette> palette;
  bool colored = false;  ///< every value has a color of its own

  int side() const { return 1 << (2 * level); }
};

/// Bytes a value takes among a brick's.
inline int value_width(const VoxelPalette& palette) {
  if (palette.direct) return 3;
  return palette.kinds.size() > 255 ? 2 : 1;
}

/// The least level of a root that holds so many cells.
int root_level(const VoxelCell& size);

/// A value as it is kept in so many bytes.
inline std::uint32_t kept_value(const std::uint8_t* bytes, int width) {
  std::uint32_t value = bytes[0];
  if (width > 1) value |= static_cast<std::uint32_t>(bytes[1]) << 8;
  if (width > 2) value = (value | static_cast<std::uint32_t>(bytes[2]) << 16) + 1;
  return value;
}

/// Bytes that a brick's values take. Of those told by four bits, the first byte is looked at.
std::uint32_t brick_bytes(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick);

/// The value of one of a brick's cells that are set: the one before which `rank` are.
std::uint32_t brick_value(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick,
                          unsigned rank);
/// All values of a brick's cells that are set, in the order of their bits. Returns how many.
int brick_values(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick,
                 std::uint32_t* values);

/// The values of a block of a chunk, x fastest.
void block_values(const VoxelChunk& chunk, unsigned child, std::uint32_t* values);

/// The value of a cell; 0 outside.
std::uint32_t voxel_at(const VoxelTree& tree, const VoxelCell& cell);

/// The bits of cells that a lane may come to from one, by the octant of its way: bit 0, 1, 2 of it
/// are set where the way goes to lower x, y, z.
struct OctantBoxes {
  std::uint64_t box[8][64];
  constexpr OctantBoxes() : box{} {
    for (unsigned octant = 0; octant < 8; ++octant) {
      for (unsigned cell = 0; cell < 64; ++cell) {
        std::uint64_t bits = 0;
        for (unsigned other = 0; other < 64; ++other) {
          bool there = true;
          for (unsigned axis = 0; axis < 3; ++axis) {
            const unsigned from = cell >> (2 * axis) & 3;
            const unsigned to = other >> (2 * axis) & 3;
            there = there && ((octant >> axis & 1) != 0 ? to <= from : to >= from);
          }
          if (there) bits |= std::uint64_t{1} << other;
        }
        box[octant][cell] = bits;
      }
    }
  }
};
inline constexpr OctantBoxes octant_boxes;

}  // namespace photonlane
