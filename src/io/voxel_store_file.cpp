#include <fmt/format.h>
#include <sys/mman.h>

#include <cstring>
#include <unordered_map>

#include "base/parallel.hpp"
#include "io/files.hpp"
#include "io/json.hpp"
#include "io/mapped_file.hpp"
#include "io/stored_blocks.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/voxel_file.hpp"
#include "voxels/voxel_build.hpp"

namespace photonlane::io {
namespace {

constexpr char magic[24] = "photonlane voxels\n\x1a\r\n";
constexpr std::uint32_t version = 1;

/// What stands at a file's beginning. Arrays follow: kinds, chunks, branches, and what is in
/// chunks.
struct StoredHead {
  char word[24];
  std::uint32_t version;
  std::uint32_t bytes;  ///< of this
  std::int32_t size[3];
  std::uint32_t level;
  std::uint32_t direct;
  std::uint32_t kinds;
  std::uint64_t chunks;
  std::uint64_t branch_bytes;
  std::uint64_t branches;
  std::uint64_t array_bytes;
  std::uint64_t checksums;  ///< checksum of those behind the arrays
  std::uint64_t checksum;   ///< of all above
};

struct StoredKind {
  std::int32_t material;
  std::uint32_t color;
};

struct StoredChunk {
  std::uint64_t place;  ///< from the first chunk's
  std::uint64_t set;
  std::uint32_t nodes, bricks, values, color_bytes;
  std::uint32_t width;
  std::uint32_t unused;
};

/// A branch: this, values of children that are full, and for each other child the number of a
/// branch before this one or of a chunk.
struct StoredBranch {
  std::uint64_t mask, full;
  std::uint32_t mean;
  std::uint32_t level;
};

std::uint64_t up_to_eight(std::uint64_t bytes) { return (bytes + 7) & ~std::uint64_t{7}; }

/// Chunks and branches, each once, those below before those above.
class Lister {
 public:
  std::uint32_t add(const VoxelBranch& branch, int level) {
    if (const auto found = branches_.find(&branch); found != branches_.end()) return found->second;
    std::vector<std::uint32_t> children;
    for (const auto& below : branch.branches) children.push_back(add(*below, level - 1));
    for (const auto& chunk : branch.chunks) children.push_back(add(*chunk));
    const StoredBranch own{branch.mask, branch.full, branch.mean,
                           static_cast<std::uint32_t>(level)};
    put(&own, sizeof(own));
    put(branch.values.data(), branch.values.size() * 4);
    put(children.data(), children.size() * 4);
    bytes.resize(up_to_eight(bytes.size()));
    const auto number = static_cast<std::uint32_t>(branches_.size());
    branches_.emplace(&branch, number);
    return number;
  }
  std::size_t branch_count() const { return branches_.size(); }

  std::vector<std::byte> bytes;
  std::vector<const VoxelChunk*> chunks;

 private:
  std::uint32_t add(const VoxelChunk& chunk) {
    const auto [at, fresh] = numbers_.emplace(&chunk, static_cast<std::uint32_t>(chunks.size()));
    if (fresh) chunks.push_back(&chunk);
    return at->second;
  }
  void put(const void* from, std::size_t count) {
    const auto* at = static_cast<const std::byte*>(from);
    bytes.insert(bytes.end(), at, at + count);
  }

