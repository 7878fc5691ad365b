#pragma once

#include "photonlane/render/lane_log.hpp"
#include "render/onward.hpp"

namespace photonlane {

/// Keeps what the lanes of one pixel do.
class LaneRecorder {
 public:
  LaneRecorder(int x, int y, const LaneLogOptions& options) : options_(options) {
    log.x = x;
    log.y = y;
  }

  bool follows(const PixelPlace& place, std::size_t i) const {
    return place.column(i) == static_cast<std::uint32_t>(log.x) &&
           place.row(i) == static_cast<std::uint32_t>(log.y);
  }

  LaneLog log;
  StepWatch watch;  ///< of the batch on its way

  /// Has the steps of those kept that it follows.
  template <class Number>
  void start(const PixelPlace& place, LaneBatch<Number>& lanes) {
    if (!options_.march) return;
    watch = StepWatch();
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (follows(place, i)) watch.follow(i);
    }
    lanes.watch = &watch;
  }

 private:
  LaneLogOptions options_;
};

/// The lanes of a batch that are recorded, for as long as they are looked along.
class BatchRecord {
 public:
  /// Null as recorder: nothing is kept.
  BatchRecord(LaneRecorder* recorder, const RoomView& here, const PixelPlace& place, const Leg& leg,
              const Sight& sight, std::size_t size, float share, bool first, float sample_share,
              const Colors& sums);

  /// What the lanes see at one pass; `wanted` those that still look (null: all).
  void meet(const RoomView& here, const Surfaces& surfaces, const Colors& colors,
            const bool* wanted);
  /// The leg of lane i, or -1.
  std::int32_t leg_of(std::size_t i) const;
  void end(const Colors& sums);

 private:
  struct Entry {
    std::size_t lane;
    std::size_t leg;
    Color before;
  };
  LaneRecorder* recorder_;
  float sample_share_;  ///< of what the sums have, in the pixel

  std::vector<Entry> entries_;
};

}  // namespace photonlane
