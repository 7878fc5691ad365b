#pragma once

#include <map>

#include "follow/leg.hpp"
#include "follow/onward.hpp"
#include "photonlane/follow/lane_log.hpp"
#include "shade/illuminate.hpp"
#include "trace/sight.hpp"

namespace photonlane {

/// Keeps what the lanes of one pixel do.
class LaneRecorder {
 public:
  LaneRecorder(int x, int y, const LaneLogOptions& options) : options_(options) {
    log.x = x;
    log.y = y;
  }

  bool follows(std::uint32_t x, std::uint32_t y) const {
    return x == static_cast<std::uint32_t>(log.x) && y == static_cast<std::uint32_t>(log.y);
  }
  bool follows(const PixelPlace& place, std::size_t i) const {
    return follows(place.column(i), place.row(i));
  }
  bool follows(const Onward& lane) const { return follows(lane.x, lane.y); }

  LaneLog log;
  StepWatch watch;  ///< of the batch on its way

  /// Has the steps of those kept that it `wants`.
  template <class Number, class Wants>
  void start(LaneBatch<Number>& lanes, const Wants& wants) {
    if (!options_.march) return;
    watch = StepWatch();
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (wants(i)) watch.follow(i);
    }
    lanes.watch = &watch;
  }
  template <class Number>
  void start(const PixelPlace& place, LaneBatch<Number>& lanes) {
    start(lanes, [&](std::size_t i) { return follows(place, i); });
  }

  /// A leg that ended at a portal or along a chord, as lane i of the watched batch, and what the
  /// fog on it added to the pixel: its number.
  std::int32_t go_through(const RoomView& here, const Onward& lane, double t, const Vec3d& at,
                          std::uint32_t face, std::uint32_t steps, std::size_t i,
                          float sample_share, const Color& fog);

  /// Keeps the steps of lane i of the watched batch until what it met is looked at, as lane k then.
  void keep_march(std::uint32_t slot, std::size_t i);
  void recall_march(std::uint32_t slot, std::size_t k);

 private:
  LaneLogOptions options_;
  std::map<std::uint32_t, std::vector<MarchStep>> marches_;
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
