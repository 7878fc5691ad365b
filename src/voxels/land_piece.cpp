#include "voxels/land_piece.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

constexpr int side = VoxelSource::side;

/// A piece's cubes, and the tree they make: cubes of 4^coarseness cells are nodes of that level.
class PieceMaker {
 public:
  PieceMaker(const LandSource& source, const LandPiece& piece, const VoxelLight& light,
             std::uint32_t largest, ChunkMaker& maker)
      : source_(source), piece_(piece), light_(light), largest_(largest), maker_(maker) {
    for (unsigned block = 0; block < 64; ++block) read(block);
  }

  VoxelPart run() { return part(piece_.level(), {0, 0, 0}); }

 private:
  /// A block of 16 x 16 x 16 cubes: of one value, or each with its own.
  struct Block {
    std::uint32_t value = 0;
    std::vector<std::uint32_t> values;
  };

  std::uint32_t checked(std::uint32_t value) const {
    if (value > largest_) {
      throw Error(ErrorKind::input,
                  fmt::format("a voxel of value {}, expected {} at most", value, largest_));
    }
    return value;
  }

  void read(unsigned block) {
    const LandCube whole = piece_.cube();
    const std::int64_t step = piece_.step();
    LandCube cube{whole.low, side * step};
    for (unsigned axis = 0; axis < 3; ++axis) {
      cube.low[axis] += static_cast<std::int64_t>(block >> (2 * axis) & 3) * cube.side;
    }
    Block& to = blocks_[block];
    if (const auto value = source_.known(cube, step)) {
      to.value = checked(*value);
      return;
    }
    to.values.resize(VoxelSource::block);
    source_.read(cube.low, step, to.values.data());
    for (const std::uint32_t value : to.values) checked(value);
    const auto same = [&](std::uint32_t value) { return value == to.values.front(); };
    if (!std::all_of(to.values.begin(), to.values.end(), same)) return;
    to.value = to.values.front();
    to.values.clear();
  }

  const Block& block_of(const VoxelCell& at) const {
    return blocks_[child_of(at[0], at[1], at[2], chunk_level)];
  }
  /// Where in its block a cube is.
  static std::size_t place_in_block(const VoxelCell& at) {
    return static_cast<std::size_t>((at[0] % side) +
                                    side * ((at[1] % side) + side * (at[2] % side)));
  }
  std::uint32_t value_at(const VoxelCell& at) const {
    const Block& block = block_of(at);
    return block.values.empty() ? block.value : block.values[place_in_block(at)];
  }
  /// The value of 4 x 4 x 4 cubes, where they have one.
  std::optional<std::uint32_t> value_of_four(const VoxelCell& at) const {
    const Block& block = block_of(at);
    if (block.values.empty()) return block.value;
    const std::uint32_t* first = block.values.data() + place_in_block(at);
    for (unsigned cell = 0; cell < 64; ++cell) {
      if (first[cell_in_block(cell)] != *first) return {};
    }
    return *first;
  }

  /// The node of a level whose lowest cube that is, counted in the piece's.
  VoxelPart part(int level, const VoxelCell& at) {
    const int cubes_level = level - piece_.coarseness;  // 4^this cubes along a side
    if (cubes_level == 0) return {value_at(at)};
    if (cubes_level <= 2 && block_of(at).values.empty()) return {block_of(at).value};
    if (level == chunk_level) return chunk(at);
    std::array<VoxelPart, 64> parts;
    for (unsigned child = 0; child < 64; ++child) {
      parts[child] = part(level - 1, child_low(at, child, cubes_level));
    }
    return join_parts(std::move(parts), level, light_);
  }

  /// A chunk of cubes that are cells, or of 4 or 16 cells a side.
  VoxelPart chunk(const VoxelCell& at) {
    maker_.clear();
    for (unsigned child = 0; child < 64; ++child) {
      const VoxelCell low = child_low(at, child, chunk_level - piece_.coarseness);
      const Block& block = block_of(low);
      if (block.values.empty()) {
        maker_.fill(child, block.value);
      } else if (piece_.coarseness == 0) {
        maker_.put(child, block.values.data());
      } else if (piece_.coarseness == 2) {
        maker_.fill(child, value_at(low));
      } else if (const auto value = value_of_four(low)) {
        maker_.fill(child, *value);
      } else {
        widen(block.values.data() + place_in_block(low));
        maker_.put(child, wide_.data());
      }
    }
    if (const auto value = maker_.only_value()) return {*value};
    return {0, nullptr, maker_.make(false)};
  }

  /// 4 x 4 x 4 cubes as bricks of a block.
  void widen(const std::uint32_t* from) {
    for (unsigned brick = 0; brick < 64; ++brick) {
      std::uint32_t* const to = wide_.data() + brick_corner(brick);
      for (unsigned cell = 0; cell < 64; ++cell) {
        to[cell_in_block(cell)] = from[cell_in_block(brick)];
      }
    }
  }

  const LandSource& source_;
  const LandPiece& piece_;
  const VoxelLight& light_;
  std::uint32_t largest_;
  ChunkMaker& maker_;
  std::array<Block, 64> blocks_;
  std::array<std::uint32_t, VoxelSource::block> wide_{};
};

}  // namespace

VoxelPart make_piece(const LandSource& source, const LandPiece& piece, const VoxelLight& light,
                     std::uint32_t largest, ChunkMaker& maker) {
  return PieceMaker(source, piece, light, largest, maker).run();
}

std::size_t part_bytes(const VoxelPart& part) {
  if (part.chunk != nullptr) return part.chunk->bytes() + sizeof(VoxelChunk) + 48;
  if (part.branch == nullptr) return 0;
  const VoxelBranch& branch = *part.branch;
  std::size_t bytes = sizeof(VoxelBranch) + 4 * branch.values.size() +
                      16 * (branch.branches.size() + branch.chunks.size());
  for (const auto& below : branch.branches) bytes += part_bytes({0, below, nullptr});
  for (const auto& below : branch.chunks) bytes += part_bytes({0, nullptr, below});
  return bytes;
}

}  // namespace photonlane
