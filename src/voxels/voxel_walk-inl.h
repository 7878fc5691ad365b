// Per-target include: one lane from cell to cell through a tree of voxels.

#if defined(PHOTONLANE_VOXEL_WALK_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_VOXEL_WALK_INL_H_
#undef PHOTONLANE_VOXEL_WALK_INL_H_
#else
#define PHOTONLANE_VOXEL_WALK_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <bit>
#include <cmath>

#include "photonlane/base/random.hpp"
#include "voxels/any_node.hpp"
#include "voxels/chunk_maker.hpp"
#include "voxels/voxel_lanes.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {

/// Bits of 2 x 2 x 2 children, those of the lowest.
constexpr std::uint64_t eight_children = 0x330033;

/// Numbered faces of cells, along one axis of a lane.
struct Faces {
  double offset;  ///< face k lies at (k - offset) / divisor
  double divisor;
  double from;
  double way;
  bool down;  ///< to lower cells
  double at(std::int64_t face) const { return (static_cast<double>(face) - offset) / divisor; }
  double at(std::int32_t face) const { return (static_cast<double>(face) - offset) / divisor; }
  /// The face through which the lane leaves a cell.
  std::int32_t out_of(std::int32_t cell) const { return down ? cell : cell + 1; }
};

HWY_INLINE Faces faces_of(double from, double way) {
  if (std::abs(way) < slowest_way) return {-1e30, 1e-30, from, 0, false};
  return {from, way, from, way, way < 0};
}

/// The cell along an axis after all faces at less than t were passed, or with `also` those at t
/// too. It lies between `first` and `last`, in the order of the way.
inline std::int64_t cell_at(const Faces& faces, double t, bool also, std::int64_t first,
                            std::int64_t last) {
  const auto passed = [&](std::int64_t face) {
    const double at = faces.at(face);
    return also ? at <= t : at < t;
  };
  constexpr double far = 1 << 30;
  const double place = faces.from + faces.way * t;
  auto cell = static_cast<std::int64_t>(std::floor(std::clamp(place, -far, far)));
  if (faces.way == 0) return std::clamp(cell, first, last);
  if (faces.down) {
    cell = std::clamp(cell, last, first);
    while (cell > last && passed(cell)) --cell;
    while (cell < first && !passed(cell + 1)) ++cell;
  } else {
    cell = std::clamp(cell, first, last);
    while (cell < last && passed(cell + 1)) ++cell;
    while (cell > first && !passed(cell)) --cell;
  }
  return cell;
}

/// What all lanes of a batch go by.
struct WalkContext {
  const VoxelTree& tree;
  const VoxelBox& bounds;
  const VoxelBodies& bodies;
  bool any;
  VoxelLanes& lanes;
};

/// One lane on its way through a tree.
class VoxelWalk {
 public:
  void use(const WalkContext& context) {
    context_ = &context;
    top_ = context.tree.level;
    branch_[top_ - chunk_level] = context.tree.root.get();
    mask_[top_] = context.tree.root->mask;
  }

  /// Lane i, from where it starts.
  void begin(std::size_t i) {
    const VoxelLanes& lanes = context_->lanes;
    i_ = i;
    steps_ = 0;
    detail_ = lanes.detail;
    level_ = top_;
    octant_ = (lanes.way[0][i] < 0 ? 1u : 0u) | (lanes.way[1][i] < 0 ? 2u : 0u) |
              (lanes.way[2][i] < 0 ? 4u : 0u);
  }

  /// Where the lane comes into bounds; false: nowhere.
  bool enter();

  /// What is in the cell the lane has come to; true where the lane ends there.
  HWY_INLINE bool ends_here() {
    const int from = level_;
    const bool ends = look();
    if (context_->lanes.visits != nullptr) note(from, ends);
    if (!ends) return false;
    end();
    return true;
  }
  /// The lane has met nothing.
  void give_up() { context_->lanes.steps[i_] = steps_; }
  /// The cube of 2^shift() cells a side around the cell is passed next.
  int shift() const { return shift_; }

  /// Has come to a cell across a face.
  void come_to(const std::int32_t* cell, double t, int axis) {
    for (int k = 0; k < 3; ++k) cell_[k] = cell[k];
    t_ = t;
    axis_ = axis;
  }
  /// The same from the cell before; false: it has left the tree.
  HWY_INLINE bool go_to(std::int32_t x, std::int32_t y, std::int32_t z, double t, int axis) {
    const std::int32_t changed = (x ^ cell_[0]) | (y ^ cell_[1]) | (z ^ cell_[2]);
    cell_[0] = x;
    cell_[1] = y;
    cell_[2] = z;
    t_ = t;
    axis_ = axis;
    // Ways out of the tree change bits beyond its sides, or the sign.
    const int level = (std::bit_width(static_cast<std::uint32_t>(changed)) + 1) / 2;
    level_ = std::max(level_, level);
    return level <= top_;
  }
  /// Out of the cube around; false: out of the tree.
  bool pass();

