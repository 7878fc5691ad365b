#include <bit>
#include <cmath>
#include <limits>
#include <numbers>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "spheres/sphere_lanes.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "spheres/sphere_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "spheres/sphere_blocks-inl.h"
#include "spheres/sphere_boxes-inl.h"

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
  SphereEight room;
  const SphereEight* const eight = Spheres(tree, leaf_node, leaf_child, room);
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
  const double discs = static_cast<double>(there) * std::numbers::pi * radius * radius;
  const double chance = across > 0 ? 1 - std::exp(-discs / across) : 1;
  if (!(draw() < chance)) return;
  // Where on the disc.
  const double off = std::sqrt(draw());
  const SineCosine turn = sine_cosine(2 * std::numbers::pi * draw());
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
      SphereEight room;
      const SphereEight* const eight = Spheres(tree, entry.node, static_cast<int>(child), room);
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
      active |= BitsOf(d, hn::Le(hn::Load(d, entry.near + k), hn::Load(d, boxes.limit + first + k)))
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
        const unsigned bits = BitsOf(d, meets) << k;
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
      SphereEight room;
      const SphereEight* const eight = Spheres(tree, at, static_cast<int>(child), room);
      const std::uint64_t block = tree.block_of(at, static_cast<int>(child));
      unsigned look = 0;
      for (std::size_t k = 0; k < company; k += width) {
        look |=
            BitsOf(d, hn::Le(hn::Load(d, near[child] + k), hn::Load(d, boxes.limit + first + k)))
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
