#include "photonlane/voxels/voxel_grid.hpp"

#include <unordered_set>

#include "photonlane/base/random.hpp"
#include "voxels/any_node.hpp"
#include "voxels/chunk_maker.hpp"

namespace photonlane {
namespace {

/// Moves `best` to the outermost cell along an axis that is set, where one lies farther out.
void reach_out(const AnyVoxelNode& at, std::size_t axis, bool high, std::int32_t& best) {
  for (int step = 0; step < 4; ++step) {
    const int row = high ? 3 - step : step;
    const std::uint64_t mask = at.mask();
    for (unsigned child = 0; child < 64; ++child) {
      if (static_cast<int>(child >> (2 * axis) & 3) != row || !has_bit(mask, child)) continue;
      const int side = at.child_side();
      const std::int32_t low = at.child_low(child)[axis];
      const std::int32_t out = high ? low + side - 1 : low;
      if (high ? out <= best : out >= best) continue;
      if (has_bit(at.full(), child)) {
        best = out;
      } else {
        reach_out(at.child(child), axis, high, best);
      }
    }
  }
}

void count_bytes(const VoxelBranch& branch, std::unordered_set<const void*>& seen,
                 std::size_t& bytes, std::size_t& around) {
  bytes += sizeof(VoxelBranch) + branch.values.size() * 4 + 8 * branch.branches.size() +
           8 * branch.chunks.size();
  around += 8 * (branch.branches.size() + branch.chunks.size());
  for (const auto& chunk : branch.chunks) {
    if (!seen.insert(chunk.get()).second) continue;
    bytes += chunk->bytes();
    around += sizeof(VoxelChunk) + 48;
  }
  for (const auto& below : branch.branches) {
    if (seen.insert(below.get()).second) count_bytes(*below, seen, bytes, around);
  }
}

std::uint64_t hash_of(const VoxelBranch& branch) {
  const std::uint64_t masks[] = {branch.mask, branch.full, branch.set};
  std::uint64_t hash = hash_bytes(masks, sizeof masks, branch.values.size());
  hash = hash_bytes(branch.values.data(), 4 * branch.values.size(), hash);
  for (const auto& below : branch.branches) hash = mix(hash ^ hash_of(*below));
  // All of a chunk lies together, its nodes first.
  for (const auto& chunk : branch.chunks) hash = hash_bytes(chunk->nodes, chunk->bytes(), hash);
  return hash;
}

}  // namespace

VoxelGrid::VoxelGrid(VoxelTree tree, const VoxelGridCost& cost)
    : tree_(std::make_unique<const VoxelTree>(std::move(tree))), cost_(cost) {}
VoxelGrid::~VoxelGrid() = default;

const VoxelCell& VoxelGrid::size() const { return tree_->size; }
const VoxelPalette& VoxelGrid::palette() const { return *tree_->palette; }
std::uint32_t VoxelGrid::at(const VoxelCell& cell) const { return voxel_at(*tree_, cell); }
std::uint64_t VoxelGrid::count() const { return tree_->root->set; }

std::uint64_t VoxelGrid::hash() const {
  const VoxelPalette& own = *tree_->palette;
  std::uint64_t hash = hash_bytes(tree_->size.data(), sizeof tree_->size, own.direct ? 1 : 2);
  for (const VoxelKind& kind : own.kinds) {
    const std::uint32_t both[] = {static_cast<std::uint32_t>(kind.material), kind.color};
    hash = hash_bytes(both, sizeof both, hash);
  }
  return mix(hash ^ hash_of(*tree_->root));
}

VoxelBox VoxelGrid::bounds() const {
  if (tree_->root->mask == 0) return {};
  const AnyVoxelNode root = AnyVoxelNode::root_of(*tree_);
  VoxelBox box;
  for (std::size_t axis = 0; axis < 3; ++axis) {
    std::int32_t low = tree_->side();
    std::int32_t high = -1;
    reach_out(root, axis, false, low);
    reach_out(root, axis, true, high);
    box.low[axis] = low;
    box.high[axis] = high + 1;
  }
  return box;
}

std::size_t VoxelGrid::bytes() const {
  std::unordered_set<const void*> seen;
  std::size_t bytes = 0;
  std::size_t around = 0;
  count_bytes(*tree_->root, seen, bytes, around);
  return bytes;
}

std::size_t VoxelGrid::memory_bytes() const {
  std::unordered_set<const void*> seen;
  std::size_t bytes = 0;
  std::size_t around = 0;
  count_bytes(*tree_->root, seen, bytes, around);
  return bytes + around + sizeof(VoxelTree) + tree_->palette->kinds.size() * sizeof(VoxelKind);
}

}  // namespace photonlane
