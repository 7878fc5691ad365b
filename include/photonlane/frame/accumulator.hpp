#pragma once

/// Frames of one picture added up, so that it gets better from frame to frame:
///
///   Accumulator sum;
///   budget.frame.sequence = SampleSequence::open;
///   for (int round = 0; round < 16; ++round) {
///     sum.add(render(world, camera, budget));
///     budget.frame.first += budget.frame.samples;
///   }
///   const Frame picture = sum.mean();

#include <vector>

#include "photonlane/frame/frame.hpp"

namespace photonlane {

/// The mean of the colors of frames, each by its samples. Memory: 24 bytes a pixel.
class Accumulator {
 public:
  /// Throws Error (usage) for a frame without the color layer, or of another size than those
  /// before.
  void add(const Frame& frame);
  /// Color samples a pixel so far.
  std::int64_t samples() const { return samples_; }
  /// The layer color, with the budget of the last frame, all samples, and what they all cost.
  /// Throws Error (usage) where nothing was added.
  Frame mean() const;
  /// Forgets all, for another picture.
  void clear();

 private:
  Size size_;
  std::vector<double> sums_;  ///< red, green and blue of a pixel
  std::int64_t samples_ = 0;
  Budget budget_;
  Tally tally_;
  Cost cost_;
};

}  // namespace photonlane
