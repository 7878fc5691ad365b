#include "voxels/voxel_build.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <mutex>
#include <numeric>
#include <unordered_map>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

constexpr int most_side = 65536;

class Build {
 public:
  Build(const VoxelSource& source, const VoxelGridOptions& options)
      : source_(source),
        options_(options),
        tree_(empty_voxels(source.size(), source.palette())),
        light_(*tree_.palette),
        largest_(tree_.palette->largest()) {}

  VoxelTree run() {
    plan({0, 0, 0}, tree_.level);
    made_.resize(chunks_.size());
    // Layer by layer, as files have them.
    std::vector<std::size_t> order(chunks_.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    const auto place = [&](std::size_t i) {
      return std::array{chunks_[i][2], chunks_[i][1], chunks_[i][0]};
    };
    std::sort(order.begin(), order.end(),
              [&](std::size_t one, std::size_t other) { return place(one) < place(other); });
    std::atomic<std::size_t> done{0};
    std::atomic<std::size_t> bytes{0};
    std::atomic<bool> stopped{false};
    std::mutex telling;
    std::exception_ptr failed;
    const auto fail = [&](std::exception_ptr error) {
      const std::scoped_lock lock(telling);
      if (!stopped.exchange(true)) failed = error;
    };
    // A stretch of chunks at a time, so that threads keep what they work in.
    constexpr std::size_t stretch = 16;
    parallel_for(options_.threads, (chunks_.size() + stretch - 1) / stretch, [&](std::size_t at) {
      if (stopped) return;
      try {
        ChunkMaker maker(*tree_.palette);
        std::vector<std::uint32_t> values(VoxelSource::block);
        const std::size_t end = std::min(chunks_.size(), (at + 1) * stretch);
        for (std::size_t k = at * stretch; k < end; ++k) {
          VoxelPart& made = made_[order[k]];
          made = make_chunk(chunks_[order[k]], maker, values.data());
          if (made.chunk != nullptr) bytes += made.chunk->bytes();
        }
        if (bytes > options_.memory_limit) {
          throw Error(ErrorKind::memory,
                      fmt::format("the voxels take more than {} bytes", options_.memory_limit));
        }
        done += end - at * stretch;
        if (options_.progress) {
          const std::scoped_lock lock(telling);
          if (!stopped &&
              !options_.progress(static_cast<double>(done) / static_cast<double>(chunks_.size()))) {
            throw Error(ErrorKind::cancelled, "stopped by the caller");
          }
        }
      } catch (...) {
        fail(std::current_exception());
      }
    });
    if (failed) std::rethrow_exception(failed);
    auto next = planned_.cbegin();
    tree_.root = root_of(parts(next, tree_.level), tree_.level, light_);
    return std::move(tree_);
  }

  std::uint64_t blocks_read() const { return blocks_read_; }

 private:
  /// What is known of a cube before anything is read: a value, that it is a chunk to be made, or
  /// that its children follow.
  struct Planned {
    static constexpr std::size_t none = ~std::size_t{0};
    std::uint32_t value = 0;
    std::size_t chunk = none;
    bool branch = false;
  };

  bool is_outside(const VoxelCell& low) const {
    return low[0] >= tree_.size[0] || low[1] >= tree_.size[1] || low[2] >= tree_.size[2];
  }
  bool is_inside(const VoxelCell& low, int side) const {
    return low[0] + side <= tree_.size[0] && low[1] + side <= tree_.size[1] &&
           low[2] + side <= tree_.size[2];
  }
  std::uint32_t checked(std::uint32_t value) const {
    if (value > largest_) {
      throw Error(ErrorKind::input,
                  fmt::format("a voxel of value {}, expected {} at most", value, largest_));
    }
    return value;
  }

  /// The value of a cube, where it is known to have one.
  std::optional<std::uint32_t> known(const VoxelCell& low, int level) const {
    if (is_outside(low)) return 0;
    const int side = 1 << (2 * level);
    const std::optional<std::uint32_t> value =
        source_.known({low, {low[0] + side, low[1] + side, low[2] + side}});
    if (value && *value != 0 && !is_inside(low, side)) return {};
    if (value) checked(*value);
    return value;
  }

  void plan(const VoxelCell& low, int level) {
    for (unsigned child = 0; child < 64; ++child) {
      const VoxelCell at = child_low(low, child, level);
      if (const std::optional<std::uint32_t> value = known(at, level - 1)) {
        planned_.push_back({.value = *value});
      } else if (level - 1 == chunk_level) {
        planned_.push_back({.chunk = chunks_.size()});
        chunks_.push_back(at);
      } else {
        planned_.push_back({.branch = true});
        plan(at, level - 1);
      }
    }
  }

  VoxelPart make_chunk(const VoxelCell& at, ChunkMaker& maker, std::uint32_t* values) {
    maker.clear();
    for (unsigned block = 0; block < 64; ++block) {
      const VoxelCell low = child_low(at, block, chunk_level);
      if (is_outside(low)) continue;
      if (const auto value = known(low, chunk_level - 1)) {
        maker.fill(block, *value);
        continue;
      }
      source_.read(low, values);
      blocks_read_.fetch_add(1, std::memory_order_relaxed);
      if (!is_inside(low, VoxelSource::side)) clip(low, values);
      for (std::size_t i = 0; i < VoxelSource::block; ++i) checked(values[i]);
      maker.put(block, values);
    }
    if (const auto value = maker.only_value()) return {*value};
    auto made = maker.make(options_.shared);
    if (options_.shared) made = kept_once(std::move(made));
    return {0, nullptr, std::move(made)};
  }

  void clip(const VoxelCell& low, std::uint32_t* values) const {
    constexpr int side = VoxelSource::side;
    for (int z = 0; z < side; ++z) {
      for (int y = 0; y < side; ++y) {
        for (int x = 0; x < side; ++x) {
          if (is_outside({low[0] + x, low[1] + y, low[2] + z})) {
            values[x + side * (y + side * z)] = 0;
          }
        }
      }
    }
  }

  std::shared_ptr<const VoxelChunk> kept_once(std::shared_ptr<const VoxelChunk> chunk) {
    // All of a chunk lies together, its nodes first.
    const std::size_t bytes = chunk->bytes();
    const void* const from = chunk->nodes;
    const std::uint64_t hash = hash_bytes(from, bytes, 0);
    const std::scoped_lock lock(sharing_);
    const auto [first, last] = shared_.equal_range(hash);
    for (auto other = first; other != last; ++other) {
      const VoxelChunk& one = *other->second;
      if (one.bytes() == bytes && one.brick_count == chunk->brick_count &&
          std::memcmp(one.nodes, from, bytes) == 0) {
        return other->second;
      }
    }
    shared_.emplace(hash, chunk);
    return chunk;
  }

  /// The children of a branch of a level, from what was planned for them on.
  std::array<VoxelPart, 64> parts(std::vector<Planned>::const_iterator& next, int level) {
    std::array<VoxelPart, 64> result;
    for (VoxelPart& part : result) {
      const Planned& planned = *next++;
      if (planned.branch) {
        part = join_parts(parts(next, level - 1), level - 1, light_);
      } else if (planned.chunk != Planned::none) {
        part = std::move(made_[planned.chunk]);
      } else {
        part.value = planned.value;
      }
    }
    return result;
  }

  const VoxelSource& source_;
  const VoxelGridOptions& options_;
  VoxelTree tree_;
  VoxelLight light_;
  std::uint32_t largest_;
  std::vector<Planned> planned_;   ///< of all cubes, children behind their branch
  std::vector<VoxelCell> chunks_;  ///< those that are to be made
  std::vector<VoxelPart> made_;    ///< by chunk
  std::atomic<std::uint64_t> blocks_read_{0};
  std::mutex sharing_;
  std::unordered_multimap<std::uint64_t, std::shared_ptr<const VoxelChunk>> shared_;
};

std::uint32_t mean_of(const VoxelPart& part) {
  return part.branch != nullptr ? part.branch->mean : part.chunk->nodes[0].mean;
}

}  // namespace

