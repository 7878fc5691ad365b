#pragma once

#include <cstdint>

namespace photonlane {

/// The numbers that one sample of a pixel is made of, in pairs that each have a dimension of their
/// own. Samples of a pixel are points of the (0, 2)-sequence of Sobol' ("On the Distribution of
/// Points in a Cube", 1967: its first two dimensions, which need no table), scrambled as by Owen
/// and put into another order for every dimension (Burley, "Practical Hash-based Owen Scrambling",
/// 2020); samples with odd numbers are of a second sequence of their own, so that the difference of
/// the two halves tells the error. Neighboring pixels are moved apart by a mask of blue noise
/// (Georgiev and Fajardo, "Blue-noise Dithered Sampling", 2016).
class SamplePoints {
 public:
  SamplePoints(std::uint64_t seed, std::uint32_t x, std::uint32_t y, std::uint32_t sample);

  struct Pair {
    float u, v;  ///< in [0, 1), on a grid of 2^-24
  };
  Pair pair(std::uint32_t dimension) const;

 private:
  std::uint32_t seed_;
  std::uint32_t x_, y_;
  std::uint32_t index_;
};

}  // namespace photonlane
