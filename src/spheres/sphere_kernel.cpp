#include <bit>
#include <cmath>
#include <cstddef>
#include <limits>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "spheres/sphere_lanes.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "spheres/sphere_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef PHOTONLANE_SPHERES_SHARED
#define PHOTONLANE_SPHERES_SHARED
namespace photonlane {

/// By octant of a lane and axes of a node: which bits of a child's number are turned over, so that
/// children are gone through in the lane's order.
struct ChildOrders {
  std::uint8_t turned[8][64];
  constexpr ChildOrders() : turned{} {
    for (unsigned octant = 0; octant < 8; ++octant) {
      for (unsigned axes = 0; axes < 64; ++axes) {
        unsigned bits = 0;
        for (unsigned depth = 0; depth < 3; ++depth) {
          const unsigned axis = axes >> (2 * depth) & 3;
          if (axis < 3 && (octant >> axis & 1) != 0) bits |= 4u >> depth;
        }
        turned[octant][axes] = static_cast<std::uint8_t>(bits);
      }
    }
  }
};
inline constexpr ChildOrders child_orders;

/// Bits of a mask with their numbers turned over.
inline unsigned turn_bits(unsigned mask, unsigned turned) {
  if ((turned & 4) != 0) mask = (mask >> 4 | mask << 4) & 0xff;
  if ((turned & 2) != 0) mask = (mask >> 2 & 0x33) | (mask << 2 & 0xcc);
  if ((turned & 1) != 0) mask = (mask >> 1 & 0x55) | (mask << 1 & 0xaa);
  return mask;
}

/// Lanes as boxes are compared with them, in floats: counted from the tree's origin, or from where
/// they come near it, where that is far.
struct BoxLanes {
  static constexpr std::size_t capacity = SphereLanes::capacity;
  alignas(64) float from[3][capacity];
  alignas(64) float inverse[3][capacity];
  alignas(64) float way[3][capacity];
  alignas(64) float doubt[capacity];     ///< meters: what floats may get wrong of a place
  alignas(64) float slack[3][capacity];  ///< in t: that
  alignas(64) float start[capacity];
  alignas(64) float limit[capacity];     ///< below all numbers: nothing is looked for any more
  alignas(64) float rounding[capacity];  ///< what t may be wrong by, beside
  alignas(64) std::int32_t steps[capacity];
  alignas(64) std::int32_t octant[capacity];
  alignas(64) double offset[capacity];  ///< t of where they are counted from
  alignas(64) double inverse_square[capacity];
  alignas(64) double tiny[capacity];  ///< meters: what doubles may get wrong

  static constexpr float never = std::numeric_limits<float>::infinity();

  void bound(std::size_t i, double t) {
    // Rounded up.
    const auto near = static_cast<float>(t - offset[i]);
    limit[i] = near + std::abs(near) * 0x1p-22f + rounding[i];
  }
};

inline float power_of_two(std::int8_t exponent) {
  return std::bit_cast<float>(static_cast<std::uint32_t>(127 + exponent) << 23);
}

struct StackEntry {
  std::uint32_t node;
  std::uint32_t level;
  float near;
};

}  // namespace photonlane
#endif

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Lanes that go through nodes together, unless they are as few as that.
constexpr std::size_t company = 16;
constexpr int few = 2;
using DP = hn::CappedTag<float, company>;
using DF = hn::CappedTag<float, 8>;
using DW = hn::CappedTag<double, 8>;

template <class D>
HWY_INLINE unsigned BitsOf(D d, hn::Mask<D> mask) {
  std::uint8_t bytes[8] = {};
  hn::StoreMaskBits(d, mask, bytes);
  return bytes[0];
}

template <class D>
HWY_INLINE unsigned BitsOf16(D d, hn::Mask<D> mask) {
  std::uint8_t bytes[8] = {};
  hn::StoreMaskBits(d, mask, bytes);
  return bytes[0] | (static_cast<unsigned>(bytes[1]) << 8);
}

/// One of them, its coordinates side by side.
struct OneLane {
  HWY_ALIGN float from[4] = {};
  HWY_ALIGN float inverse[4] = {};
  HWY_ALIGN float slack[4] = {};
  std::size_t near_side[3];  ///< where a node has the sides that the lane meets first
  std::size_t far_side[3];
  float start;
  unsigned octant;
  OneLane(const BoxLanes& boxes, std::size_t i)
      : start(boxes.start[i]), octant(static_cast<unsigned>(boxes.octant[i])) {
    for (int axis = 0; axis < 3; ++axis) {
      from[axis] = boxes.from[axis][i];
      inverse[axis] = boxes.inverse[axis][i];
      slack[axis] = boxes.slack[axis][i];
      SidesOf(octant, axis, &near_side[axis], &far_side[axis]);
    }
  }
  static void SidesOf(unsigned octant, int axis, std::size_t* near_side, std::size_t* far_side) {
    const std::size_t low = offsetof(SphereNode, low) + 8 * static_cast<std::size_t>(axis);
    const std::size_t high = offsetof(SphereNode, high) + 8 * static_cast<std::size_t>(axis);
    const bool back = (octant >> axis & 1) != 0;
    *near_side = back ? high : low;
    *far_side = back ? low : high;
  }
};

