#pragma once

#include <cstddef>

#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// Lanes that go together.
inline constexpr std::size_t cluster_lanes = 16;

/// Lanes that start on surfaces: in an order in which neighbors are near one another, since pixels
/// beside an edge are not.
template <class Number>
class LaneOrder {
 public:
  explicit LaneOrder(const LaneBatch<Number>& lanes);

  /// Every `cluster_lanes` in the new order spread much less than lanes do as they come.
  bool worth_it() const { return worth_it_; }
  const LaneBatch<Number>& lanes() const { return ordered_; }
  void give_back(const HitBatch<Number>& from, HitBatch<Number>& to) const;

 private:
  LaneBatch<Number> ordered_;
  std::size_t index_[LaneBatch<Number>::capacity];
  bool worth_it_ = false;
};

}  // namespace photonlane
