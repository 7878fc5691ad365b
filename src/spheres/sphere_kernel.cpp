#include <bit>
#include <cmath>
#include <limits>

#include "spheres/sphere_solid.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "spheres/sphere_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#ifndef PHOTONLANE_SPHERES_EXACT
#define PHOTONLANE_SPHERES_EXACT
namespace photonlane {

/// Whether a lane meets a sphere within its limits, and where, in doubles. The distance from the
/// lane's line to the center is taken as a length, not as a difference of large squares (Haines,
/// Günther, Akenine-Möller, "Precision Improvements for Ray/Sphere Intersection", 2019); the root
/// that would cancel is got from the other (Press et al., "Numerical Recipes", 1992, section 5.6).
bool meet_exactly(const SphereArrays& arrays, const SphereLane& lane, std::size_t i, double* t) {
  const double x = arrays.center_x[i] - lane.from.x();
  const double y = arrays.center_y[i] - lane.from.y();
  const double z = arrays.center_z[i] - lane.from.z();
  const double radius = arrays.exact_radius[i];
  const double square =
      lane.way.x() * lane.way.x() + lane.way.y() * lane.way.y() + lane.way.z() * lane.way.z();
  const double along = (x * lane.way.x() + y * lane.way.y() + z * lane.way.z()) / square;
  const double off_x = x - along * lane.way.x();
  const double off_y = y - along * lane.way.y();
  const double off_z = z - along * lane.way.z();
  const double off = std::sqrt(off_x * off_x + off_y * off_y + off_z * off_z);
  if (!(off <= radius)) return false;
  const double half = std::sqrt((radius - off) * (radius + off) / square);
  const double away = std::sqrt(x * x + y * y + z * z);
  const double product = (away - radius) * (away + radius) / square;
  const double near = along > 0 ? product / (along + half) : along - half;
  const double far = along > 0 ? along + half : product / (along - half);
  const auto within = [&](double at) {
    if (lane.single) {
      const auto told = static_cast<float>(at);
      return told > static_cast<float>(lane.start) && told < static_cast<float>(lane.limit);
    }
    return at > lane.start && at < lane.limit;
  };
  *t = near;
  if (within(near)) return true;
  *t = far;
  return within(far);
}

double exact_distance(const SphereArrays& arrays, const Vec3d& place, std::size_t i) {
  const double x = arrays.center_x[i] - place.x();
  const double y = arrays.center_y[i] - place.y();
  const double z = arrays.center_z[i] - place.z();
  return std::sqrt(x * x + y * y + z * z) - arrays.exact_radius[i];
}

/// Bounds of what floats get wrong, in meters, from the largest length that goes into them.
inline float doubt(double largest) { return static_cast<float>(largest * 0x1p-18); }

}  // namespace photonlane
#endif

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Calls work(i) for the set lanes of a mask, in their order, until it says no more.
template <class D, class M, class Work>
HWY_INLINE bool ForEach(D d, M mask, std::size_t first, const Work& work) {
  std::uint8_t bytes[8] = {};
  hn::StoreMaskBits(d, mask, bytes);
  for (std::size_t byte = 0; byte < (hn::Lanes(d) + 7) / 8; ++byte) {
    for (unsigned left = bytes[byte]; left != 0; left &= left - 1) {
      const auto bit = static_cast<std::size_t>(std::countr_zero(left));
      if (!work(first + 8 * byte + bit)) return false;
    }
  }
  return true;
}

