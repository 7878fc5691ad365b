#include "spheres/sphere_nearest.hpp"

#include <bit>
#include <cmath>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "spheres/sphere_nearest.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// No sphere in a node's child has a surface nearer than this: outside the box its distance, inside
/// half of the shortest side, below 0, as deep as a ball in there can be.
HWY_INLINE void Bounds8(const SphereNode& node, const Vec3d& place, double slack, double* least) {
  const hn::CappedTag<double, 8> d;
  const hn::Rebind<std::uint8_t, decltype(d)> d8;
  const hn::Rebind<std::int32_t, decltype(d)> d32;
  for (std::size_t k = 0; k < 8; k += hn::Lanes(d)) {
    auto square = hn::Zero(d);
    auto shortest = hn::Set(d, std::numeric_limits<double>::infinity());
    auto inside = hn::FirstN(d, hn::Lanes(d));
    for (int axis = 0; axis < 3; ++axis) {
      const double step = node.step(axis);
      const auto side = [&](const std::uint8_t* from, double by) {
        const auto steps = hn::PromoteTo(d, hn::PromoteTo(d32, hn::LoadU(d8, from + k)));
        return hn::Add(hn::Set(d, double{node.origin[axis]} - place[axis] + by),
                       hn::Mul(steps, hn::Set(d, step)));
      };
      // What is held in 65536ths may lie that far outside.
      const double wide = slack + step / 256;
      const auto low = side(node.low[axis], -wide);
      const auto high = side(node.high[axis], wide);
      const auto off = hn::Max(hn::Max(low, hn::Neg(high)), hn::Zero(d));
      inside = hn::And(inside, hn::Eq(off, hn::Zero(d)));
      square = hn::Add(square, hn::Mul(off, off));
      shortest = hn::Min(shortest, hn::Sub(high, low));
    }
    const auto away = hn::Mul(hn::Sqrt(square), hn::Set(d, 1 - 1e-12));
    hn::StoreU(hn::IfThenElse(inside, hn::Mul(shortest, hn::Set(d, -0.5)), away), d, least + k);
  }
}

HWY_INLINE void Distances8(const SphereEight& eight, const Vec3d& place, double* distance) {
  const hn::CappedTag<double, 8> d;
  for (std::size_t k = 0; k < 8; k += hn::Lanes(d)) {
    const auto x = hn::Sub(hn::LoadU(d, eight.x + k), hn::Set(d, place.x()));
    const auto y = hn::Sub(hn::LoadU(d, eight.y + k), hn::Set(d, place.y()));
    const auto z = hn::Sub(hn::LoadU(d, eight.z + k), hn::Set(d, place.z()));
    const auto away = hn::Sqrt(hn::Add(hn::Add(hn::Mul(x, x), hn::Mul(y, y)), hn::Mul(z, z)));
    hn::StoreU(hn::Sub(away, hn::LoadU(d, eight.radius + k)), d, distance + k);
  }
}

void NearestTo(const SphereTree& tree, const Vec3d& place, const SphereFilter& filter,
               NearestSphere& best) {
  struct Entry {
    double least;
    std::uint32_t node, level;
  };
  best = {};
  best.distance = std::numeric_limits<double>::infinity();
  const Vec3d own = place - tree.origin;
  const double slack = 1e-15 * (tree.origin.cwiseAbs().maxCoeff() + own.cwiseAbs().maxCoeff());
  Entry stack[8 * SphereTree::most_levels];
  std::size_t top = 0;
  stack[top++] = {-std::numeric_limits<double>::infinity(), 0,
                  static_cast<std::uint32_t>(tree.levels - 1)};
  while (top > 0) {
    const Entry entry = stack[--top];
    if (entry.least > best.distance) continue;
    const SphereNode& node = tree.nodes[entry.level][entry.node];
    double least[8];
    Bounds8(node, own, slack, least);
    int order[8];
    int there = 0;
    for (int child = 0; child < 8; ++child) {
      if (!node.has(child) || least[child] > best.distance) continue;
      int at = there++;
      for (; at > 0 && least[order[at - 1]] > least[child]; --at) order[at] = order[at - 1];
      order[at] = child;
    }
    if (entry.level > 0) {
      for (int k = there; k-- > 0;) {
        const int child = order[k];
        stack[top++] = {least[child], 8 * entry.node + static_cast<unsigned>(child),
                        entry.level - 1};
      }
      continue;
    }
    for (int k = 0; k < there; ++k) {
      const int child = order[k];
      if (least[child] > best.distance) break;
      const SphereEight eight = eight_of(tree, entry.node, child);
      double distance[8];
      Distances8(eight, place, distance);
      const std::uint64_t block = tree.block_of(entry.node, child);
      for (unsigned i = 0; i < 8; ++i) {
        if (!(distance[i] <= best.distance)) continue;
        const std::uint64_t slot = 8 * block + i;
        if (best.found && distance[i] == best.distance &&
            tree.item_of(slot) >= tree.item_of(best.slot)) {
          continue;
        }
        if (filter.counts != nullptr && !filter.counts(filter.of, slot)) continue;
        best = {slot, distance[i], Vec3d(eight.x[i], eight.y[i], eight.z[i]), eight.radius[i],
                true};
      }
    }
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(NearestTo);

NearestSphere nearest_sphere(const SphereTree& tree, const Vec3d& place,
                             const SphereFilter& filter) {
  NearestSphere best;
  HWY_DYNAMIC_DISPATCH(NearestTo)(tree, place, filter, best);
  return best;
}

}  // namespace photonlane
#endif
