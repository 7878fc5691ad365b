#pragma once

#include <cstddef>

#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// Something a lane can hit inside a room. Asked a batch at a time, so that the virtual call is
/// paid once a batch. Immutable once made; safe to ask from any thread.
class Solid {
 public:
  virtual ~Solid() = default;

  /// The first surface each lane meets before its far limit.
  virtual HitBatch<float> nearest_hit(const LaneBatch<float>& lanes,
                                      const Budget& budget) const = 0;
  virtual HitBatch<double> nearest_hit(const LaneBatch<double>& lanes,
                                       const Budget& budget) const = 0;

  virtual std::size_t memory_bytes() const = 0;
};

}  // namespace photonlane