/// A node's steps and origin as one lane has them: byte * scale + near_base is where it comes into
/// a box, byte * scale + far_base where it leaves it. Lanes together work it out alike.
struct NodeLane {
  HWY_ALIGN float scale[4];
  HWY_ALIGN float near_base[4];
  HWY_ALIGN float far_base[4];
};
HWY_INLINE NodeLane AsSeen(const SphereNode& node, const OneLane& lane) {
  const hn::CappedTag<float, 4> d;
  const hn::RebindToSigned<decltype(d)> d32;
  const hn::Rebind<std::int8_t, decltype(d)> d8;
  NodeLane result;
  for (std::size_t k = 0; k < 4; k += hn::Lanes(d)) {
    // The fourth is the axes' byte; nothing comes of it.
    const auto exponent = hn::PromoteTo(d32, hn::LoadU(d8, node.exponent + k));
    const auto step = hn::BitCast(
        d,
        hn::And(hn::ShiftLeft<23>(hn::Add(exponent, hn::Set(d32, 127))), hn::Set(d32, 0x7f800000)));
    const auto inverse = hn::Load(d, lane.inverse + k);
    const auto scale = hn::Mul(step, inverse);
    const auto base =
        hn::Mul(hn::Sub(hn::LoadU(d, node.origin + k), hn::Load(d, lane.from + k)), inverse);
    // What is held in 65536ths may lie that far outside.
    const auto wide =
        hn::Add(hn::Load(d, lane.slack + k), hn::Mul(hn::Abs(scale), hn::Set(d, 1.0f / 256)));
    hn::Store(scale, d, result.scale + k);
    hn::Store(hn::Sub(base, wide), d, result.near_base + k);
    hn::Store(hn::Add(base, wide), d, result.far_base + k);
  }
  return result;
}

/// Which of a node's children a lane may come into before its limit, and where.
HWY_INLINE unsigned Children(const SphereNode& node, const OneLane& lane, float limit,
                             float* near) {
  const DF d;
  const hn::Rebind<std::uint8_t, DF> d8;
  const hn::RebindToSigned<DF> d32;
  const std::size_t width = hn::Lanes(d);
  const auto* const bytes = reinterpret_cast<const std::uint8_t*>(&node);
  const NodeLane seen = AsSeen(node, lane);
  unsigned result = 0;
  for (std::size_t k = 0; k < 8; k += width) {
    const auto side = [&](std::size_t offset) HWY_ATTR {
      return hn::ConvertTo(d, hn::PromoteTo(d32, hn::LoadU(d8, bytes + offset + k)));
    };
    auto in = hn::Set(d, lane.start);
    auto out = hn::Set(d, limit);
    const auto along = [&](int axis) HWY_ATTR {
      const auto by = hn::Set(d, seen.scale[axis]);
      in = hn::Max(
          in, hn::Add(hn::Mul(side(lane.near_side[axis]), by), hn::Set(d, seen.near_base[axis])));
      out = hn::Min(
          out, hn::Add(hn::Mul(side(lane.far_side[axis]), by), hn::Set(d, seen.far_base[axis])));
    };
    along(0);
    along(1);
    along(2);
    const auto there = hn::Le(side(offsetof(SphereNode, low)), side(offsetof(SphereNode, high)));
    hn::Store(in, d, near + k);
    result |= BitsOf(d, hn::And(there, hn::Le(in, out))) << k;
  }
  return result;
}

/// Spheres of a block, as doubles.
struct Eight {
  HWY_ALIGN double x[8];
  HWY_ALIGN double y[8];
  HWY_ALIGN double z[8];
  HWY_ALIGN double radius[8];
};

HWY_INLINE void Decode(const SphereTree& tree, const SphereNode& node, int child,
                       const SphereLeaf& leaf, Eight& eight) {
  const DW d;
  const hn::Rebind<std::uint16_t, DW> d16;
  const hn::Rebind<std::int32_t, DW> d32;
  const hn::Rebind<std::uint32_t, DW> du32;
  const hn::Rebind<float, DW> df;
  const std::size_t width = hn::Lanes(d);
  const std::uint16_t* const from[3] = {leaf.x, leaf.y, leaf.z};
  double* const to[3] = {eight.x, eight.y, eight.z};
  for (int axis = 0; axis < 3; ++axis) {
    const auto low = hn::Set(d, node.low_of(axis, child));
    const auto cell =
        hn::Set(d, (node.high[axis][child] - node.low[axis][child]) * node.step(axis) * 0x1p-16);
    const auto origin = hn::Set(d, tree.origin[axis]);
    for (std::size_t k = 0; k < 8; k += width) {
      const auto steps = hn::PromoteTo(d, hn::PromoteTo(d32, hn::LoadU(d16, from[axis] + k)));
      hn::Store(hn::Add(hn::Add(low, hn::Mul(steps, cell)), origin), d, to[axis] + k);
    }
  }
  const auto unit = hn::Set(d, tree.unit);
  for (std::size_t k = 0; k < 8; k += width) {
    const auto code = hn::PromoteTo(du32, hn::LoadU(d16, leaf.radius + k));
    const auto bits = hn::ShiftLeft<12>(hn::Add(code, hn::Set(du32, SphereRadius::offset)));
    const auto share =
        hn::IfThenZeroElse(hn::RebindMask(df, hn::Eq(code, hn::Zero(du32))), hn::BitCast(df, bits));
    hn::Store(hn::Mul(hn::PromoteTo(d, share), unit), d, eight.radius + k);
  }
}

