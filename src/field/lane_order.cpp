#include "field/lane_order.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <span>

namespace photonlane {
namespace {

template <class Number>
struct Extent {
  Number size[3];
  Number diagonal() const {
    return std::sqrt(size[0] * size[0] + size[1] * size[1] + size[2] * size[2]);
  }
};

template <class Number, class At>
Extent<Number> extent(const LaneBatch<Number>& lanes, std::size_t first, std::size_t end,
                      const At& at) {
  const Number* rows[3] = {lanes.x, lanes.y, lanes.z};
  Extent<Number> result;
  for (int axis = 0; axis < 3; ++axis) {
    Number low = std::numeric_limits<Number>::infinity();
    Number high = -low;
    for (std::size_t i = first; i < end; ++i) {
      low = std::min(low, rows[axis][at(i)]);
      high = std::max(high, rows[axis][at(i)]);
    }
    result.size[axis] = first < end ? high - low : 0;
  }
  return result;
}

}  // namespace

template <class Number>
LaneOrder<Number>::LaneOrder(const LaneBatch<Number>& lanes) {
  const auto as_they_come = [](std::size_t i) { return i; };
  Number widest = 0;
  for (std::size_t first = 0; first < lanes.size; first += 64) {
    widest = std::max(
        widest, extent(lanes, first, std::min(first + 64, lanes.size), as_they_come).diagonal());
  }
  if (!(widest > 0) || lanes.size <= cluster_lanes) return;
  for (std::size_t i = 0; i < lanes.size; ++i) index_[i] = i;
  const auto ordered = [&](std::size_t i) { return index_[i]; };
  // In halves along the longest side, down to clusters.
  const auto sort = [&](const auto& self, std::size_t first, std::size_t end) -> void {
    const std::size_t count = end - first;
    if (count <= cluster_lanes) return;
    const Extent<Number> own = extent(lanes, first, end, ordered);
    const Number* row = lanes.x;
    if (own.size[1] > own.size[0]) row = lanes.y;
    if (own.size[2] > std::max(own.size[0], own.size[1])) row = lanes.z;
    const std::size_t clusters = (count + cluster_lanes - 1) / cluster_lanes;
    const std::size_t middle = first + clusters / 2 * cluster_lanes;
    std::nth_element(index_ + first, index_ + middle, index_ + end,
                     [&](std::size_t one, std::size_t two) {
                       return row[one] != row[two] ? row[one] < row[two] : one < two;
                     });
    self(self, first, middle);
    self(self, middle, end);
  };
  sort(sort, 0, lanes.size);
  Number narrow = 0;
  for (std::size_t first = 0; first < lanes.size; first += cluster_lanes) {
    narrow += extent(lanes, first, std::min(first + cluster_lanes, lanes.size), ordered).diagonal();
  }
  narrow /= static_cast<Number>((lanes.size + cluster_lanes - 1) / cluster_lanes);
  worth_it_ = narrow < Number(0.25) * widest;
  if (!worth_it_) return;
  ordered_.far_limit = lanes.far_limit;
  ordered_.spread = lanes.spread;
  ordered_.any_start = lanes.any_start;
  ordered_.any_limit = lanes.any_limit;
  ordered_.any_scale = lanes.any_scale;
  ordered_.ending_only = lanes.ending_only;
  ordered_.watch = lanes.watch;
  ordered_.watch_order = index_;

  std::fill_n(ordered_.start, LaneBatch<Number>::capacity, Number(0));
  std::fill_n(ordered_.limit, LaneBatch<Number>::capacity, Number(0));
  std::fill_n(ordered_.scale, LaneBatch<Number>::capacity, Number(1));
  for (std::size_t i = 0; i < lanes.size; ++i) {
    ordered_.take(lanes, index_[i]);
  }
}

template <class Number>
void LaneOrder<Number>::give_back(const HitBatch<Number>& from, HitBatch<Number>& to) const {
  to.shared_evaluations = from.shared_evaluations;
  for (std::size_t i = 0; i < ordered_.size; ++i) {
    const std::size_t k = index_[i];
    to.take_curved(from, i, k);
    to.steps[k] = from.steps[i];
    to.evaluations[k] = from.evaluations[i];
    to.nearest[k] = from.nearest[i];
    to.overstretched[k] = from.overstretched[i];
  }
}

template class LaneOrder<float>;
template class LaneOrder<double>;

}  // namespace photonlane
