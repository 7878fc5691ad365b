#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "photonlane/base/color.hpp"
#include "voxels/voxel_tree.hpp"

namespace photonlane {

/// The color of a value that has one, as light.
inline Color light_of(const VoxelPalette& palette, std::uint32_t value) {
  return color_from_code(palette.direct ? value - 1 : palette.kinds[value - 1].color);
}

/// Colors of values as light, for means; none where some value has no color of its own.
class VoxelLight {
 public:
  explicit VoxelLight(const VoxelPalette& palette);
  bool known() const { return known_; }
  Color of(std::uint32_t value) const { return light_of(palette_, value); }

 private:
  const VoxelPalette& palette_;
  bool known_;
};

/// A chunk in the making: 64 blocks of 16 cells a side, each empty, of one value, as another chunk
/// has it, or of values of its own.
class ChunkMaker {
 public:
  explicit ChunkMaker(const VoxelPalette& palette);

  /// All blocks are empty, or as a chunk has them; it must live on until make().
  void clear();
  void start_from(const VoxelChunk& chunk);
  void fill(unsigned block, std::uint32_t value);
  /// Values of a block, x fastest.
  void put(unsigned block, const std::uint32_t* values);

  /// The value of all cells, where there is one.
  std::optional<std::uint32_t> only_value() const;
  /// Not for chunks of one value. With `shared`, equal blocks are kept once.
  std::shared_ptr<const VoxelChunk> make(bool shared) const;

 private:
  /// A block that is neither empty nor of one value.
  struct Block {
    VoxelNode node{};  ///< places in it count from the block's own
    std::uint64_t set = 0;
    std::span<const std::uint64_t> masks;
    std::span<const std::uint16_t> words;
    std::span<const std::uint32_t> values;
    std::span<const std::uint8_t> colors;
    /// What the above shows, where it is not another chunk's.
    std::vector<std::uint64_t> own_masks;
    std::vector<std::uint16_t> own_words;
    std::vector<std::uint32_t> own_values;
    std::vector<std::uint8_t> own_colors;
    std::uint64_t hash() const;
    bool equals(const Block& other) const;
  };

  void write_brick(Block& block, std::span<const std::uint32_t> values) const;
  std::uint32_t mean_of(const std::uint32_t* values) const;

  int width_;
  VoxelLight light_;
  std::uint64_t mask_ = 0;
  std::uint64_t full_ = 0;
  std::array<std::uint32_t, 64> filled_{};
  std::array<Block, 64> blocks_;
};

/// A mean and how much is covered, of 4 x 4 x 4 children, those that are full among them.
std::uint32_t mean_of_children(std::uint64_t mask, std::uint64_t full, const VoxelLight& light,
                               std::span<const std::uint32_t> full_values,
                               const std::function<std::uint32_t(unsigned)>& mean_of_child);

/// A number that goes by bytes: others give another one, almost surely.
std::uint64_t hash_bytes(const void* from, std::size_t count, std::uint64_t seed);

}  // namespace photonlane