/// Of eight spheres, those whose surface the lane may come to between its start and the limit.
HWY_INLINE unsigned MayMeet(const Eight& eight, const SphereLane& lane, double inverse_square,
                            double tiny_length, double limit) {
  const DW d;
  const std::size_t width = hn::Lanes(d);
  const auto way_x = hn::Set(d, lane.way_x);
  const auto way_y = hn::Set(d, lane.way_y);
  const auto way_z = hn::Set(d, lane.way_z);
  const auto inverse = hn::Set(d, inverse_square);
  const auto tiny = hn::Set(d, tiny_length);
  unsigned result = 0;
  for (std::size_t k = 0; k < 8; k += width) {
    const auto off_x = hn::Sub(hn::Load(d, eight.x + k), hn::Set(d, lane.x));
    const auto off_y = hn::Sub(hn::Load(d, eight.y + k), hn::Set(d, lane.y));
    const auto off_z = hn::Sub(hn::Load(d, eight.z + k), hn::Set(d, lane.z));
    // Only which spheres are looked at exactly goes by these: they may be contracted.
    const auto along =
        hn::Mul(hn::MulAdd(off_x, way_x, hn::MulAdd(off_y, way_y, hn::Mul(off_z, way_z))), inverse);
    const auto side_x = hn::NegMulAdd(along, way_x, off_x);
    const auto side_y = hn::NegMulAdd(along, way_y, off_y);
    const auto side_z = hn::NegMulAdd(along, way_z, off_z);
    const auto square =
        hn::MulAdd(side_x, side_x, hn::MulAdd(side_y, side_y, hn::Mul(side_z, side_z)));
    const auto wide = hn::Add(hn::Load(d, eight.radius + k), tiny);
    // A way is of unit length but for what floats round: half a chord is at most this.
    const auto most = hn::Set(d, 1.001);
    const auto after = hn::Ge(hn::MulAdd(wide, most, along), hn::Set(d, lane.start));
    const auto before = hn::Le(hn::NegMulAdd(wide, most, along), hn::Set(d, limit));
    const auto may = hn::And(hn::And(after, before), hn::Le(square, hn::Mul(wide, wide)));
    result |= BitsOf(d, may) << k;
  }
  return result;
}

/// Large sets wait for memory more than for anything else: what will be looked at next is sent for
/// while something else is done.
HWY_INLINE void SendFor(const SphereTree& tree, std::uint32_t level, std::uint64_t child) {
  __builtin_prefetch(tree.nodes[level] + child);
}
HWY_INLINE void SendForBlocks(const SphereTree& tree, std::uint64_t node, unsigned children) {
  if (tree.leaves == nullptr) return;
  for (; children != 0; children &= children - 1) {
    __builtin_prefetch(tree.leaves + tree.block_of(node, std::countr_zero(children)));
  }
}

/// A block's spheres: where they lie, or decoded into `room`.
HWY_INLINE const Eight* Spheres(const SphereTree& tree, std::uint64_t node, int child,
                                Eight& room) {
  const std::uint64_t block = tree.block_of(node, child);
  const SphereWide* wide = nullptr;
  if (tree.leaves == nullptr) {
    wide = tree.wide + block;
  } else if (tree.leaves[block].radius[0] == SphereLeaf::wide) {
    wide = &tree.wide_of(tree.leaves[block]);
  }
  static_assert(sizeof(Eight) == sizeof(SphereWide));
  if (wide != nullptr) return reinterpret_cast<const Eight*>(wide);
  Decode(tree, tree.nodes[0][node], child, tree.leaves[block], room);
  return &room;
}

HWY_INLINE SphereLane LaneOf(const SphereLanes& lanes, std::size_t i) {
  return {lanes.x[i],     lanes.y[i],     lanes.z[i],     lanes.way_x[i], lanes.way_y[i],
          lanes.way_z[i], lanes.start[i], lanes.limit[i], lanes.single};
}

/// Lane i looks at a sphere.
HWY_INLINE void LookAtSphere(const SphereTree& tree, std::uint64_t block, const Eight& eight, int k,
                             const SphereLane& lane, bool any, std::size_t i, BoxLanes& boxes,
                             SphereLanes& lanes) {
  const Vec3d center(eight.x[k], eight.y[k], eight.z[k]);
  double t = 0;
  if (!meet_exactly(center, eight.radius[k], lane, &t)) return;
  const auto slot = static_cast<std::uint32_t>(8 * block + static_cast<unsigned>(k));
  if (lanes.slot[i] != SphereLanes::none) {
    if (t > lanes.t[i]) return;
    if (t == lanes.t[i] && tree.item_of(slot) >= tree.item_of(lanes.slot[i])) return;
  }
  lanes.slot[i] = slot;
  lanes.t[i] = t;
  lanes.center_x[i] = center.x();
  lanes.center_y[i] = center.y();
  lanes.center_z[i] = center.z();
  boxes.bound(i, t);
  if (any) boxes.limit[i] = -BoxLanes::never;
}

