#include "voxels/chunk_maker.hpp"

#include <algorithm>
#include <cstring>

#include "photonlane/base/random.hpp"

namespace photonlane {
namespace {

template <class Item>
bool equal(std::span<const Item> one, std::span<const Item> other) {
  return std::equal(one.begin(), one.end(), other.begin(), other.end());
}

/// A chunk over memory of its own, of as many items as another says.
std::shared_ptr<VoxelChunk> lay_out_chunk(const VoxelChunk& counts) {
  const std::size_t bytes = counts.bytes();
  const auto memory = std::shared_ptr<std::uint64_t[]>(new std::uint64_t[(bytes + 7) / 8]);
  auto chunk = std::make_shared<VoxelChunk>(counts);
  place_chunk(*chunk, reinterpret_cast<const std::uint8_t*>(memory.get()));
  chunk->owner = memory;
  return chunk;
}

/// How many bytes of values a block's bricks reach to.
std::uint32_t end_of_colors(const VoxelChunk& chunk, const VoxelNode& node, std::uint32_t bricks) {
  std::uint32_t end = 0;
  for (std::uint32_t brick = node.first; brick < node.first + bricks; ++brick) {
    end = std::max(end, 2u * (chunk.words[brick] & brick_place) + brick_bytes(chunk, node, brick));
  }
  return (end + 1) & ~1u;
}

}  // namespace

std::uint64_t hash_bytes(const void* from, std::size_t count, std::uint64_t seed) {
  const auto* bytes = static_cast<const std::uint8_t*>(from);
  std::uint64_t hash = mix(seed + count);
  for (; count >= 8; count -= 8, bytes += 8) {
    std::uint64_t word = 0;
    std::memcpy(&word, bytes, 8);
    hash = std::rotl((hash ^ word) * 0x9e3779b97f4a7c15u, 29);
  }
  std::uint64_t word = 0;
  if (count > 0) std::memcpy(&word, bytes, count);
  return mix(hash ^ word);
}

VoxelLight::VoxelLight(const VoxelPalette& palette) : palette_(palette), known_(true) {
  for (const VoxelKind& kind : palette.kinds) known_ = known_ && kind.color != VoxelKind::no_color;
}

std::uint32_t mean_of_children(std::uint64_t mask, std::uint64_t full, const VoxelLight& light,
                               std::span<const std::uint32_t> full_values,
                               const std::function<std::uint32_t(unsigned)>& mean_of_child) {
  Color sum(0, 0, 0);
  float weights = 0;
  float seen[3][16] = {};  // how much of each column along an axis is covered
  std::size_t next_full = 0;
  for (std::uint64_t left = mask; left != 0; left &= left - 1) {
    const auto child = static_cast<unsigned>(std::countr_zero(left));
    const bool whole = has_bit(full, child);
    std::uint32_t mean = 0;
    if (whole) {
      const std::uint32_t value = full_values[next_full++];
      mean = 0xff000000u | (light.known() ? color_code(light.of(value)) : 0);
    } else {
      mean = mean_of_child(child);
    }
    const float covered = static_cast<float>(mean >> 24) / 255;
    const unsigned columns[3] = {child >> 2, (child & 3) | (child >> 4) << 2, child & 15};
    // Children that others of the node hide count less.
    unsigned hidden = 0;
    for (unsigned axis = 0; axis < 3; ++axis) {
      float& column = seen[axis][columns[axis]];
      column = 1 - (1 - column) * (1 - covered);
      const unsigned at = child >> (2 * axis) & 3;
      if (at > 0) hidden += has_bit(full, child - (1u << (2 * axis))) ? 1 : 0;
      if (at < 3) hidden += has_bit(full, child + (1u << (2 * axis))) ? 1 : 0;
    }
    const float weight = covered * (hidden == 6 ? 0.01f : static_cast<float>(7 - hidden));
    sum += weight * color_from_code(mean & 0xffffff);
    weights += weight;
  }
  float covered = 0;
  for (const auto& axis : seen) {
    for (const float column : axis) covered += column / 48;
  }
  if (weights > 0) sum /= weights;
  const auto share =
      static_cast<std::uint32_t>(std::lround(std::clamp(255 * covered, 1.0f, 255.0f)));
  return share << 24 | color_code(sum);
}

ChunkMaker::ChunkMaker(const VoxelPalette& palette)
    : width_(value_width(palette)), light_(palette) {}

void ChunkMaker::clear() { mask_ = full_ = 0; }

void ChunkMaker::start_from(const VoxelChunk& chunk) {
  if (chunk.width != static_cast<std::uint32_t>(width_)) {
    clear();
    std::vector<std::uint32_t> values(VoxelSource::block);
    for (unsigned block = 0; block < 64; ++block) {
      block_values(chunk, block, values.data());
      put(block, values.data());
    }
    return;
  }
  const VoxelNode& top = chunk.nodes[0];
  mask_ = top.mask;
  full_ = top.full;
  std::uint32_t value = top.values;
  std::uint32_t next = top.first;
  for (std::uint64_t left = mask_; left != 0; left &= left - 1) {
    const auto at = static_cast<unsigned>(std::countr_zero(left));
    if (has_bit(full_, at)) {
      filled_[at] = chunk.values[value++];
      continue;
    }
    const VoxelNode& node = chunk.nodes[next++];
    Block& block = blocks_[at];
    const auto bricks = static_cast<std::uint32_t>(std::popcount(node.mask & ~node.full));
    block.node = node;
    block.masks = {chunk.masks + node.first, bricks};
    block.words = {chunk.words + node.first, bricks};
    block.values = {chunk.values + node.values, static_cast<std::size_t>(std::popcount(node.full))};
    block.colors = {chunk.colors + node.colors, end_of_colors(chunk, node, bricks)};
    block.set = 64 * static_cast<std::uint64_t>(std::popcount(node.full));
    for (const std::uint64_t mask : block.masks) {
      block.set += static_cast<std::uint64_t>(std::popcount(mask));
    }
  }
}

void ChunkMaker::fill(unsigned block, std::uint32_t value) {
  const std::uint64_t bit = std::uint64_t{1} << block;
  mask_ = value != 0 ? mask_ | bit : mask_ & ~bit;
  full_ = value != 0 ? full_ | bit : full_ & ~bit;
  filled_[block] = value;
}

void ChunkMaker::write_brick(Block& block, std::span<const std::uint32_t> values) const {
  std::uint32_t few[16];
  std::size_t count = 0;
  std::uint8_t which[64];
  for (std::size_t i = 0; i < values.size() && count <= 16; ++i) {
    std::size_t k = 0;
    while (k < count && few[k] != values[i]) ++k;
    if (k == count) {
      if (count == 16) {
        count = 17;
        break;
      }
      few[count++] = values[i];
    }
    which[i] = static_cast<std::uint8_t>(k);
  }
  std::uint8_t bytes[64 * 3 + 2] = {};
  std::size_t size = 0;
  const auto put_value = [&](std::uint32_t value) {
    const std::uint32_t kept = width_ == 3 ? value - 1 : value;
    for (int k = 0; k < width_; ++k) bytes[size++] = static_cast<std::uint8_t>(kept >> (8 * k));
  };
  const auto w = static_cast<std::size_t>(width_);
  BrickCode code = BrickCode::each;
  std::size_t bits = 0;
  std::size_t entries = 0;
  if (count == 1) {
    code = BrickCode::one;
    entries = 1;
  } else if (count == 2) {
    code = BrickCode::two;
    entries = 2;
    bits = 1;
  } else if (count <= 4) {
    code = BrickCode::four;
    entries = 4;
    bits = 2;
  } else if (count <= 16) {
    code = BrickCode::sixteen;
    entries = count;
    bits = 4;
  }
  const std::size_t packed =
      entries * w + (code == BrickCode::sixteen ? 1 : 0) + (bits * values.size() + 7) / 8;
  if (code != BrickCode::each && packed <= values.size() * w) {
    if (code == BrickCode::sixteen) bytes[size++] = static_cast<std::uint8_t>(count);
    for (std::size_t k = 0; k < entries; ++k) put_value(few[std::min(k, count - 1)]);
    for (std::size_t i = 0; bits > 0 && i < values.size(); ++i) {
      bytes[size + (bits * i >> 3)] |= static_cast<std::uint8_t>(which[i] << ((bits * i) & 7));
    }
    size += (bits * values.size() + 7) / 8;
  } else {
    code = BrickCode::each;
    for (const std::uint32_t value : values) put_value(value);
  }
  size = (size + 1) & ~std::size_t{1};
  // What another brick of the block has already need not be there twice.
  std::vector<std::uint8_t>& colors = block.own_colors;
  std::size_t place = colors.size();
  if (size <= 4) {
    for (std::size_t at = 0; at + size <= colors.size(); at += 2) {
      if (std::memcmp(colors.data() + at, bytes, size) == 0) {
        place = at;
        break;
      }
    }
  }
  if (place == colors.size()) colors.insert(colors.end(), bytes, bytes + size);
  block.own_words.push_back(static_cast<std::uint16_t>(
      static_cast<unsigned>(code) << brick_code_shift | static_cast<unsigned>(place / 2)));
}

std::uint32_t ChunkMaker::mean_of(const std::uint32_t* values) const {
  // Rows of 16 cells, a bit each.
  std::uint32_t rows[16][16];
  for (unsigned z = 0; z < 16; ++z) {
    for (unsigned y = 0; y < 16; ++y) {
      std::uint32_t row = 0;
      for (unsigned x = 0; x < 16; ++x) {
        row |= (values[x + 16 * y + 256 * z] != 0 ? 1u : 0u) << x;
      }
      rows[z][y] = row;
    }
  }
  int covered = 0;
  for (unsigned k = 0; k < 16; ++k) {
    std::uint32_t along_y = 0;
    std::uint32_t along_z = 0;
    for (unsigned j = 0; j < 16; ++j) {
      along_y |= rows[k][j];
      along_z |= rows[j][k];
      covered += rows[k][j] != 0 ? 1 : 0;
    }
    covered += std::popcount(along_y) + std::popcount(along_z);
  }
  const auto share =
      static_cast<std::uint32_t>(std::lround(std::max(1.0, 255.0 * covered / (3 * 256))));
  if (!light_.known()) return share << 24;
  // Of those that something empty is beside; of all, where nothing is.
  Color sum(0, 0, 0);
  for (const bool bare : {true, false}) {
    std::uint32_t counted = 0;
    std::uint32_t last = 0;
    Color own(0, 0, 0);
    for (unsigned z = 0; z < 16; ++z) {
      for (unsigned y = 0; y < 16; ++y) {
        std::uint32_t bits = rows[z][y];
        if (bare) {
          const std::uint32_t held =
              (rows[z][y] << 1 | 1) & (rows[z][y] >> 1 | 0x8000) &
              (y > 0 ? rows[z][y - 1] : 0xffff) & (y < 15 ? rows[z][y + 1] : 0xffff) &
              (z > 0 ? rows[z - 1][y] : 0xffff) & (z < 15 ? rows[z + 1][y] : 0xffff);
          bits &= ~held;
        }
        for (; bits != 0; bits &= bits - 1) {
          const std::uint32_t value =
              values[static_cast<unsigned>(std::countr_zero(bits)) + 16 * y + 256 * z];
          if (value != last) own = light_.of(last = value);
          sum += own;
          ++counted;
        }
      }
    }
    if (counted == 0) continue;
    sum /= static_cast<float>(counted);
    break;
  }
  return share << 24 | color_code(sum);
}

void ChunkMaker::put(unsigned at, const std::uint32_t* values) {
  const std::uint32_t first = values[0];
  if (std::all_of(values + 1, values + VoxelSource::block,
                  [&](std::uint32_t value) { return value == first; })) {
    fill(at, first);
    return;
  }
  mask_ |= std::uint64_t{1} << at;
  full_ &= ~(std::uint64_t{1} << at);
  Block& block = blocks_[at];
  block.node = {};
  block.set = 0;
  block.own_masks.clear();
  block.own_words.clear();
  block.own_values.clear();
  block.own_colors.clear();
  for (unsigned brick = 0; brick < 64; ++brick) {
    const std::uint32_t* const corner = values + brick_corner(brick);
    std::uint32_t own[64];
    int count = 0;
    std::uint64_t mask = 0;
    bool same = true;
    for (unsigned cell = 0; cell < 64; ++cell) {
      const std::uint32_t value = corner[cell_in_block(cell)];
      if (value == 0) continue;
      mask |= std::uint64_t{1} << cell;
      same = same && (count == 0 || own[0] == value);
      own[count++] = value;
    }
    if (count == 0) continue;
    block.set += static_cast<std::uint64_t>(count);
    block.node.mask |= std::uint64_t{1} << brick;
    if (count == 64 && same) {
      block.node.full |= std::uint64_t{1} << brick;
      block.own_values.push_back(own[0]);
      continue;
    }
    block.own_masks.push_back(mask);
    write_brick(block, {own, static_cast<std::size_t>(count)});
  }
  block.node.mean = mean_of(values);
  block.masks = block.own_masks;
  block.words = block.own_words;
  block.values = block.own_values;
  block.colors = block.own_colors;
}

std::optional<std::uint32_t> ChunkMaker::only_value() const {
  if (mask_ == 0) return 0;
  if (~full_ != 0) return {};
  for (unsigned k = 1; k < 64; ++k) {
    if (filled_[k] != filled_[0]) return {};
  }
  return filled_[0];
}

std::uint64_t ChunkMaker::Block::hash() const {
  std::uint64_t hash = mix(node.mask) ^ mix(node.full + 1);
  hash = hash_bytes(masks.data(), masks.size_bytes(), hash);
  hash = hash_bytes(words.data(), words.size_bytes(), hash);
  hash = hash_bytes(values.data(), values.size_bytes(), hash);
  return hash_bytes(colors.data(), colors.size(), hash);
}

bool ChunkMaker::Block::equals(const Block& other) const {
  return node.mask == other.node.mask && node.full == other.node.full &&
         equal(masks, other.masks) && equal(words, other.words) && equal(values, other.values) &&
         equal(colors, other.colors);
}

std::shared_ptr<const VoxelChunk> ChunkMaker::make(bool shared) const {
  // Blocks that stand for others: the first of each kind.
  std::array<std::uint8_t, 64> like{};
  std::array<std::uint64_t, 64> hashes{};
  VoxelChunk counts;
  counts.node_count = 1;
  counts.width = static_cast<std::uint32_t>(width_);
  counts.value_count = static_cast<std::uint32_t>(std::popcount(full_));
  const std::uint64_t several = mask_ & ~full_;
  for (std::uint64_t left = several; left != 0; left &= left - 1) {
    const auto at = static_cast<unsigned>(std::countr_zero(left));
    const Block& block = blocks_[at];
    ++counts.node_count;
    counts.set += block.set;
    like[at] = static_cast<std::uint8_t>(at);
    if (shared) {
      hashes[at] = block.hash();
      for (std::uint64_t before = several & ((std::uint64_t{1} << at) - 1); before != 0;
           before &= before - 1) {
        const auto other = static_cast<unsigned>(std::countr_zero(before));
        if (hashes[other] != hashes[at] || !block.equals(blocks_[other])) continue;
        like[at] = like[other];
        break;
      }
      if (like[at] != at) continue;
    }
    counts.brick_count += static_cast<std::uint32_t>(block.masks.size());
    counts.value_count += static_cast<std::uint32_t>(block.values.size());
    counts.color_bytes += static_cast<std::uint32_t>(block.colors.size());
  }
  counts.set += VoxelSource::block * static_cast<std::uint64_t>(std::popcount(full_));
  std::shared_ptr<VoxelChunk> chunk = lay_out_chunk(counts);
  auto* const nodes = const_cast<VoxelNode*>(chunk->nodes);
  auto* const masks = const_cast<std::uint64_t*>(chunk->masks);
  auto* const values = const_cast<std::uint32_t*>(chunk->values);
  auto* const words = const_cast<std::uint16_t*>(chunk->words);
  auto* const colors = const_cast<std::uint8_t*>(chunk->colors);
  std::uint32_t value = 0;
  for (std::uint64_t left = full_; left != 0; left &= left - 1) {
    values[value++] = filled_[static_cast<unsigned>(std::countr_zero(left))];
  }
  VoxelNode& top = nodes[0];
  top = {mask_, full_, 1, 0, 0, 0};
  std::array<std::uint32_t, 64> node_of{};
  std::uint32_t node = 1;
  std::uint32_t brick = 0;
  std::uint32_t color = 0;
  for (std::uint64_t left = several; left != 0; left &= left - 1) {
    const auto at = static_cast<unsigned>(std::countr_zero(left));
    const Block& block = blocks_[at];
    node_of[at] = node;
    VoxelNode& own = nodes[node++];
    if (like[at] != at) {
      own = nodes[node_of[like[at]]];
      continue;
    }
    own = block.node;
    own.first = brick;
    own.values = value;
    own.colors = color;
    std::copy(block.masks.begin(), block.masks.end(), masks + brick);
    std::copy(block.words.begin(), block.words.end(), words + brick);
    std::copy(block.values.begin(), block.values.end(), values + value);
    std::copy(block.colors.begin(), block.colors.end(), colors + color);
    brick += static_cast<std::uint32_t>(block.masks.size());
    value += static_cast<std::uint32_t>(block.values.size());
    color += static_cast<std::uint32_t>(block.colors.size());
  }
  top.mean = mean_of_children(mask_, full_, light_,
                              {values, static_cast<std::size_t>(std::popcount(full_))},
                              [&](unsigned child) { return nodes[node_of[child]].mean; });
  return chunk;
}

}  // namespace photonlane
