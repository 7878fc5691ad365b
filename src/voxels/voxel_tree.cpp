#include "voxels/voxel_tree.hpp"

namespace photonlane {
namespace {

/// Where a brick's values start, and how they are told.
const std::uint8_t* values_of(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick,
                              BrickCode& code) {
  const std::uint16_t word = chunk.words[brick];
  code = static_cast<BrickCode>(word >> brick_code_shift);
  return chunk.colors + node.colors + 2u * (word & brick_place);
}

/// How many bits of a number say which of a few values a cell has, and where those bits start.
struct FewValues {
  int bits;
  const std::uint8_t* entries;
  const std::uint8_t* numbers;
  unsigned at(unsigned rank) const {
    const unsigned bit = rank * static_cast<unsigned>(bits);
    return numbers[bit >> 3] >> (bit & 7) & ((1u << bits) - 1);
  }
};

FewValues few_values(const std::uint8_t* bytes, BrickCode code, int width) {
  if (code == BrickCode::two) return {1, bytes, bytes + 2 * width};
  if (code == BrickCode::four) return {2, bytes, bytes + 4 * width};
  return {4, bytes + 1, bytes + 1 + bytes[0] * width};
}

}  // namespace

int root_level(const VoxelCell& size) {
  int level = chunk_level + 1;
  while ((std::int64_t{1} << (2 * level)) < std::max({size[0], size[1], size[2]})) ++level;
  return level;
}

void place_chunk(VoxelChunk& chunk, const std::uint8_t* bytes) {
  chunk.nodes = reinterpret_cast<const VoxelNode*>(bytes);
  bytes += chunk.node_count * sizeof(VoxelNode);
  chunk.masks = reinterpret_cast<const std::uint64_t*>(bytes);
  bytes += std::size_t{chunk.brick_count} * 8;
  chunk.values = reinterpret_cast<const std::uint32_t*>(bytes);
  bytes += std::size_t{chunk.value_count} * 4;
  chunk.words = reinterpret_cast<const std::uint16_t*>(bytes);
  chunk.colors = bytes + std::size_t{chunk.brick_count} * 2;
}

std::uint32_t brick_bytes(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick) {
  const auto count = static_cast<std::uint32_t>(std::popcount(chunk.masks[brick]));
  const std::uint32_t width = chunk.width;
  BrickCode code;
  const std::uint8_t* const bytes = values_of(chunk, node, brick, code);
  switch (code) {
    case BrickCode::one:
      return width;
    case BrickCode::two:
      return 2 * width + (count + 7) / 8;
    case BrickCode::four:
      return 4 * width + (count + 3) / 4;
    case BrickCode::sixteen:
      return 1 + bytes[0] * width + (count + 1) / 2;
    case BrickCode::each:
      break;
  }
  return count * width;
}

std::uint32_t brick_value(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick,
                          unsigned rank) {
  const auto width = static_cast<int>(chunk.width);
  BrickCode code;
  const std::uint8_t* const bytes = values_of(chunk, node, brick, code);
  if (code == BrickCode::one) return kept_value(bytes, width);
  if (code == BrickCode::each) {
    return kept_value(bytes + rank * static_cast<unsigned>(width), width);
  }
  const FewValues few = few_values(bytes, code, width);
  return kept_value(few.entries + few.at(rank) * static_cast<unsigned>(width), width);
}

int brick_values(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t brick,
                 std::uint32_t* values) {
  const auto width = static_cast<int>(chunk.width);
  const int count = std::popcount(chunk.masks[brick]);
  BrickCode code;
  const std::uint8_t* const bytes = values_of(chunk, node, brick, code);
  if (code == BrickCode::one) {
    std::fill_n(values, count, kept_value(bytes, width));
  } else if (code == BrickCode::each) {
    for (int i = 0; i < count; ++i) values[i] = kept_value(bytes + i * width, width);
  } else {
    const FewValues few = few_values(bytes, code, width);
    for (int i = 0; i < count; ++i) {
      values[i] = kept_value(
          few.entries + few.at(static_cast<unsigned>(i)) * static_cast<unsigned>(width), width);
    }
  }
  return count;
}

void block_values(const VoxelChunk& chunk, unsigned child, std::uint32_t* values) {
  const VoxelNode& top = chunk.nodes[0];
  std::fill_n(values, VoxelSource::block, 0u);
  if (!has_bit(top.mask, child)) return;
  if (has_bit(top.full, child)) {
    std::fill_n(values, VoxelSource::block, chunk.values[top.values + rank_in(top.full, child)]);
    return;
  }
  const VoxelNode& node = chunk.nodes[top.first + rank_in(top.mask & ~top.full, child)];
  std::uint32_t full = node.values;
  std::uint32_t brick = node.first;
  for (std::uint64_t left = node.mask; left != 0; left &= left - 1) {
    const auto at = static_cast<unsigned>(std::countr_zero(left));
    std::uint32_t* const corner = values + brick_corner(at);
    if (has_bit(node.full, at)) {
      const std::uint32_t value = chunk.values[full++];
      for (int z = 0; z < 4; ++z) {
        for (int y = 0; y < 4; ++y) std::fill_n(corner + 16 * y + 256 * z, 4, value);
      }
      continue;
    }
    std::uint32_t own[64];
    brick_values(chunk, node, brick, own);
    const std::uint32_t* next = own;
    for (std::uint64_t cells = chunk.masks[brick]; cells != 0; cells &= cells - 1) {
      const auto cell = static_cast<unsigned>(std::countr_zero(cells));
      corner[cell_in_block(cell)] = *next++;
    }
    ++brick;
  }
}

std::uint32_t voxel_at(const VoxelTree& tree, const VoxelCell& cell) {
  const auto [x, y, z] = cell;
  for (std::size_t axis = 0; axis < 3; ++axis) {
    if (cell[axis] < 0 || cell[axis] >= tree.size[axis]) return 0;
  }
  const VoxelBranch* branch = tree.root.get();
  for (int level = tree.level;; --level) {
    const unsigned child = child_of(x, y, z, level);
    if (!has_bit(branch->mask, child)) return 0;
    if (has_bit(branch->full, child)) return branch->values[rank_in(branch->full, child)];
    const unsigned rank = rank_in(branch->mask & ~branch->full, child);
    if (level > chunk_level + 1) {
      branch = branch->branches[rank].get();
      continue;
    }
    const VoxelChunk& chunk = *branch->chunks[rank];
    const VoxelNode* node = chunk.nodes;
    for (int below = chunk_level; below > brick_level; --below) {
      const unsigned own = child_of(x, y, z, below);
      if (!has_bit(node->mask, own)) return 0;
      if (has_bit(node->full, own)) return chunk.values[node->values + rank_in(node->full, own)];
      const unsigned next = node->first + rank_in(node->mask & ~node->full, own);
      if (below > brick_level + 1) {
        node = chunk.nodes + next;
        continue;
      }
      const unsigned bit = child_of(x, y, z, brick_level);
      if (!has_bit(chunk.masks[next], bit)) return 0;
      return brick_value(chunk, *node, next, rank_in(chunk.masks[next], bit));
    }
  }
}

}  // namespace photonlane