VoxelTree empty_voxels(const VoxelCell& size, VoxelPalette palette) {
  for (const std::int32_t side : size) {
    if (side < 1 || side > most_side) {
      throw Error(ErrorKind::input,
                  fmt::format("a grid of {} x {} x {} cells, expected 1 to {} along each side",
                              size[0], size[1], size[2], most_side));
    }
  }
  if (palette.kinds.size() > 65535) {
    throw Error(ErrorKind::input,
                fmt::format("a palette of {} kinds, expected 65535 at most", palette.kinds.size()));
  }
  if (palette.direct == !palette.kinds.empty()) {
    throw Error(ErrorKind::input, palette.direct ? "a palette of kinds for values that are colors"
                                                 : "a palette without kinds");
  }
  for (const VoxelKind& kind : palette.kinds) {
    if (kind.color != VoxelKind::no_color && kind.color > 0xffffff) {
      throw Error(ErrorKind::input,
                  fmt::format("a voxel of color {:#x}, expected 0xffffff at most", kind.color));
    }
  }
  VoxelTree tree;
  tree.size = size;
  tree.level = root_level(size);
  tree.palette = std::make_shared<const VoxelPalette>(std::move(palette));
  tree.colored = VoxelLight(*tree.palette).known();
  tree.root = std::make_shared<const VoxelBranch>();
  return tree;
}