/// In floats, with what they may get wrong on the safe side, whether a sphere may be met before
/// what was found so far; those that may are asked exactly. Also where numbers overflow.
SphereHit Meet(const SphereArrays& arrays, const SphereLane& lane, bool any) {
  const hn::ScalableTag<float> d;
  const std::size_t width = hn::Lanes(d);
  const Vec3d from = lane.from - arrays.middle;
  const float slack = doubt(from.cwiseAbs().maxCoeff() + 2 * arrays.reach);
  const auto from_x = hn::Set(d, static_cast<float>(from.x()));
  const auto from_y = hn::Set(d, static_cast<float>(from.y()));
  const auto from_z = hn::Set(d, static_cast<float>(from.z()));
  const auto way_x = hn::Set(d, static_cast<float>(lane.way.x()));
  const auto way_y = hn::Set(d, static_cast<float>(lane.way.y()));
  const auto way_z = hn::Set(d, static_cast<float>(lane.way.z()));
  const auto start = hn::Set(d, static_cast<float>(lane.start) - 2 * slack);
  const auto wide = hn::Set(d, slack);
  SphereHit best{-1, lane.limit};
  SphereLane rest = lane;
  for (std::size_t i = 0; i < arrays.count; i += width) {
    const auto x = hn::Sub(hn::LoadU(d, arrays.x.data() + i), from_x);
    const auto y = hn::Sub(hn::LoadU(d, arrays.y.data() + i), from_y);
    const auto z = hn::Sub(hn::LoadU(d, arrays.z.data() + i), from_z);
    const auto radius = hn::Add(hn::LoadU(d, arrays.radius.data() + i), wide);
    const auto along = hn::Add(hn::Add(hn::Mul(x, way_x), hn::Mul(y, way_y)), hn::Mul(z, way_z));
    const auto off_x = hn::Sub(x, hn::Mul(along, way_x));
    const auto off_y = hn::Sub(y, hn::Mul(along, way_y));
    const auto off_z = hn::Sub(z, hn::Mul(along, way_z));
    const auto off =
        hn::Add(hn::Add(hn::Mul(off_x, off_x), hn::Mul(off_y, off_y)), hn::Mul(off_z, off_z));
    const auto room = hn::Sub(hn::Mul(radius, radius), off);
    const auto missed = hn::Lt(room, hn::Zero(d));
    if (hn::AllTrue(d, missed)) continue;
    const auto half = hn::Sqrt(hn::Max(room, hn::Zero(d)));
    const auto limit = hn::Set(d, static_cast<float>(best.t) + 2 * slack);
    // Comparisons with what is no number are false: such spheres are asked.
    const auto out =
        hn::Or(hn::Lt(hn::Add(along, half), start), hn::Gt(hn::Sub(along, half), limit));
    const auto left = hn::FirstN(d, arrays.count - i);
    const auto may = hn::AndNot(hn::Or(missed, out), left);
    const bool on = ForEach(d, may, i, [&](std::size_t sphere) {
      double t = 0;
      rest.limit = best.t;
      if (!meet_exactly(arrays, rest, sphere, &t)) return true;
      best = {static_cast<std::int32_t>(sphere), t};
      return !any;
    });
    if (!on) break;
  }
  return best;
}

std::int32_t Nearest(const SphereArrays& arrays, const Vec3d& place, double* distance) {
  const hn::ScalableTag<float> d;
  const std::size_t width = hn::Lanes(d);
  const Vec3d from = place - arrays.middle;
  const float slack = doubt(from.cwiseAbs().maxCoeff() + 2 * arrays.reach);
  const auto from_x = hn::Set(d, static_cast<float>(from.x()));
  const auto from_y = hn::Set(d, static_cast<float>(from.y()));
  const auto from_z = hn::Set(d, static_cast<float>(from.z()));
  std::int32_t best = 0;
  double least = exact_distance(arrays, place, 0);
  for (std::size_t i = 0; i < arrays.count; i += width) {
    const auto x = hn::Sub(hn::LoadU(d, arrays.x.data() + i), from_x);
    const auto y = hn::Sub(hn::LoadU(d, arrays.y.data() + i), from_y);
    const auto z = hn::Sub(hn::LoadU(d, arrays.z.data() + i), from_z);
    const auto square = hn::Add(hn::Add(hn::Mul(x, x), hn::Mul(y, y)), hn::Mul(z, z));
    const auto value = hn::Sub(hn::Sqrt(square), hn::LoadU(d, arrays.radius.data() + i));
    const auto farther = hn::Gt(value, hn::Set(d, static_cast<float>(least) + slack));
    const auto may = hn::AndNot(farther, hn::FirstN(d, arrays.count - i));
    if (hn::AllFalse(d, may)) continue;
    ForEach(d, may, i, [&](std::size_t sphere) {
      const double exact = exact_distance(arrays, place, sphere);
      if (exact < least) {
        least = exact;
        best = static_cast<std::int32_t>(sphere);
      }
      return true;
    });
  }
  *distance = least;
  return best;
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(Meet);
HWY_EXPORT(Nearest);

SphereHit meet_spheres(const SphereArrays& arrays, const SphereLane& lane, bool any) {
  return HWY_DYNAMIC_DISPATCH(Meet)(arrays, lane, any);
}

std::int32_t nearest_sphere(const SphereArrays& arrays, const Vec3d& place, double* distance) {
  return HWY_DYNAMIC_DISPATCH(Nearest)(arrays, place, distance);
}

}  // namespace photonlane
#endif