  const std::int32_t* cell() const { return cell_; }

 private:
  Faces faces(int axis) const {
    return faces_of(context_->lanes.from[axis][i_], context_->lanes.way[axis][i_]);
  }
  bool beyond_start() const {
    const double start = context_->lanes.start[i_];
    if (!context_->lanes.single) return t_ > start;
    return static_cast<float>(t_) > static_cast<float>(start);
  }
  bool before_limit() const {
    const double limit = context_->lanes.limit[i_];
    if (!context_->lanes.single) return t_ < limit;
    return static_cast<float>(t_) < static_cast<float>(limit);
  }

  /// Looks what is in the lane's cell, from the node at level_ on that holds it, and how large the
  /// cube around is that is all alike. True where the cell is set, or a node stands for it.
  HWY_INLINE bool look() {
    int level = level_;
    unsigned child = 0;
    std::uint64_t mask = 0;
    bool set = false;
    for (;; --level) {
      ++steps_;
      child = child_of(cell_[0], cell_[1], cell_[2], level);
      mask = mask_[level];
      if (!has_bit(mask, child)) break;
      set = level == brick_level;
      if (set) break;
      const std::uint64_t full =
          level <= chunk_level ? node_[level]->full : branch_[level - chunk_level]->full;
      set = has_bit(full, child);
      if (set) break;
      const unsigned rank = rank_in(mask & ~full, child);
      if (level > chunk_level) {
        if (!go_down_above(level, rank)) break;
      } else if (!go_down(level, rank)) {
        break;
      }
    }
    level_ = level;
    shift_ = 2 * (level - 1);
    if (set) {
      stands_ = false;
      return true;
    }
    if (stopped_) {
      stopped_ = false;
      return stands_;
    }
    // Where nothing else of the node lies in the lane's way it is passed as a whole, and so are
    // those above.
    if ((mask & octant_boxes.box[octant_][child]) == 0) {
      shift_ += 2;
      while (level < top_) {
        ++level;
        const unsigned own = child_of(cell_[0], cell_[1], cell_[2], level);
        const std::uint64_t others = octant_boxes.box[octant_][own] & ~(std::uint64_t{1} << own);
        if ((mask_[level] & others) != 0) break;
        shift_ += 2;
      }
    } else if ((mask >> (child & 0x2a) & eight_children) == 0) {
      shift_ += 1;
    }
    return false;
  }

  /// To the child of a branch; false: it is too small to go into.
  bool go_down_above(int level, unsigned rank) {
    const VoxelBranch& branch = *branch_[level - chunk_level];
    if (level > chunk_level + 1) {
      const VoxelBranch& next = *branch.branches[rank];
      if (detail_ > 0 && is_small(level - 1, next.mean)) return false;
      branch_[level - 1 - chunk_level] = &next;
      mask_[level - 1] = next.mask;
      return true;
    }
    chunk_ = branch.chunks[rank].get();
    if (detail_ > 0 && is_small(level - 1, chunk_->nodes->mean)) return false;
    node_[chunk_level] = chunk_->nodes;
    mask_[chunk_level] = chunk_->nodes->mask;
    return true;
  }
  /// The same of a chunk's node.
  HWY_INLINE bool go_down(int level, unsigned rank) {
    const std::uint32_t next = node_[level]->first + rank;
    if (level > brick_level + 1) {
      const VoxelNode* const node = chunk_->nodes + next;
      if (detail_ > 0 && is_small(level - 1, node->mean)) return false;
      node_[level - 1] = node;
      mask_[level - 1] = node->mask;
      return true;
    }
    if (detail_ > 0 && is_small_brick(next)) return false;
    brick_ = next;
    mask_[brick_level] = chunk_->masks[next];
    return true;
  }

  /// Only where the lane comes to it from outside, so that it may end there.
  bool looks_small(double side) const {
    return side < detail_ * t_ && axis_ >= 0 && beyond_start();
  }
  /// Whether a node of a level that the lane comes to is so small that it is not gone into. Whether
  /// it is met then goes by how much of it is covered, by chance, the same for the same lane.
  bool is_small(int level, std::uint32_t mean) {
    const double side = static_cast<double>(1 << (2 * level));
    if (!looks_small(side)) return false;
    stopped_ = true;
    stands_ = draw(level) * 255 < static_cast<double>(mean >> 24);
    return true;
  }
  bool is_small_brick(std::uint32_t brick) {
    constexpr double side = 4;
    if (!looks_small(side)) return false;
    const std::uint64_t mask = chunk_->masks[brick];
    std::uint64_t seen = mask | mask >> 32;  // across z
    seen |= seen >> 16;
    int covered = std::popcount(seen & 0xffff);
    seen = mask | mask >> 8;
    seen |= seen >> 4;
    covered += std::popcount(seen & 0x000f000f000f000f);
    seen = mask | mask >> 2;
    seen |= seen >> 1;
    covered += std::popcount(seen & 0x1111111111111111);
    stopped_ = true;
    stands_ = draw(brick_level) * 48 < covered;
    return true;
  }

