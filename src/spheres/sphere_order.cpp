#include "spheres/sphere_order.hpp"

#include <algorithm>
#include <bit>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "spheres/sphere_order.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Parts up to 64 keys by how many are before each.
void PartFew(SphereKey* keys, std::size_t count, std::size_t left, int axis, SphereKey* kept) {
  const hn::ScalableTag<std::uint32_t> d;
  const std::size_t width = hn::Lanes(d);
  alignas(64) std::uint32_t at[64 + hn::MaxLanes(d)];
  for (std::size_t i = 0; i < count; ++i) at[i] = keys[i].at[axis];
  // Beyond the end nothing is before anything.
  for (std::size_t i = count; i < count + width; ++i) at[i] = 0xffffffffu;
  std::uint8_t before[64];
  std::uint64_t ranks = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const auto own = hn::Set(d, at[i]);
    std::size_t sum = 0;
    for (std::size_t j = 0; j < count; j += width) {
      sum += hn::CountTrue(d, hn::Lt(hn::Load(d, at + j), own));
    }
    before[i] = static_cast<std::uint8_t>(sum);
    ranks |= std::uint64_t{1} << sum;
  }
  if (static_cast<std::size_t>(std::popcount(ranks)) < count) {
    // Some are at one place: these go by their index.
    for (std::size_t i = 0; i < count; ++i) {
      for (std::size_t j = 0; j < count; ++j) {
        before[i] += at[j] == at[i] && keys[j].index < keys[i].index ? 1 : 0;
      }
    }
  }
  std::size_t to[2] = {left, 0};
  for (std::size_t i = 0; i < count; ++i) kept[to[before[i] < left ? 1 : 0]++] = keys[i];
  std::memcpy(keys, kept, count * sizeof(SphereKey));
}

/// The least and the greatest of keys along the three axes.
void Range(const SphereKey* keys, std::size_t count, std::uint32_t* low, std::uint32_t* high) {
  const hn::CappedTag<std::uint32_t, 4> d;
  alignas(16) std::uint32_t least_of[4];
  alignas(16) std::uint32_t most_of[4];
  for (std::size_t part = 0; part < 4; part += hn::Lanes(d)) {
    auto least = hn::Set(d, 0xffffffffu);
    auto most = hn::Zero(d);
    for (std::size_t i = 0; i < count; ++i) {
      const auto key = hn::LoadU(d, reinterpret_cast<const std::uint32_t*>(keys + i) + part);
      least = hn::Min(least, key);
      most = hn::Max(most, key);
    }
    hn::StoreU(least, d, least_of + part);
    hn::StoreU(most, d, most_of + part);
  }
  std::copy_n(least_of, 3, low);
  std::copy_n(most_of, 3, high);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(PartFew);
HWY_EXPORT(Range);

namespace {

constexpr std::size_t few = 64;
constexpr std::size_t bins = 1024;

}  // namespace

void SphereOrder::part(SphereKey* keys, std::size_t count, std::size_t left, int axis,
                       std::uint32_t low, std::uint32_t high) {
  if (left == 0 || left >= count) return;
  const auto before = [axis](const SphereKey& a, const SphereKey& b) {
    return a.at[axis] != b.at[axis] ? a.at[axis] < b.at[axis] : a.index < b.index;
  };
  while (count > few) {
    if (low == high) {
      std::nth_element(keys, keys + left, keys + count, before);
      return;
    }
    // As few bins as make sense for so many.
    const std::uint32_t most = static_cast<std::uint32_t>(std::bit_floor(std::min(count, bins)));
    const int shift = std::max(0, static_cast<int>(std::bit_width(high - low)) -
                                      static_cast<int>(std::bit_width(most) - 1));
    std::uint32_t* const counts = counts_.data();
    std::fill_n(counts, most, 0u);
    for (std::size_t i = 0; i < count; ++i) ++counts[(keys[i].at[axis] - low) >> shift];
    std::uint32_t bin = 0;
    std::size_t below = 0;
    while (below + counts[bin] <= left) below += counts[bin++];
    // Below the bin, in it, above it.
    const std::size_t within = counts[bin];
    const std::uint64_t from = std::uint64_t{low} + (std::uint64_t{bin} << shift);
    const std::uint64_t to = from + (std::uint64_t{1} << shift);
    SphereKey* out[3] = {kept_.data(), kept_.data() + below, kept_.data() + below + within};
    for (std::size_t i = 0; i < count; ++i) {
      const std::uint64_t at = keys[i].at[axis];
      const std::size_t which = (at >= from ? 1u : 0u) + (at >= to ? 1u : 0u);
      *out[which]++ = keys[i];
    }
    std::memcpy(keys, kept_.data(), count * sizeof(SphereKey));
    keys += below;
    left -= below;
    count = within;
    if (left == 0) return;
    // The bin, which may be less than full.
    low = static_cast<std::uint32_t>(from);
    high = static_cast<std::uint32_t>(std::min<std::uint64_t>(to - 1, high));
  }
  HWY_DYNAMIC_DISPATCH(PartFew)(keys, count, left, axis, kept_.data());
}

void SphereOrder::order_node(SphereKey* keys, std::size_t count, int level, std::size_t node,
                             std::vector<std::uint8_t>* axes) {
  const std::size_t child = block_ << (3 * level);
  std::uint8_t told = 0;
  for (int depth = 0; depth < 3; ++depth) {
    // The pieces that there are so far, each of so many children.
    const std::size_t piece = child << (3 - depth);
    if (count <= piece / 2) {
      told = static_cast<std::uint8_t>(told | (3u << (2 * depth)));
      continue;
    }
    double length[3] = {0, 0, 0};
    std::uint32_t low[4][3];
    std::uint32_t high[4][3];
    for (std::size_t k = 0; k * piece < count; ++k) {
      HWY_DYNAMIC_DISPATCH(Range)
      (keys + k * piece, std::min(piece, count - k * piece), low[k], high[k]);
      for (int axis = 0; axis < 3; ++axis) {
        length[axis] += static_cast<double>(high[k][axis]) - static_cast<double>(low[k][axis]);
      }
    }
    const int axis = static_cast<int>(std::max_element(length, length + 3) - length);
    told = static_cast<std::uint8_t>(told | (static_cast<unsigned>(axis) << (2 * depth)));
    for (std::size_t k = 0; k * piece < count; ++k) {
      part(keys + k * piece, std::min(piece, count - k * piece), piece / 2, axis, low[k][axis],
           high[k][axis]);
    }
  }
  axes[level][node] = told;
  if (level == 0) return;
  for (std::size_t k = 0; k * child < count; ++k) {
    order_node(keys + k * child, std::min(child, count - k * child), level - 1, 8 * node + k, axes);
  }
}

void SphereOrder::order(std::span<SphereKey> keys, int levels, std::size_t block,
                        std::vector<std::uint8_t>* axes) {
  block_ = block;
  kept_.resize(std::max(keys.size(), few));
  counts_.resize(bins + 1);
  for (int level = 0; level < levels; ++level) {
    axes[level].assign(std::size_t{1} << (3 * (levels - 1 - level)), 0x3f);
  }
  if (!keys.empty() && levels > 0) order_node(keys.data(), keys.size(), levels - 1, 0, axes);
}

}  // namespace photonlane
#endif
