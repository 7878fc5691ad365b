#include "spheres/parted_solid.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "base/stage_clock.hpp"
#include "lane/hits.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {

PartedSolid::PartedSolid(const Spheres& spheres, const SolidContext& context)
    : parts_(spheres.parts), held_(spheres.held) {
  std::uint64_t items = 0;
  for (std::size_t k = 0; k < parts_->parts.size(); ++k) {
    const SpherePart& part = parts_->parts[k];
    first_.push_back(static_cast<std::uint32_t>(items));
    items += part.items;
    if (items > no_item) {
      throw Error(ErrorKind::input,
                  fmt::format("parts with {} spheres, expected {} at most", items, no_item));
    }
    solids_.push_back(held_.holds(k)
                          ? std::make_unique<const SphereSolid>(part.open(), spheres.material,
                                                                spheres.materials, context)
                          : nullptr);
  }
  if (held_.far != nullptr) held_.far->join(held_.solid, *this);
}

template <class Number>
HitBatch<Number> PartedSolid::own_hits(const LaneBatch<Number>& lanes, const Budget& budget) const {
  HitBatch<Number> hits;
  let_escape(lanes, hits);
  for (std::size_t k = 0; k < solids_.size(); ++k) {
    if (solids_[k] == nullptr) continue;
    HitBatch<Number> one = solids_[k]->nearest_hit(lanes, budget);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      hits.steps[i] += one.steps[i];
      one.item[i] += first_[k];
      keep_nearer_lane(one, i, hits);
    }
  }
  return hits;
}
template HitBatch<float> PartedSolid::own_hits(const LaneBatch<float>&, const Budget&) const;
template HitBatch<double> PartedSolid::own_hits(const LaneBatch<double>&, const Budget&) const;

std::uint64_t PartedSolid::own_hide(const LaneBatch<float>& lanes, const Budget& budget,
                                    bool* hidden) const {
  // Every part is asked of all lanes: what was counted does not go by who holds what.
  std::uint64_t steps = 0;
  bool any[LaneBatch<float>::capacity];
  std::copy_n(hidden, lanes.size, any);
  for (const auto& solid : solids_) {
    if (solid == nullptr) continue;
    bool one[LaneBatch<float>::capacity];
    std::copy_n(hidden, lanes.size, one);
    steps += solid->hide(lanes, budget, one);
    for (std::size_t i = 0; i < lanes.size; ++i) any[i] = any[i] || one[i];
  }
  std::copy_n(any, lanes.size, hidden);
  return steps;
}

bool PartedSolid::own_measure(const DistanceBatch& batch) const {
  std::vector<double> values(4 * batch.count);
  std::vector<std::uint32_t> materials(batch.count);
  DistanceBatch one = batch;
  one.value = values.data();
  if (batch.slope_x != nullptr) {
    one.slope_x = values.data() + batch.count;
    one.slope_y = values.data() + 2 * batch.count;
    one.slope_z = values.data() + 3 * batch.count;
  }
  if (batch.material != nullptr) one.material = materials.data();
  bool first = true;
  for (const auto& solid : solids_) {
    if (solid == nullptr) continue;
    solid->measure(one);
    for (std::size_t i = 0; i < batch.count; ++i) {
      if (!first && !(one.value[i] < batch.value[i])) continue;
      batch.value[i] = one.value[i];
      if (batch.material != nullptr) batch.material[i] = materials[i];
      if (batch.slope_x == nullptr) continue;
      batch.slope_x[i] = one.slope_x[i];
      batch.slope_y[i] = one.slope_y[i];
      batch.slope_z[i] = one.slope_z[i];
    }
    first = false;
  }
  return !first;
}

template <class Number>
HitBatch<Number> PartedSolid::ask(const LaneBatch<Number>& lanes, const Budget& budget) const {
  if (held_.far == nullptr) return own_hits(lanes, budget);
  HitBatch<Number> hits;
  const LaneBatch<Number>* const of[] = {&lanes};
  HitBatch<Number>* const to[] = {&hits};
  nearest_hits(of, budget, to);
  return hits;
}
HitBatch<float> PartedSolid::nearest_hit(const LaneBatch<float>& lanes,
                                         const Budget& budget) const {
  return ask(lanes, budget);
}
HitBatch<double> PartedSolid::nearest_hit(const LaneBatch<double>& lanes,
                                          const Budget& budget) const {
  return ask(lanes, budget);
}