  double draw(int level) const {
    const int shift = 2 * level;
    std::uint64_t bits = mix(static_cast<std::uint64_t>(cell_[0] >> shift) |
                             static_cast<std::uint64_t>(cell_[1] >> shift) << 17 |
                             static_cast<std::uint64_t>(cell_[2] >> shift) << 34 |
                             static_cast<std::uint64_t>(level) << 51);
    for (const auto& way : context_->lanes.way) {
      bits = mix(bits ^ std::bit_cast<std::uint64_t>(way[i_]));
    }
    return static_cast<double>(bits >> 11) * 0x1p-53;
  }

  /// The node whose child the lane's cell is in, told like any other.
  AnyVoxelNode node() const {
    AnyVoxelNode any;
    any.level = level_;
    for (std::size_t k = 0; k < 3; ++k) any.low[k] = cell_[k] & -(1 << (2 * level_));
    if (level_ > chunk_level) {
      any.branch = branch_[level_ - chunk_level];
    } else {
      any.chunk = chunk_;
      any.node = node_[std::max(level_, brick_level + 1)];
      any.brick = brick_;
    }
    return any;
  }
  unsigned child() const { return child_of(cell_[0], cell_[1], cell_[2], level_); }
  std::uint32_t value() const { return node().value(child()); }

  /// Notes what was just looked into: nodes from a level down, and the cube that is passed or met.
  void note(int from, bool ends) {
    std::vector<VoxelVisit>& visits = *context_->lanes.visits;
    const auto put = [&](VoxelVisitKind kind, int shift) {
      const std::int32_t whole = -(std::int32_t{1} << shift);
      visits.push_back({kind,
                        {cell_[0] & whole, cell_[1] & whole, cell_[2] & whole},
                        std::int32_t{1} << shift,
                        t_});
    };
    for (int level = from; level >= level_; --level) put(VoxelVisitKind::opened, 2 * level);
    put(ends ? VoxelVisitKind::met : VoxelVisitKind::passed, shift_);
  }

  /// In a cell that is set, or before a node that stands for its cells.
  void end() {
    // From within what is set, or where a distance rounded to a float is no longer beyond the
    // start.
    if (axis_ < 0 || !beyond_start()) {
      leave();
    } else {
      tell(false);
    }
    context_->lanes.steps[i_] = steps_;
  }

  std::uint32_t body_of(std::uint32_t value) const {
    const std::uint32_t* const bodies = context_->bodies.of_value;
    return bodies != nullptr ? bodies[value] : 0;
  }

  /// From within what is set: to where it ends, or another body begins.
  void leave() {
    detail_ = 0;
    bool set = look();
    const std::uint32_t body = body_of(value());
    std::uint32_t last = 0;
    VoxelCell left{};
    while (set) {
      const std::uint32_t own = value();
      if (body_of(own) != body) break;
      last = own;
      left = {cell_[0], cell_[1], cell_[2]};
      set = pass();
      if (!(t_ < context_->lanes.limit[i_])) return;
      if (set) set = look();
    }
    if (!beyond_start() || !before_limit()) return;
    tell(!set);
    if (set) return;
    context_->lanes.cell[i_] = left;
    context_->lanes.value[i_] = last;
  }

  void tell(bool leaving) {
    if (!before_limit()) return;
    VoxelLanes& lanes = context_->lanes;
    lanes.met[i_] = true;
    lanes.t[i_] = t_;
    lanes.axis[i_] = static_cast<std::int8_t>(axis_);
    lanes.leaving[i_] = leaving;
    lanes.cell[i_] = {cell_[0], cell_[1], cell_[2]};
    lanes.level[i_] = 0;
    if (context_->any || leaving) return;
    if (stands_) {
      tell_node();
    } else {
      lanes.value[i_] = value();
    }
  }

  /// A node that stands for what is in it.
  void tell_node() {
    VoxelLanes& lanes = context_->lanes;
    const AnyVoxelNode own = node().child(child());
    lanes.level[i_] = static_cast<std::int8_t>(own.level);
    lanes.cell[i_] = own.low;
    if (own.level == brick_level) {
      std::uint32_t values[64];
      const int count = brick_values(*own.chunk, *own.node, own.brick, values);
      lanes.value[i_] = values[count / 2];
      lanes.mean[i_] = mean_of(values, count);
      return;
    }
    // A color for all of them, and the material of one.
    lanes.mean[i_] = own.branch != nullptr ? own.branch->mean : own.node->mean;
    AnyVoxelNode some = own;
    while (some.full() == 0) {
      some = some.child(static_cast<unsigned>(std::countr_zero(some.mask())));
    }
    lanes.value[i_] = some.value(static_cast<unsigned>(std::countr_zero(some.full())));
  }

