#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

#include "base/stage_clock.hpp"
#include "follow/follow.hpp"
#include "follow/look.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane {

/// The pixels that the lanes of a pool are of: blocks side by side.
class PixelSums final : public LightSink {
 public:
  /// A block of pixels; its lane i is pixel (x + i % width, y + i / width).
  struct Block {
    Block() {}  // NOLINT: 15 KB that are written before they are read are not cleared
    int x = 0, y = 0;
    int width = 0, height = 0;
    Colors sums;
    Seen seen;
    StageReading reading;  ///< of its own batches
    // What went on from its pixels took; set where meters are on.
    float followed_ticks[Surfaces::capacity];
    float followed_work[Surfaces::capacity];

    void start_meters() {
      reading = {};
      std::fill_n(followed_ticks, Surfaces::capacity, 0.0f);
      std::fill_n(followed_work, Surfaces::capacity, 0.0f);
    }
  };

  /// Of blocks of that size; those at the right may be narrower.
  PixelSums(const Viewing& view, int block_width, int block_height, bool meters)
      : view_(view), block_width_(block_width), block_height_(block_height), meters_(meters) {}

  /// From now on of other blocks, `across` of them in a row, `count` in all.
  void start(int across, int count) {
    across_ = across;
    blocks.clear();
    blocks.reserve(static_cast<std::size_t>(count));
  }

  std::vector<Block> blocks;

  void add(const Onward& lane, float red, float green, float blue) override;
  void uncover(const Onward& lane, float share) override;
  void settle(const Onward& lane, const Surfaces& surfaces, std::size_t i) override;
  bool meters() const override { return meters_; }
  void spend(const Onward& lane, float ticks, float work) override;

 private:
  struct Slot {
    std::size_t block, lane;
  };
  Slot slot(const Onward& lane) const;

  const Viewing& view_;
  int block_width_, block_height_;
  bool meters_;
  int across_ = 1;
};

}  // namespace photonlane
