// Per-target include: lanes against the boxes of nodes.

#if defined(PHOTONLANE_SPHERE_BOXES_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_SPHERE_BOXES_INL_H_
#undef PHOTONLANE_SPHERE_BOXES_INL_H_
#else
#define PHOTONLANE_SPHERE_BOXES_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <cstddef>

#include "spheres/sphere_boxes.hpp"

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
  return bytes[0] | (static_cast<unsigned>(bytes[1]) << 8);
}

/// One lane, its coordinates side by side.
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

/// Meters that floats may get wrong of places no farther than that from where they are counted,
/// beside what doubles got wrong before.
HWY_INLINE float SlackOf(const SphereTree& tree, double farthest, double doubt) {
  return static_cast<float>(0x1p-20 * (farthest + 4 * tree.reach) + doubt +
                            1e-15 * tree.origin.cwiseAbs().maxCoeff());
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
  for (int axis = 0; axis < 3; ++axis) boxes.from[axis][i] = static_cast<float>(near[axis]);
  boxes.settle(i, SlackOf(tree, farthest, doubt), lanes);
}

/// All lanes for boxes, in loops that the compiler turns into vectors.
void MakeBoxLanes(const SphereTree& tree, const SphereLanes& lanes, BoxLanes& boxes) {
  const std::size_t count = (lanes.count + 15) / 16 * 16;
  const double* const from[3] = {lanes.x, lanes.y, lanes.z};
  const double* const ways[3] = {lanes.way_x, lanes.way_y, lanes.way_z};
  double farthest[BoxLanes::capacity] = {};
  double off_square[BoxLanes::capacity] = {};
  double square[BoxLanes::capacity] = {};
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
      boxes.octant[i] |= inverse < 0 ? 1 << axis : 0;
    }
  }
  for (std::size_t i = 0; i < count; ++i) {
    boxes.offset[i] = 0;
    boxes.steps[i] = 0;
    boxes.inverse_square[i] = 1 / square[i];
    boxes.tiny[i] = 1e-12 * (farthest[i] + tree.reach);
    boxes.settle(i, SlackOf(tree, farthest[i], 0), lanes);
  }
  const double far = 4 * tree.reach * tree.reach;
  for (std::size_t i = 0; i < lanes.count; ++i) {
    // Also where that is no number.
    if (!(off_square[i] <= far)) ComeNear(tree, i, boxes, lanes);
  }
  for (std::size_t i = lanes.count; i < count; ++i) boxes.limit[i] = -BoxLanes::never;
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
