// Voxels that emit, as boxes in which light is sought.

#include <functional>
#include <map>

#include "voxels/any_node.hpp"
#include "voxels/voxel_solid.hpp"

namespace photonlane {
namespace {

/// With more voxels that emit, or boxes of them, light is left to be found by chance.
constexpr std::size_t most_emitting = std::size_t{1} << 20;
constexpr std::size_t most_emitters = 4096;

}  // namespace

std::vector<Emitter> VoxelSolid::emitters(const std::vector<bool>& emitting) const {
  std::vector<Emitter> result;
  // Light of those with a color of their own is found by chance: it is not their material's.
  const auto emits = [&](std::uint32_t value) {
    const std::uint32_t material = material_of(value);
    return material < emitting.size() && emitting[material] &&
           color_of(value) == VoxelKind::no_color;
  };
  bool any = false;
  for (std::uint32_t value = 1; value < materials_.size(); ++value) any = any || emits(value);
  if (!any || turned_ || copies_ != VoxelCell{1, 1, 1}) return result;
  std::map<VoxelCell, std::uint32_t> cells;
  bool many = false;
  const std::function<void(const AnyVoxelNode&)> look = [&](const AnyVoxelNode& at) {
    for (std::uint64_t left = at.mask(); left != 0 && !many; left &= left - 1) {
      const auto child = static_cast<unsigned>(std::countr_zero(left));
      if (!has_bit(at.full(), child)) {
        look(at.child(child));
        continue;
      }
      const std::uint32_t value = at.value(child);
      if (!emits(value)) continue;
      many = at.level > brick_level + 1 || cells.size() > most_emitting;
      const VoxelCell low = at.child_low(child);
      for (int k = 0; k < 64 && !many; ++k) {
        if (at.level == brick_level && k > 0) break;
        cells.emplace(VoxelCell{low[0] + (k & 3), low[1] + (k >> 2 & 3), low[2] + (k >> 4)}, value);
      }
    }
  };
  look(AnyVoxelNode::root_of(tree_));
  if (many) return result;
  // Those that lie together are one box, so that no light is sought on faces within.
  while (!cells.empty()) {
    const VoxelCell low = cells.begin()->first;
    const std::uint32_t value = cells.begin()->second;
    VoxelCell high{low[0] + 1, low[1] + 1, low[2] + 1};
    const auto each = [](const VoxelCell& from, const VoxelCell& to, const auto& work) {
      for (int x = from[0]; x < to[0]; ++x) {
        for (int y = from[1]; y < to[1]; ++y) {
          for (int z = from[2]; z < to[2]; ++z) work(VoxelCell{x, y, z});
        }
      }
    };
    for (const std::size_t axis : {2u, 1u, 0u}) {
      for (bool grows = true; grows;) {
        VoxelCell from = low;
        VoxelCell to = high;
        from[axis] = high[axis];
        to[axis] = high[axis] + 1;
        each(from, to, [&](const VoxelCell& cell) {
          const auto found = cells.find(cell);
          grows = grows && found != cells.end() && found->second == value;
        });
        if (grows) ++high[axis];
      }
    }
    Emitter one;
    one.item = value;
    one.material = material_of(value);
    one.low = to_room(Vec3d(low[0], low[1], low[2]));
    one.high = to_room(Vec3d(high[0], high[1], high[2]));
    each(low, high, [&](const VoxelCell& cell) { cells.erase(cell); });
    result.push_back(one);
    if (result.size() > most_emitters) return {};
  }
  return result;
}

}  // namespace photonlane