/// Lane i looks at a block.
HWY_INLINE void LookAt(const SphereTree& tree, std::uint64_t block, const Eight& eight, bool any,
                       std::size_t i, BoxLanes& boxes, SphereLanes& lanes) {
  ++boxes.steps[i];
  const SphereLane lane = LaneOf(lanes, i);
  // As floats are told, a limit may be passed by half a last place.
  const double limit = lanes.single ? lanes.t[i] + std::abs(lanes.t[i]) * 0x1p-23 : lanes.t[i];
  for (unsigned left = MayMeet(eight, lane, boxes.inverse_square[i], boxes.tiny[i], limit);
       left != 0; left &= left - 1) {
    LookAtSphere(tree, block, eight, std::countr_zero(left), lane, any, i, boxes, lanes);
  }
}

/// The lanes `which` of the 16 from `first` on look at a block: in floats, whether they may meet a
/// sphere, and exactly, where they may.
void LookTogether(const SphereTree& tree, std::uint64_t block, const Eight& eight, unsigned which,
                  bool any, std::size_t first, BoxLanes& boxes, SphereLanes& lanes) {
  const DP d;
  const std::size_t width = hn::Lanes(d);
  for (unsigned left = which; left != 0; left &= left - 1) {
    ++boxes.steps[first + static_cast<std::size_t>(std::countr_zero(left))];
  }
  float at[4][8];
  for (int k = 0; k < 8; ++k) {
    at[0][k] = static_cast<float>(eight.x[k] - tree.origin.x());
    at[1][k] = static_cast<float>(eight.y[k] - tree.origin.y());
    at[2][k] = static_cast<float>(eight.z[k] - tree.origin.z());
    at[3][k] = static_cast<float>(eight.radius[k]);
  }
  for (int k = 0; k < 8; ++k) {
    unsigned may = 0;
    for (std::size_t part = 0; part < company; part += width) {
      const std::size_t own = first + part;
      const auto off_x = hn::Sub(hn::Set(d, at[0][k]), hn::Load(d, boxes.from[0] + own));
      const auto off_y = hn::Sub(hn::Set(d, at[1][k]), hn::Load(d, boxes.from[1] + own));
      const auto off_z = hn::Sub(hn::Set(d, at[2][k]), hn::Load(d, boxes.from[2] + own));
      const auto way_x = hn::Load(d, boxes.way[0] + own);
      const auto way_y = hn::Load(d, boxes.way[1] + own);
      const auto way_z = hn::Load(d, boxes.way[2] + own);
      const auto along = hn::MulAdd(off_x, way_x, hn::MulAdd(off_y, way_y, hn::Mul(off_z, way_z)));
      const auto side_x = hn::NegMulAdd(along, way_x, off_x);
      const auto side_y = hn::NegMulAdd(along, way_y, off_y);
      const auto side_z = hn::NegMulAdd(along, way_z, off_z);
      const auto square =
          hn::MulAdd(side_x, side_x, hn::MulAdd(side_y, side_y, hn::Mul(side_z, side_z)));
      const auto wide = hn::Add(hn::Set(d, at[3][k]), hn::Load(d, boxes.doubt + own));
      const auto before =
          hn::Le(hn::Sub(along, hn::Mul(wide, hn::Set(d, 1.001f))), hn::Load(d, boxes.limit + own));
      may |= BitsOf16(d, hn::And(before, hn::Le(square, hn::Mul(wide, wide)))) << part;
    }
    for (unsigned left = may & which; left != 0; left &= left - 1) {
      const std::size_t i = first + static_cast<std::size_t>(std::countr_zero(left));
      LookAtSphere(tree, block, eight, k, LaneOf(lanes, i), any, i, boxes, lanes);
    }
  }
}

/// Whether a child of a node is so small from where the lane comes to it that it is not gone into.
HWY_INLINE bool IsSmall(const SphereNode& node, int child, double t, double detail) {
  double longest = 0;
  for (int axis = 0; axis < 3; ++axis) {
    longest = std::max(longest, (node.high[axis][child] - node.low[axis][child]) * node.step(axis));
  }
  return longest < detail * t;
}

