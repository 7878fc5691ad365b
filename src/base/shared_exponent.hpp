#pragma once

#include <algorithm>
#include <cmath>
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
  int exponent = std::max(-15, static_cast<int>(std::floor(std::log2(largest)))) + 1;
  if (std::lround(std::ldexp(largest, 9 - exponent)) > 511) ++exponent;
  const auto part = [&](float value) {
    return static_cast<std::uint32_t>(std::lround(std::ldexp(value, 9 - exponent)));
  };
  return part(red) | part(green) << 9 | part(blue) << 18 |
         static_cast<std::uint32_t>(exponent + 15) << 27;
}

inline Color color_from_shared_exponent(std::uint32_t code) {
  const int exponent = static_cast<int>(code >> 27) - 15 - 9;
  const auto part = [&](int from) {
    return std::ldexp(static_cast<float>(code >> from & 511), exponent);
  };
  return {part(0), part(9), part(18)};
}

}  // namespace photonlane
