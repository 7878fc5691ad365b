#pragma once

#include <cstdint>
#include <vector>

#include "photonlane/frame/render.hpp"
#include "photonlane/measure/difference.hpp"

namespace photonlane {

/// Blocks of a frame of which each is made together anyway, all of one size, and for how much of
/// the frame each stands.
struct FrameSample {
  std::vector<PixelPart> parts;
  std::vector<double> shares;  ///< add up to 1
  double pixels = 0;

  /// What a part adds to a frame of that size, of something it has so much of itself.
  double of_whole(std::size_t part, double amount, Size whole) const {
    const Size own = parts[part].size;
    return shares[part] * amount * (static_cast<double>(whole.width) * whole.height) /
           (static_cast<double>(own.width) * own.height);
  }
};

/// Two samples that have no block in common: about `count` blocks each, more of them where more is
/// spent. All of the frame as one block, and nothing, where it is small or where no part of it is
/// known without the rest.
struct TwoSamples {
  FrameSample seen, held_out;
};
TwoSamples sample_frame(const World& world, const Camera& camera, const Budget& budget,
                        std::size_t count, int threads);

/// Both together.
FrameSample joined(const FrameSample& one, const FrameSample& two);

/// How far the parts of a sample are from others, each as much as it stands for. Percentiles are
/// the means of those of the parts.
Difference compare_samples(const Frame& frame, const Frame& reference, const FrameSample& sample);

/// The mean of differences by their shares.
Difference mean_of(const std::vector<Difference>& differences, const std::vector<double>& shares);

}  // namespace photonlane