/// One sphere stands for all in a box: any of them, that the lane meets with the chance of all of
/// them together, were they spread over the box as chance has it; where it is met is drawn from the
/// disc that is seen. Many lanes see what they would see of all. What is drawn goes by the lane's
/// way and the node alone.
void MeetOneForAll(const SphereTree& tree, std::uint32_t above, std::uint32_t level, int child,
                   std::size_t i, BoxLanes& boxes, SphereLanes& lanes) {
  const SphereNode& node = tree.nodes[level][above];
  const std::uint64_t own = 8 * std::uint64_t{above} + static_cast<unsigned>(child);
  // Spheres of the part that are below the child, whose level is one less.
  const int shift = 3 * (tree.part_levels - static_cast<int>(level));
  const std::uint64_t part = own >> shift;
  const std::uint64_t blocks = tree.first_block[part + 1] - tree.first_block[part];
  const std::uint64_t first = (own - (part << shift)) << (3 * level);
  const std::uint64_t there = std::min(blocks - first, std::uint64_t{1} << (3 * level)) * 8;
  std::uint64_t bits = mix(own + (std::uint64_t{level} << 40) + 1);
  for (const double way : {lanes.way_x[i], lanes.way_y[i], lanes.way_z[i]}) {
    bits = mix(bits ^ std::bit_cast<std::uint64_t>(way));
  }
  const auto draw = [&] {
    bits = mix(bits + 0x9e3779b97f4a7c15u);
    return static_cast<double>(bits >> 11) * 0x1p-53;
  };
  const auto drawn = static_cast<std::uint64_t>(draw() * static_cast<double>(there));
  const std::uint64_t within = first + (drawn >> 3);
  const std::uint64_t leaf_node = (part << (3 * (tree.part_levels - 1))) + (within >> 3);
  const int leaf_child = static_cast<int>(within & 7);
  Eight room;
  const Eight* const eight = Spheres(tree, leaf_node, leaf_child, room);
  const auto k = static_cast<std::size_t>(drawn & 7);
  const Vec3d way(lanes.way_x[i], lanes.way_y[i], lanes.way_z[i]);
  double sides[3];
  for (int axis = 0; axis < 3; ++axis) {
    sides[axis] = (node.high[axis][child] - node.low[axis][child]) * node.step(axis);
  }
  const double across = std::abs(way.x()) * sides[1] * sides[2] +
                        std::abs(way.y()) * sides[2] * sides[0] +
                        std::abs(way.z()) * sides[0] * sides[1];
  const double radius = eight->radius[k];
  const double discs = static_cast<double>(there) * 3.14159265358979323846 * radius * radius;
  const double chance = across > 0 ? 1 - std::exp(-discs / across) : 1;
  if (!(draw() < chance)) return;
  // Where on the disc.
  const double off = std::sqrt(draw());
  const SineCosine turn = sine_cosine(2 * 3.14159265358979323846 * draw());
  const Vec3d side =
      (std::abs(way.z()) < 0.9 ? Vec3d(way.y(), -way.x(), 0) : Vec3d(0, way.z(), -way.y()))
          .normalized();
  const Vec3d up(way.y() * side.z() - way.z() * side.y(), way.z() * side.x() - way.x() * side.z(),
                 way.x() * side.y() - way.y() * side.x());
  const Vec3d normal = off * (turn.cosine * side + turn.sine * up) - std::sqrt(1 - off * off) * way;
  const Vec3d from(lanes.x[i], lanes.y[i], lanes.z[i]);
  const Vec3d center(eight->x[k], eight->y[k], eight->z[k]);
  const double t = (center - from).dot(way) - radius * std::sqrt(1 - off * off);
  if (!(t > lanes.start[i] && t < lanes.t[i])) return;
  const Vec3d place = from + t * way;
  lanes.slot[i] = static_cast<std::uint32_t>(8 * tree.block_of(leaf_node, leaf_child) + k);
  lanes.t[i] = t;
  lanes.center_x[i] = place.x() - radius * normal.x();
  lanes.center_y[i] = place.y() - radius * normal.y();
  lanes.center_z[i] = place.z() - radius * normal.z();
  boxes.bound(i, t);
}

/// One lane through a node and all below.
void MeetBelow(const SphereTree& tree, StackEntry first, bool any, std::size_t i, BoxLanes& boxes,
               SphereLanes& lanes) {
  StackEntry stack[8 * SphereTree::most_levels];
  std::size_t top = 0;
  stack[top++] = first;
  HWY_ALIGN float near[8];
  const OneLane lane(boxes, i);
  while (top > 0) {
    const StackEntry entry = stack[--top];
    if (!(entry.near <= boxes.limit[i])) continue;
    const SphereNode& node = tree.nodes[entry.level][entry.node];
    ++boxes.steps[i];
    const unsigned turned = child_orders.turned[lane.octant][node.axes & 63];
    const unsigned children = Children(node, lane, boxes.limit[i], near);
    if (entry.level == 0) SendForBlocks(tree, entry.node, children);
    unsigned hit = turn_bits(children, turned);
    if (entry.level > 0) {
      const std::size_t before = top;
      // The farthest first, so that the nearest is on top.
      while (hit != 0) {
        const unsigned k = static_cast<unsigned>(std::bit_width(hit)) - 1;
        hit &= ~(1u << k);
        const unsigned child = k ^ turned;
        SendFor(tree, entry.level - 1, 8 * entry.node + child);
        stack[top++] = {8 * entry.node + child, entry.level - 1, near[child]};
      }
      if (lanes.detail == 0 || static_cast<int>(entry.level) >= tree.part_levels) continue;
      // Those that are too small are looked at now, in the lane's order, and not gone into.
      std::size_t kept = before;
      for (std::size_t k = top; k-- > before;) {
        const int child = static_cast<int>(stack[k].node & 7);
        const double t = static_cast<double>(stack[k].near) + boxes.offset[i];
        if (!(stack[k].near <= boxes.limit[i]) || !IsSmall(node, child, t, lanes.detail)) continue;
        MeetOneForAll(tree, entry.node, entry.level, child, i, boxes, lanes);
        stack[k].near = BoxLanes::never;
      }
      for (std::size_t k = before; k < top; ++k) {
        if (stack[k].near != BoxLanes::never) stack[kept++] = stack[k];
      }
      top = kept;
      continue;
    }
    for (; hit != 0; hit &= hit - 1) {
      const unsigned child = static_cast<unsigned>(std::countr_zero(hit)) ^ turned;
      if (!(near[child] <= boxes.limit[i])) continue;
      Eight room;
      const Eight* const eight = Spheres(tree, entry.node, static_cast<int>(child), room);
      LookAt(tree, tree.block_of(entry.node, static_cast<int>(child)), *eight, any, i, boxes,
             lanes);
    }
  }
}