  std::unordered_map<const VoxelBranch*, std::uint32_t> branches_;
  std::unordered_map<const VoxelChunk*, std::uint32_t> numbers_;
};

/// What is wrong with a chunk, so that looking into it would lead out of it or its palette; null:
/// nothing is.
const char* fault_of(const VoxelChunk& chunk, std::uint32_t largest) {
  for (std::uint32_t k = 0; k < chunk.value_count; ++k) {
    if (chunk.values[k] == 0 || chunk.values[k] > largest) return "a value without a kind";
  }
  const auto several = [](const VoxelNode& node) {
    return static_cast<std::uint64_t>(std::popcount(node.mask & ~node.full));
  };
  const auto whole = [](const VoxelNode& node) {
    return static_cast<std::uint64_t>(std::popcount(node.full));
  };
  for (std::uint32_t k = 0; k < chunk.node_count; ++k) {
    const VoxelNode& node = chunk.nodes[k];
    if ((node.full & ~node.mask) != 0 || node.mask == 0) return "a node's masks do not fit";
    if (node.values + whole(node) > chunk.value_count) return "values that are not there";
    if (k == 0) {
      if (node.first == 0 || node.first + several(node) > chunk.node_count) {
        return "nodes that are not there";
      }
      continue;
    }
    if (node.first + several(node) > chunk.brick_count) return "bricks that are not there";
    for (std::uint64_t brick = node.first; brick < node.first + several(node); ++brick) {
      if (chunk.masks[brick] == 0) return "a brick without cells";
      const std::uint16_t word = chunk.words[brick];
      const std::uint64_t place =
          std::uint64_t{node.colors} + 2 * static_cast<std::uint64_t>(word & brick_place);
      const auto count = static_cast<std::uint64_t>(std::popcount(chunk.masks[brick]));
      const auto code = static_cast<BrickCode>(word >> brick_code_shift);
      if (code > BrickCode::each) return "a brick of no known code";
      if (place >= chunk.color_bytes) return "colors that are not there";
      const std::uint8_t* const colors = chunk.colors + place;
      if (code == BrickCode::sixteen && (colors[0] == 0 || colors[0] > 16))
        return "a brick's kinds";
      if (place + brick_bytes(chunk, node, static_cast<std::uint32_t>(brick)) > chunk.color_bytes) {
        return "colors that are not there";
      }
      for (std::uint64_t cell = 0; code == BrickCode::sixteen && cell < count; ++cell) {
        const unsigned two = colors[1 + colors[0] * chunk.width + cell / 2];
        if ((two >> (4 * (cell & 1)) & 15) >= colors[0]) return "a brick's kinds";
      }
      std::uint32_t values[64];
      brick_values(chunk, node, static_cast<std::uint32_t>(brick), values);
      for (std::uint64_t cell = 0; cell < count; ++cell) {
        if (values[cell] == 0 || values[cell] > largest) return "a value without a kind";
      }
    }
  }
  return nullptr;
}

}  // namespace

void write_voxels(const std::string& path, const VoxelGrid& grid,
                  const std::function<bool(double)>& progress) {
  const VoxelTree& tree = grid.tree();
  Lister lister;
  lister.add(*tree.root, tree.level);
  auto head = new_stored_head<StoredHead>(magic, version);
  for (std::size_t axis = 0; axis < 3; ++axis) head.size[axis] = tree.size[axis];
  head.level = static_cast<std::uint32_t>(tree.level);
  head.direct = tree.palette->direct ? 1 : 0;
  head.kinds = static_cast<std::uint32_t>(tree.palette->kinds.size());
  head.chunks = lister.chunks.size();
  head.branch_bytes = lister.bytes.size();
  head.branches = lister.branch_count();
  write_whole(path, [&](const std::string& temporary) {
    StoreWriter writer(temporary, path);
    for (const VoxelKind& kind : tree.palette->kinds) {
      const StoredKind own{kind.material, kind.color};
      writer.append(&own, sizeof(own));
    }
    std::uint64_t place = 0;
    for (const VoxelChunk* chunk : lister.chunks) {
      const StoredChunk own{place,
                            chunk->set,
                            chunk->node_count,
                            chunk->brick_count,
                            chunk->value_count,
                            chunk->color_bytes,
                            chunk->width,
                            0};
      writer.append(&own, sizeof(own));
      place += up_to_eight(chunk->bytes());
    }
    writer.append(lister.bytes.data(), lister.bytes.size());
    for (std::size_t k = 0; k < lister.chunks.size(); ++k) {
      // All of a chunk lies together, its nodes first.
      const VoxelChunk& chunk = *lister.chunks[k];
      writer.append(chunk.nodes, chunk.bytes());
      const std::uint64_t none = 0;
      writer.append(&none, up_to_eight(chunk.bytes()) - chunk.bytes());
      if (progress && k % 256 == 0 &&
          !progress(static_cast<double>(k) / static_cast<double>(lister.chunks.size()))) {
        throw Error(ErrorKind::cancelled, "stopped by the caller");
      }
    }
    head.array_bytes = writer.written();
    writer.finish(head);
  });
}

namespace {

/// Where the arrays of a stored grid lie in the memory of its file.
struct StoredArrays {
  const std::byte* chunks;
  const std::byte* branches;
  const std::byte* data;  ///< of chunks
  const std::byte* end;
};

/// The chunks of a stored grid, each checked, their data where the file is mapped.
std::vector<std::shared_ptr<const VoxelChunk>> placed_chunks(const std::string& path,
                                                             const std::shared_ptr<MappedFile>& map,
                                                             const StoredArrays& arrays,
                                                             std::size_t count,
                                                             std::uint32_t largest) {
  const auto data_bytes = static_cast<std::uint64_t>(arrays.end - arrays.data);
  std::vector<std::shared_ptr<const VoxelChunk>> chunks(count);
  std::vector<const char*> faults(count, nullptr);
  parallel_for(0, count, [&](std::size_t k) {
    StoredChunk stored;
    std::memcpy(&stored, arrays.chunks + k * sizeof(StoredChunk), sizeof(stored));
    auto chunk = std::make_shared<VoxelChunk>();
    chunk->node_count = stored.nodes;
    chunk->brick_count = stored.bricks;
    chunk->value_count = stored.values;
    chunk->color_bytes = stored.color_bytes;
    chunk->width = stored.width;
    chunk->set = stored.set;
    if (stored.nodes < 1 || stored.nodes > 65 || stored.bricks > 4096 || stored.values > 4096 ||
        stored.width < 1 || stored.width > 3 || stored.set > std::uint64_t{1} << 18 ||
        stored.place % 8 != 0 || stored.place > data_bytes ||
        chunk->bytes() > data_bytes - stored.place) {
      faults[k] = "a chunk outside of the file";
      return;
    }
    place_chunk(*chunk, reinterpret_cast<const std::uint8_t*>(arrays.data + stored.place));
    chunk->owner = map;
    faults[k] = fault_of(*chunk, largest);
    chunks[k] = std::move(chunk);
  });
  for (const char* fault : faults) {
    if (fault != nullptr) refuse_file(path, fmt::format("damaged: {}", fault));
  }
  return chunks;
}

using LeveledBranch = std::pair<std::shared_ptr<const VoxelBranch>, std::uint32_t>;

/// One branch of chunks or of branches before it; `at` goes on past it.
LeveledBranch read_branch(const std::string& path, const StoredArrays& arrays, const std::byte*& at,
                          const std::vector<std::shared_ptr<const VoxelChunk>>& chunks,
                          const std::vector<LeveledBranch>& known, std::uint32_t largest) {
  const auto left = static_cast<std::uint64_t>(arrays.data - at);
  StoredBranch stored;
  if (left < sizeof(stored)) refuse_file(path, "damaged: a branch is cut off");
  std::memcpy(&stored, at, sizeof(stored));
  const auto full = static_cast<std::uint64_t>(std::popcount(stored.full));
  const auto several = static_cast<std::uint64_t>(std::popcount(stored.mask & ~stored.full));
  const std::uint64_t bytes = up_to_eight(sizeof(stored) + 4 * (full + several));
  if (bytes > left || (stored.full & ~stored.mask) != 0 || stored.level <= chunk_level ||
      stored.level > most_voxel_level) {
    refuse_file(path, "damaged: a branch does not fit");
  }
  auto branch = std::make_shared<VoxelBranch>();
  branch->mask = stored.mask;
  branch->full = stored.full;
  branch->mean = stored.mean;
  branch->values.resize(full);
  if (full > 0) std::memcpy(branch->values.data(), at + sizeof(stored), 4 * full);
  for (const std::uint32_t value : branch->values) {
    if (value == 0 || value > largest) refuse_file(path, "damaged: a value without a kind");
  }
  branch->set = full << (6 * (stored.level - 1));
  for (std::uint64_t k = 0; k < several; ++k) {
    std::uint32_t number = 0;
    std::memcpy(&number, at + sizeof(stored) + 4 * (full + k), 4);
    if (stored.level == chunk_level + 1) {
      if (number >= chunks.size()) refuse_file(path, "damaged: a chunk that is not there");
      branch->chunks.push_back(chunks[number]);
      branch->set += chunks[number]->set;
    } else {
      if (number >= known.size() || known[number].second + 1 != stored.level) {
        refuse_file(path, "damaged: a branch that is not there");
      }
      branch->branches.push_back(known[number].first);
      branch->set += known[number].first->set;
    }
  }
  at += bytes;
  return {std::move(branch), stored.level};
}

/// The head of a stored grid, held against the size of its file.
StoredHead checked_head(const std::string& path, const MappedFile& map) {
  const auto head = read_stored_head<StoredHead>(map, magic, version, "voxels");
  const std::uint64_t room = map.size() - stored_head_bytes;
  if (head.array_bytes > room ||
      room != head.array_bytes + stored_blocks(head.array_bytes) * sizeof(std::uint64_t)) {
    refuse_file(path, fmt::format("{} bytes, which do not fit its head", map.size()));
  }
  const std::uint64_t most = head.array_bytes;
  if (head.kinds > 65535 || head.chunks > most / sizeof(StoredChunk) || head.branch_bytes > most ||
      head.branch_bytes % 8 != 0 ||
      head.kinds * sizeof(StoredKind) + head.chunks * sizeof(StoredChunk) + head.branch_bytes >
          most) {
    refuse_file(path, "its head does not fit together");
  }
  return head;
}

}  // namespace

std::shared_ptr<const VoxelGrid> map_voxels(const std::string& path, bool whole) {
  auto map = std::make_shared<MappedFile>(path);
  const StoredHead head = checked_head(path, *map);
  const auto* const start = reinterpret_cast<const std::byte*>(map->data()) + stored_head_bytes;
  check_blocks(path, start, head.array_bytes, head.checksums, whole);

  VoxelPalette palette;
  palette.direct = head.direct != 0;
  const std::byte* at = start;
  for (std::uint32_t k = 0; k < head.kinds; ++k, at += sizeof(StoredKind)) {
    StoredKind kind;
    std::memcpy(&kind, at, sizeof(kind));
    palette.kinds.push_back({kind.material, kind.color});
  }
  VoxelTree tree;
  try {
    tree = empty_voxels({head.size[0], head.size[1], head.size[2]}, std::move(palette));
  } catch (const Error& error) {
    refuse_file(path, error.message());
  }
  if (head.level != static_cast<std::uint32_t>(tree.level)) {
    refuse_file(path, "a tree of another height than its size asks for");
  }
  const std::uint32_t largest = tree.palette->largest();
  const std::byte* const branches = at + head.chunks * sizeof(StoredChunk);
  const StoredArrays arrays{at, branches, branches + head.branch_bytes, start + head.array_bytes};
  const auto chunks = placed_chunks(path, map, arrays, head.chunks, largest);
  std::vector<LeveledBranch> known;
  for (at = arrays.branches; at < arrays.data;) {
    known.push_back(read_branch(path, arrays, at, chunks, known, largest));
  }
  if (known.empty() || known.size() != head.branches || known.back().second != head.level) {
    refuse_file(path, "damaged: it has no root");
  }
  tree.root = known.back().first;
  madvise(const_cast<char*>(map->data()), map->size(), MADV_RANDOM);
  return std::make_shared<const VoxelGrid>(std::move(tree));
}

std::string voxel_text(const VoxelGrid& grid) {
  const auto count = static_cast<double>(grid.count());
  const auto bytes = static_cast<double>(grid.bytes());
  const VoxelCell& size = grid.size();
  std::string text = fmt::format("{} voxels in {} x {} x {} cells\n{:.1f} MB", grid.count(),
                                 size[0], size[1], size[2], bytes / 1e6);
  if (count > 0) text += fmt::format(", {:.3f} bytes each", bytes / count);
  text += '\n';
  if (grid.cost().seconds > 0) {
    text += fmt::format("made in {:.2f} s, {} blocks of 16 x 16 x 16 cells read\n",
                        grid.cost().seconds, grid.cost().blocks_read);
  }
  return text;
}

std::string voxel_json(const VoxelGrid& grid) {
  const VoxelCell& size = grid.size();
  const VoxelBox bounds = grid.bounds();
  const auto cell = [](const VoxelCell& at) { return Json{at[0], at[1], at[2]}; };
  return json_text(Json{{"voxels", grid.count()},
                        {"size", cell(size)},
                        {"low", cell(bounds.low)},
                        {"high", cell(bounds.high)},
                        {"bytes", grid.bytes()},
                        {"kinds", grid.palette().kinds.size()},
                        {"direct", grid.palette().direct},
                        {"seconds", grid.cost().seconds},
                        {"blocks_read", grid.cost().blocks_read}});
}

}  // namespace photonlane::io