std::shared_ptr<const VoxelBranch> root_of(std::array<VoxelPart, 64> parts, int level,
                                           const VoxelLight& light) {
  auto branch = std::make_shared<VoxelBranch>();
  for (unsigned child = 0; child < 64; ++child) {
    VoxelPart& part = parts[child];
    if (part.single() && part.value == 0) continue;
    branch->mask |= std::uint64_t{1} << child;
    if (part.single()) {
      branch->full |= std::uint64_t{1} << child;
      branch->values.push_back(part.value);
      branch->set += std::uint64_t{1} << (6 * (level - 1));
    }
  }
  branch->mean = mean_of_children(branch->mask, branch->full, light, branch->values,
                                  [&](unsigned child) { return mean_of(parts[child]); });
  for (VoxelPart& part : parts) {
    if (part.branch != nullptr) {
      branch->set += part.branch->set;
      branch->branches.push_back(std::move(part.branch));
    } else if (part.chunk != nullptr) {
      branch->set += part.chunk->set;
      branch->chunks.push_back(std::move(part.chunk));
    }
  }
  return branch;
}

VoxelPart join_parts(std::array<VoxelPart, 64> parts, int level, const VoxelLight& light) {
  bool same = true;
  for (const VoxelPart& part : parts) {
    same = same && part.single() && part.value == parts[0].value;
  }
  if (same) return {parts[0].value};
  return {0, root_of(std::move(parts), level, light)};
}

std::array<VoxelPart, 64> parts_of(const VoxelBranch& branch) {
  std::array<VoxelPart, 64> parts;
  std::size_t value = 0;
  std::size_t next = 0;
  for (std::uint64_t left = branch.mask; left != 0; left &= left - 1) {
    const auto child = static_cast<unsigned>(std::countr_zero(left));
    if (has_bit(branch.full, child)) {
      parts[child].value = branch.values[value++];
    } else if (branch.chunks.empty()) {
      parts[child].branch = branch.branches[next++];
    } else {
      parts[child].chunk = branch.chunks[next++];
    }
  }
  return parts;
}

std::optional<std::uint32_t> VoxelSource::known(const VoxelBox&) const { return {}; }

std::shared_ptr<const VoxelGrid> VoxelGrid::make(const VoxelSource& source,
                                                 const VoxelGridOptions& options) {
  const Stopwatch watch;
  Build build(source, options);
  VoxelTree tree = build.run();
  return std::make_shared<const VoxelGrid>(
      std::move(tree), VoxelGridCost{watch.milliseconds() / 1000, build.blocks_read()});
}

}  // namespace photonlane