struct PacketEntry {
  HWY_ALIGN float near[company];  ///< infinite: the lane does not come there
  std::uint32_t node;
  std::uint32_t level;
};

/// Those of the 16 lanes from `first` on that are of one octant, through all nodes, each as it
/// would go alone (as in Wald, Slusallek, Benthin, Wagner, "Interactive Rendering with Coherent Ray
/// Tracing", 2001; left to themselves where few are left, as in Benthin, Wald, Woop, Ernst, Mark,
/// "Combining Single and Packet Ray Tracing for Arbitrary Ray Distributions", 2012).
void MeetTogether(const SphereTree& tree, std::size_t first, unsigned octant, unsigned which,
                  bool any, BoxLanes& boxes, SphereLanes& lanes) {
  constexpr float never = BoxLanes::never;
  const DP d;
  const hn::RebindToSigned<DP> d32;
  const DF d8;
  const hn::Rebind<std::uint8_t, DF> du8;
  const hn::RebindToSigned<DF> di8;
  const std::size_t width = hn::Lanes(d);
  std::size_t sides[6];
  for (int axis = 0; axis < 3; ++axis) {
    OneLane::SidesOf(octant, axis, &sides[2 * axis], &sides[2 * axis + 1]);
  }
  PacketEntry stack[8 * SphereTree::most_levels];
  std::size_t top = 1;
  for (std::size_t i = 0; i < company; ++i) {
    stack[0].near[i] = (which >> i & 1) != 0 ? boxes.start[first + i] : never;
  }
  stack[0].node = 0;
  stack[0].level = static_cast<std::uint32_t>(tree.levels - 1);
  HWY_ALIGN float near[8][company];
  HWY_ALIGN float bytes[6][8];
  while (top > 0) {
    const PacketEntry& entry = stack[--top];
    const std::uint32_t at = entry.node;
    const std::uint32_t level = entry.level;
    unsigned active = 0;
    for (std::size_t k = 0; k < company; k += width) {
      active |=
          BitsOf16(d, hn::Le(hn::Load(d, entry.near + k), hn::Load(d, boxes.limit + first + k)))
          << k;
    }
    if (active == 0) continue;
    if (std::popcount(active) <= few) {
      for (unsigned left = active; left != 0; left &= left - 1) {
        const auto i = static_cast<std::size_t>(std::countr_zero(left));
        MeetBelow(tree, {at, level, entry.near[i]}, any, first + i, boxes, lanes);
      }
      continue;
    }
    const SphereNode& node = tree.nodes[level][at];
    for (int side = 0; side < 6; ++side) {
      const auto* const from = reinterpret_cast<const std::uint8_t*>(&node) + sides[side];
      for (std::size_t k = 0; k < 8; k += hn::Lanes(d8)) {
        hn::Store(hn::ConvertTo(d8, hn::PromoteTo(di8, hn::LoadU(du8, from + k))), d8,
                  bytes[side] + k);
      }
    }
    unsigned hit[8] = {};
    unsigned some = 0;
    for (std::size_t k = 0; k < company; k += width) {
      const std::size_t own = first + k;
      const auto start = hn::Load(d, boxes.start + own);
      const auto limit = hn::Load(d, boxes.limit + own);
      // Lanes that were not at the node do not come to its children.
      const auto here = hn::Le(hn::Load(d, entry.near + k), limit);
      hn::Store(hn::Sub(hn::Load(d32, boxes.steps + own),
                        hn::VecFromMask(d32, hn::RebindMask(d32, here))),
                d32, boxes.steps + own);
      decltype(hn::Zero(d)) scale[3];
      decltype(hn::Zero(d)) near_base[3];
      decltype(hn::Zero(d)) far_base[3];
      const auto see = [&](int axis) HWY_ATTR {
        const auto inverse = hn::Load(d, boxes.inverse[axis] + own);
        scale[axis] = hn::Mul(hn::Set(d, power_of_two(node.exponent[axis])), inverse);
        const auto base = hn::Mul(
            hn::Sub(hn::Set(d, node.origin[axis]), hn::Load(d, boxes.from[axis] + own)), inverse);
        const auto wide = hn::Add(hn::Load(d, boxes.slack[axis] + own),
                                  hn::Mul(hn::Abs(scale[axis]), hn::Set(d, 1.0f / 256)));
        near_base[axis] = hn::Sub(base, wide);
        far_base[axis] = hn::Add(base, wide);
      };
      see(0);
      see(1);
      see(2);
      for (int child = 0; child < 8; ++child) {
        if (!node.has(child)) continue;
        auto in = start;
        auto out = limit;
        const auto along = [&](int axis) HWY_ATTR {
          in = hn::Max(in, hn::Add(hn::Mul(hn::Set(d, bytes[2 * axis][child]), scale[axis]),
                                   near_base[axis]));
          out = hn::Min(out, hn::Add(hn::Mul(hn::Set(d, bytes[2 * axis + 1][child]), scale[axis]),
                                     far_base[axis]));
        };
        along(0);
        along(1);
        along(2);
        const auto meets = hn::And(hn::Le(in, out), here);
        const unsigned bits = BitsOf16(d, meets) << k;
        hit[child] |= bits;
        some |= bits != 0 ? 1u << child : 0u;
        hn::Store(hn::IfThenElse(meets, in, hn::Set(d, never)), d, near[child] + k);
      }
    }
    if (level == 0) SendForBlocks(tree, at, some);
    const unsigned turned = child_orders.turned[octant][node.axes & 63];
    some = turn_bits(some, turned);
    if (level > 0) {
      while (some != 0) {
        const unsigned k = static_cast<unsigned>(std::bit_width(some)) - 1;
        some &= ~(1u << k);
        const unsigned child = k ^ turned;
        PacketEntry& to = stack[top++];
        for (std::size_t i = 0; i < company; i += width) {
          hn::Store(hn::Load(d, near[child] + i), d, to.near + i);
        }
        to.node = 8 * at + child;
        to.level = level - 1;
        SendFor(tree, level - 1, to.node);
      }
      continue;
    }
    for (; some != 0; some &= some - 1) {
      const unsigned child = static_cast<unsigned>(std::countr_zero(some)) ^ turned;
      Eight room;
      const Eight* const eight = Spheres(tree, at, static_cast<int>(child), room);
      const std::uint64_t block = tree.block_of(at, static_cast<int>(child));
      unsigned look = 0;
      for (std::size_t k = 0; k < company; k += width) {
        look |=
            BitsOf16(d, hn::Le(hn::Load(d, near[child] + k), hn::Load(d, boxes.limit + first + k)))
            << k;
      }
      look &= hit[child];
      if (std::popcount(look) > few) {
        LookTogether(tree, block, *eight, look, any, first, boxes, lanes);
        continue;
      }
      for (; look != 0; look &= look - 1) {
        LookAt(tree, block, *eight, any, first + static_cast<std::size_t>(std::countr_zero(look)),
               boxes, lanes);
      }
    }
  }
}