void PartedSolid::nearest_hits(std::span<const LaneBatch<float>* const> lanes, const Budget& budget,
                               std::span<HitBatch<float>* const> hits) const {
  if (held_.far == nullptr) return Solid::nearest_hits(lanes, budget, hits);
  const StageScope stage(Work::solids, lanes.empty() ? 0 : lanes.size() * lanes.front()->size);
  held_.far->nearest_hits(held_.solid, lanes, budget, hits);
}
void PartedSolid::nearest_hits(std::span<const LaneBatch<double>* const> lanes,
                               const Budget& budget,
                               std::span<HitBatch<double>* const> hits) const {
  if (held_.far == nullptr) return Solid::nearest_hits(lanes, budget, hits);
  const StageScope stage(Work::solids, lanes.empty() ? 0 : lanes.size() * lanes.front()->size);
  held_.far->nearest_hits(held_.solid, lanes, budget, hits);
}

std::uint64_t PartedSolid::hide(const LaneBatch<float>& lanes, const Budget& budget,
                                bool* hidden) const {
  if (held_.far == nullptr) return own_hide(lanes, budget, hidden);
  return held_.far->hide(held_.solid, lanes, budget, hidden);
}

void PartedSolid::measure(const DistanceBatch& batch) const {
  if (held_.far == nullptr) {
    own_measure(batch);
  } else {
    held_.far->measure(held_.solid, batch);
  }
}

std::optional<ClosestSurface> PartedSolid::closest(const Vec3d& place) const {
  if (held_.far != nullptr) {
    throw Error(ErrorKind::usage, "the nearest surface is not asked for across processes");
  }
  std::optional<ClosestSurface> nearest;
  double least = std::numeric_limits<double>::infinity();
  for (const auto& solid : solids_) {
    if (solid == nullptr) continue;
    const std::optional<ClosestSurface> one = solid->closest(place);
    if (!one) continue;
    least = std::min(least, one->least);
    if (!nearest || one->distance < nearest->distance) nearest = one;
  }
  // A surface of one part may lie within a sphere of another.
  if (nearest) {
    nearest->least = least;
    double value = 0;
    const double x = nearest->place.x();
    const double y = nearest->place.y();
    const double z = nearest->place.z();
    own_measure({.count = 1, .x = &x, .y = &y, .z = &z, .value = &value});
    if (value < -1e-9) nearest->distance = std::numeric_limits<double>::infinity();
  }
  return nearest;
}

Bounds PartedSolid::bounds() const {
  Bounds all = parts_->parts.front().bounds;
  for (const SpherePart& part : parts_->parts) {
    all.low = all.low.cwiseMin(part.bounds.low);
    all.high = all.high.cwiseMax(part.bounds.high);
  }
  return all;
}

std::string PartedSolid::summary() const {
  std::uint64_t count = 0;
  std::uint64_t bytes = 0;
  double smallest = std::numeric_limits<double>::infinity();
  double largest = 0;
  double moved = 0;
  for (const SpherePart& part : parts_->parts) {
    count += part.count;
    bytes += part.bytes;
    smallest = std::min(smallest, part.smallest);
    largest = std::max(largest, part.largest);
    moved = std::max(moved, part.moved);
  }
  const auto here = std::count_if(solids_.begin(), solids_.end(),
                                  [](const auto& solid) { return solid != nullptr; });
  std::string text = fmt::format(
      "{} spheres of radius {:.4g} to {:.4g} m in {} parts, {:.1f} bytes each", count, smallest,
      largest, solids_.size(), static_cast<double>(bytes) / static_cast<double>(count));
  if (moved > 0) text += fmt::format(", moved by at most {:.2g} m", moved);
  if (static_cast<std::size_t>(here) < solids_.size())
    text += fmt::format(", {} of them here", here);
  return text;
}

std::size_t PartedSolid::memory_bytes() const {
  std::size_t bytes = sizeof(*this);
  for (const auto& solid : solids_) bytes += solid != nullptr ? solid->memory_bytes() : 0;
  return bytes;
}

}  // namespace photonlane
