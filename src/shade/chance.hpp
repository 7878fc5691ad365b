#pragma once

#include <cstdint>

#include "photonlane/base/random.hpp"

namespace photonlane {

/// What is drawn at random while lanes are followed: each decision draws from a dimension of its
/// own, so that none repeats what another drew. New ones take a number that is free.
enum class Chance : std::uint32_t {
  rough_tilt = 0,   ///< how far a rough surface's normal is tilted
  rough_turn = 1,   ///< and which way
  corner_turn = 7,  ///< by how much the rays for ambient occlusion are turned
  light_turn = 11,  ///< by how much the places on a light's disk are turned
  fog_place = 13,   ///< where on a lane lit fog is asked for
};

/// The pixel and the sample that a lane is of, and the surfaces that threw it on before.
struct LanePixel {
  std::uint32_t x, y, sample;
  std::uint32_t bounce = 0;
};

/// Which pixels a batch is of, for numbers drawn at random: pixel i is (x + i % width, y + i /
/// width), or that of lane i.
struct PixelPlace {
  int x = 0, y = 0;
  int width = 1;
  std::uint32_t batch_sample = 0;  ///< number of the sample that all of them are of
  const LanePixel* lanes = nullptr;
  std::uint64_t seed = 0;

  std::uint32_t column(std::size_t i) const {
    return lanes != nullptr ? lanes[i].x
                            : static_cast<std::uint32_t>(x + static_cast<int>(i) % width);
  }
  std::uint32_t row(std::size_t i) const {
    return lanes != nullptr ? lanes[i].y
                            : static_cast<std::uint32_t>(y + static_cast<int>(i) / width);
  }
  std::uint32_t sample(std::size_t i) const {
    return lanes != nullptr ? lanes[i].sample : batch_sample;
  }
  /// Of lane i, after the bounces it has had.
  RandomKey key(std::size_t i) const {
    return {seed, std::uint64_t{row(i)} << 32 | column(i), sample(i),
            lanes != nullptr ? lanes[i].bounce : 0};
  }
};

/// A number in [0, 1) for a decision about lane i.
inline float drawn(const PixelPlace& place, std::size_t i, Chance what) {
  return random_uniform(place.key(i), static_cast<std::uint32_t>(what));
}

}  // namespace photonlane