  std::uint32_t mean_of(const std::uint32_t* values, int count) const {
    const VoxelTree& tree = context_->tree;
    if (!tree.colored) return 0;
    Color sum(0, 0, 0);
    for (int i = 0; i < count; ++i) sum += light_of(*tree.palette, values[i]);
    return color_code(sum / static_cast<float>(count));
  }

  const WalkContext* context_ = nullptr;
  std::size_t i_ = 0;
  unsigned octant_ = 0;
  int top_ = 0;
  std::uint32_t steps_ = 0;
  int shift_ = 0;
  int axis_ = -1;  ///< across which the lane came into its cell; -1: it started there
  int level_ = 0;
  std::int32_t cell_[3] = {0, 0, 0};
  double t_ = 0;  ///< where it came into its cell
  double detail_ = 0;
  bool stopped_ = false;  ///< before a node that is too small
  bool stands_ = false;   ///< and that stands for its cells

  /// The nodes that hold the cell, by level, from level_ up.
  std::uint64_t mask_[most_voxel_level + 1];
  const VoxelNode* node_[chunk_level + 1];
  const VoxelBranch* branch_[most_voxel_level - chunk_level + 1];
  const VoxelChunk* chunk_ = nullptr;
  std::uint32_t brick_ = 0;
};

inline bool VoxelWalk::pass() {
  const std::int32_t within = (std::int32_t{1} << shift_) - 1;
  const Faces faces[3] = {this->faces(0), this->faces(1), this->faces(2)};
  std::int32_t last[3];  // cell of the cube
  double at[3];
  for (int axis = 0; axis < 3; ++axis) {
    last[axis] = faces[axis].down ? cell_[axis] & ~within : cell_[axis] | within;
    at[axis] = faces[axis].at(faces[axis].out_of(last[axis]));
  }
  int axis = 0;
  if (at[1] < at[0]) axis = 1;
  if (at[2] < at[axis]) axis = 2;
  const double t = at[axis];
  std::int32_t next[3];
  for (int other = 0; other < 3; ++other) {
    next[other] = static_cast<std::int32_t>(
        cell_at(faces[other], t, other < axis, cell_[other], last[other]));
  }
  next[axis] = faces[axis].down ? last[axis] - 1 : last[axis] + 1;
  return go_to(next[0], next[1], next[2], t, axis);
}

inline bool VoxelWalk::enter() {
  const Faces faces[3] = {this->faces(0), this->faces(1), this->faces(2)};
  const VoxelBox& bounds = context_->bounds;
  const double limit = context_->lanes.limit[i_];
  t_ = context_->lanes.lead[i_];
  axis_ = -1;
  std::int64_t cell[3];
  constexpr std::int64_t far = std::int64_t{1} << 30;
  for (int axis = 0; axis < 3; ++axis) {
    const Faces& own = faces[axis];
    cell[axis] = cell_at(own, t_, true, own.down ? far : -far, own.down ? -far : far);
  }
  double t = t_;
  for (int axis = 0; axis < 3; ++axis) {
    const Faces& own = faces[axis];
    const std::int64_t low = bounds.low[static_cast<std::size_t>(axis)];
    const std::int64_t high = bounds.high[static_cast<std::size_t>(axis)] - 1;
    if (own.down ? cell[axis] < low : cell[axis] > high) return false;
    if (own.down ? cell[axis] <= high : cell[axis] >= low) continue;
    const double at = own.at(own.down ? high + 1 : low);
    if (at >= t) {
      t = at;
      axis_ = axis;
    }
  }
  if (axis_ >= 0) {
    if (!(t < limit)) return false;
    for (int axis = 0; axis < 3; ++axis) {
      const Faces& own = faces[axis];
      const std::int64_t low = bounds.low[static_cast<std::size_t>(axis)];
      const std::int64_t high = bounds.high[static_cast<std::size_t>(axis)] - 1;
      if (axis == axis_) {
        cell[axis] = own.down ? high : low;
      } else {
        cell[axis] = cell_at(own, t, axis < axis_, cell[axis], own.down ? low - 1 : high + 1);
        if (cell[axis] < low || cell[axis] > high) return false;
      }
    }
    t_ = t;
  }
  for (int axis = 0; axis < 3; ++axis) cell_[axis] = static_cast<std::int32_t>(cell[axis]);
  return true;
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