/// Lanes from far away are counted from where they come into the ball around everything.
void ComeNear(const SphereTree& tree, std::size_t i, BoxLanes& boxes, const SphereLanes& lanes) {
  boxes.limit[i] = -BoxLanes::never;
  const Vec3d from(lanes.x[i], lanes.y[i], lanes.z[i]);
  const Vec3d way(lanes.way_x[i], lanes.way_y[i], lanes.way_z[i]);
  const Vec3d off = tree.middle - from;
  const double inverse_square = boxes.inverse_square[i];
  const double along = off.dot(way) * inverse_square;
  const double beside = (off - along * way).norm();
  const double doubt = 1e-13 * off.norm();
  const double reach = tree.reach * (1 + 1e-9) + 10 * doubt;
  if (!(beside <= reach)) return;
  const double half = std::sqrt((reach - beside) * (reach + beside) * inverse_square) * (1 + 1e-6);
  if (along + half < lanes.start[i] || along - half > lanes.limit[i]) return;
  boxes.offset[i] = along - half;
  const Vec3d near = from + boxes.offset[i] * way - tree.origin;
  const double farthest = near.cwiseAbs().maxCoeff();
  boxes.tiny[i] = doubt + 1e-12 * (farthest + tree.reach);
  const auto slack = static_cast<float>(0x1p-20 * (farthest + 4 * tree.reach) + doubt +
                                        1e-15 * tree.origin.cwiseAbs().maxCoeff());
  float least = BoxLanes::never;
  for (int axis = 0; axis < 3; ++axis) {
    boxes.from[axis][i] = static_cast<float>(near[axis]);
    boxes.slack[axis][i] = slack * std::abs(boxes.inverse[axis][i]);
    least = std::min(least, std::abs(boxes.inverse[axis][i]));
  }
  boxes.doubt[i] = 2 * slack;
  boxes.rounding[i] = slack * least;
  const auto start = static_cast<float>(lanes.start[i] - boxes.offset[i]);
  boxes.start[i] = start - std::abs(start) * 0x1p-22f - boxes.rounding[i];
  boxes.bound(i, lanes.limit[i]);
}

