#pragma once

///   const RandomKey key{.seed = 7, .pixel = 120, .sample = 3};
///   const float one = random_uniform(key, 0);
///   const float other = random_uniform(key, 1);

#include <cstdint>

namespace photonlane {

/// Names one random decision of a frame. The number drawn depends on nothing else, so which
/// thread draws it, and when, never shows (counter-based generation as in Salmon, Moraes, Dror
/// and Shaw, "Parallel Random Numbers: As Easy as 1, 2, 3", 2011).
struct RandomKey {
  std::uint64_t seed = 0;
  std::uint64_t pixel = 0;
  std::uint32_t sample = 0;
  std::uint32_t bounce = 0;
};

/// Mixes 64 bits so that every input bit reaches every output bit: the finalizer of Steele, Lea
/// and Flood, "Fast Splittable Pseudorandom Number Generators", 2014 (Stafford's variant 13).
constexpr std::uint64_t mix(std::uint64_t bits) {
  bits = (bits ^ (bits >> 30)) * 0xbf58476d1ce4e5b9u;
  bits = (bits ^ (bits >> 27)) * 0x94d049bb133111ebu;
  return bits ^ (bits >> 31);
}

/// 64 random bits for one dimension of a decision.
constexpr std::uint64_t random_bits(const RandomKey& key, std::uint32_t dimension) {
  constexpr std::uint64_t golden = 0x9e3779b97f4a7c15u;
  std::uint64_t bits = mix(key.seed + golden);
  bits = mix(bits ^ (key.pixel + golden));
  bits = mix(bits ^ ((std::uint64_t{key.sample} << 32) | key.bounce));
  return mix(bits + golden * (std::uint64_t{dimension} + 1));
}

/// A number in [0, 1), uniform, on a grid of 2^-24 so that it is exact in float.
constexpr float random_uniform(const RandomKey& key, std::uint32_t dimension) {
  return static_cast<float>(random_bits(key, dimension) >> 40) * 0x1p-24f;
}

/// A whole number in [0, count), uniform to within count / 2^32.
constexpr std::uint32_t random_below(const RandomKey& key, std::uint32_t dimension,
                                     std::uint32_t count) {
  return static_cast<std::uint32_t>(((random_bits(key, dimension) >> 32) * count) >> 32);
}

}  // namespace photonlane
