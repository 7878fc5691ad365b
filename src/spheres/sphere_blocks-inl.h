// Per-target include: lanes against the eight spheres of a block.

#if defined(PHOTONLANE_SPHERE_BLOCKS_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_SPHERE_BLOCKS_INL_H_
#undef PHOTONLANE_SPHERE_BLOCKS_INL_H_
#else
#define PHOTONLANE_SPHERE_BLOCKS_INL_H_
#endif

#include <hwy/highway.h>

#include <bit>
#include <cmath>

#include "spheres/sphere_boxes-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

HWY_INLINE void Decode(const SphereTree& tree, const SphereNode& node, int child,
                       const SphereLeaf& leaf, SphereEight& eight) {
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
HWY_INLINE unsigned MayMeet(const SphereEight& eight, const SphereLane& lane, double inverse_square,
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

/// A block's spheres: where they lie, or decoded into `room`.
HWY_INLINE const SphereEight* Spheres(const SphereTree& tree, std::uint64_t node, int child,
                                      SphereEight& room) {
  const std::uint64_t block = tree.block_of(node, child);
  if (tree.leaves == nullptr) return tree.wide + block;
  const SphereLeaf& leaf = tree.leaves[block];
  if (leaf.radius[0] == SphereLeaf::wide) return &tree.wide_of(leaf);
  Decode(tree, tree.nodes[0][node], child, leaf, room);
  return &room;
}

HWY_INLINE SphereLane LaneOf(const SphereLanes& lanes, std::size_t i) {
  return {lanes.x[i],     lanes.y[i],     lanes.z[i],     lanes.way_x[i], lanes.way_y[i],
          lanes.way_z[i], lanes.start[i], lanes.limit[i], lanes.single};
}

/// Lane i looks at a sphere.
HWY_INLINE void LookAtSphere(const SphereTree& tree, std::uint64_t block, const SphereEight& eight,
                             int k, const SphereLane& lane, bool any, std::size_t i,
                             BoxLanes& boxes, SphereLanes& lanes) {
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
HWY_INLINE void LookAt(const SphereTree& tree, std::uint64_t block, const SphereEight& eight,
                       bool any, std::size_t i, BoxLanes& boxes, SphereLanes& lanes) {
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
void LookTogether(const SphereTree& tree, std::uint64_t block, const SphereEight& eight,
                  unsigned which, bool any, std::size_t first, BoxLanes& boxes,
                  SphereLanes& lanes) {
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
      may |= BitsOf(d, hn::And(before, hn::Le(square, hn::Mul(wide, wide)))) << part;
    }
    for (unsigned left = may & which; left != 0; left &= left - 1) {
      const std::size_t i = first + static_cast<std::size_t>(std::countr_zero(left));
      LookAtSphere(tree, block, eight, k, LaneOf(lanes, i), any, i, boxes, lanes);
    }
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