/// All lanes for boxes, in loops that the compiler turns into vectors.
void MakeBoxLanes(const SphereTree& tree, const SphereLanes& lanes, BoxLanes& boxes) {
  const std::size_t count = (lanes.count + 15) / 16 * 16;
  const double* const from[3] = {lanes.x, lanes.y, lanes.z};
  const double* const ways[3] = {lanes.way_x, lanes.way_y, lanes.way_z};
  double farthest[BoxLanes::capacity] = {};
  double off_square[BoxLanes::capacity] = {};
  double square[BoxLanes::capacity] = {};
  float least[BoxLanes::capacity];
  std::fill_n(least, count, BoxLanes::never);
  std::fill_n(boxes.octant, count, 0);
  for (int axis = 0; axis < 3; ++axis) {
    const double origin = tree.origin[axis];
    const double middle = tree.middle[axis] - origin;
    const double* const at = from[axis];
    const double* const way = ways[axis];
    for (std::size_t i = 0; i < count; ++i) {
      const double own = at[i] - origin;
      const double length = std::abs(own);
      farthest[i] = length > farthest[i] ? length : farthest[i];
      off_square[i] += (own - middle) * (own - middle);
      square[i] += way[i] * way[i];
      boxes.from[axis][i] = static_cast<float>(own);
    }
    for (std::size_t i = 0; i < count; ++i) {
      const float own = static_cast<float>(way[i]);
      boxes.way[axis][i] = own;
      const float small = std::copysign(1e-18f, own);
      const float inverse = 1 / (std::abs(own) < 1e-18f ? small : own);
      boxes.inverse[axis][i] = inverse;
      const float length = std::abs(inverse);
      least[i] = length < least[i] ? length : least[i];
      boxes.octant[i] |= inverse < 0 ? 1 << axis : 0;
    }
  }
  const double reach = tree.reach;
  const double doubt = 1e-15 * tree.origin.cwiseAbs().maxCoeff();
  for (std::size_t i = 0; i < count; ++i) {
    boxes.offset[i] = 0;
    boxes.steps[i] = 0;
    boxes.inverse_square[i] = 1 / square[i];
    boxes.tiny[i] = 1e-12 * (farthest[i] + reach);
    const auto slack = static_cast<float>(0x1p-20 * (farthest[i] + 4 * reach) + doubt);
    for (int axis = 0; axis < 3; ++axis) {
      boxes.slack[axis][i] = slack * std::abs(boxes.inverse[axis][i]);
    }
    boxes.doubt[i] = 2 * slack;
    boxes.rounding[i] = slack * least[i];
    const auto start = static_cast<float>(lanes.start[i]);
    boxes.start[i] = start - std::abs(start) * 0x1p-22f - boxes.rounding[i];
    const auto limit = static_cast<float>(lanes.limit[i]);
    boxes.limit[i] = limit + std::abs(limit) * 0x1p-22f + boxes.rounding[i];
  }
  const double far = 4 * reach * reach;
  for (std::size_t i = 0; i < lanes.count; ++i) {
    // Also where that is no number.
    if (!(off_square[i] <= far)) ComeNear(tree, i, boxes, lanes);
  }
  for (std::size_t i = lanes.count; i < count; ++i) boxes.limit[i] = -BoxLanes::never;
}

void Meet(const SphereTree& tree, bool any, SphereLanes& lanes) {
  const std::size_t count = (lanes.count + 15) / 16 * 16;
  const auto pad = [&](double* values) {
    for (std::size_t i = lanes.count; i < count; ++i) values[i] = 1;
  };
  for (double* const values : {lanes.x, lanes.y, lanes.z, lanes.way_x, lanes.way_y, lanes.way_z,
                               lanes.start, lanes.limit}) {
    pad(values);
  }
  BoxLanes boxes;
  MakeBoxLanes(tree, lanes, boxes);
  std::fill_n(lanes.slot, lanes.count, SphereLanes::none);
  std::copy_n(lanes.limit, lanes.count, lanes.t);
  const auto root = static_cast<std::uint32_t>(tree.levels - 1);
  for (std::size_t first = 0; first < lanes.count; first += company) {
    const std::size_t there = std::min(company, lanes.count - first);
    for (unsigned left = (1u << there) - 1; left != 0;) {
      const std::int32_t octant =
          boxes.octant[first + static_cast<std::size_t>(std::countr_zero(left))];
      unsigned which = 0;
      for (std::size_t i = 0; i < there; ++i) {
        which |= boxes.octant[first + i] == octant ? 1u << i : 0u;
      }
      which &= left;
      left &= ~which;
      if (std::popcount(which) <= few || lanes.detail > 0) {
        for (; which != 0; which &= which - 1) {
          const std::size_t i = first + static_cast<std::size_t>(std::countr_zero(which));
          MeetBelow(tree, {0, root, boxes.start[i]}, any, i, boxes, lanes);
        }
        continue;
      }
      MeetTogether(tree, first, static_cast<unsigned>(octant), which, any, boxes, lanes);
    }
  }
  for (std::size_t i = 0; i < lanes.count; ++i) {
    lanes.steps[i] = static_cast<std::uint32_t>(boxes.steps[i]);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(Meet);

void meet_spheres(const SphereTree& tree, bool any, SphereLanes& lanes) {
  HWY_DYNAMIC_DISPATCH(Meet)(tree, any, lanes);
}

}  // namespace photonlane
#endif
