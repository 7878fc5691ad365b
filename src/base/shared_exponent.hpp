#pragma once

#include <algorithm>
#include <bit>
#include <cstdint>

#include "photonlane/base/color.hpp"

namespace photonlane {

/// Linear light in 32 bits: 9 for each channel and 5 for an exponent they share, so that white is
/// told to a 1023th and lights up to 65408. Less than 0, and what is no number, is 0.
inline std::uint32_t shared_exponent_code(float red, float green, float blue) {
  constexpr float most = 65408;
  const auto within = [&](float value) { return value > 0 ? std::min(value, most) : 0.0f; };
  red = within(red);
  green = within(green);
  blue = within(blue);
  const float largest = std::max({red, green, blue});
  if (largest < 0x1p-25f) return 0;
  // Powers of two by their bits: this is asked for every lane.
  const auto power = [](int of) {
    return std::bit_cast<float>(static_cast<std::uint32_t>(of + 127) << 23);
  };
  const int whole = static_cast<int>(std::bit_cast<std::uint32_t>(largest) >> 23) - 127;
  int exponent = std::max(-15, whole) + 1;
  if (largest * power(9 - exponent) >= 511.5f) ++exponent;
  const float scale = power(9 - exponent);
  const auto part = [&](float value) { return static_cast<std::uint32_t>(value * scale + 0.5f); };
  return part(red) | part(green) << 9 | part(blue) << 18 |
         static_cast<std::uint32_t>(exponent + 15) << 27;
}

inline Color color_from_shared_exponent(std::uint32_t code) {
  const int exponent = static_cast<int>(code >> 27) - 15 - 9;
  const auto scale = std::bit_cast<float>(static_cast<std::uint32_t>(exponent + 127) << 23);
  const auto part = [&](int from) { return static_cast<float>(code >> from & 511) * scale; };
  return {part(0), part(9), part(18)};
}

}  // namespace photonlane
