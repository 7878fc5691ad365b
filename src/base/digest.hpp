#pragma once

#include <algorithm>
#include <compare>
#include <cstdint>
#include <cstring>
#include <string>
#include <string_view>

#include "photonlane/base/random.hpp"

namespace photonlane {

/// What something says, in 128 bits: to recognize it, not as protection against forgery.
struct Digest {
  std::uint64_t high = 0;
  std::uint64_t low = 0;
  auto operator<=>(const Digest&) const = default;

  void add(std::uint64_t one, std::uint64_t other) {
    high = mix(high ^ one) + 0x9e3779b97f4a7c15u;
    low = mix(low + mix(other ^ high));
  }
  void add(const Digest& part) { add(part.high, part.low); }
  /// With its length, so that what belongs to which text is told.
  void add(std::string_view text) {
    add(text.size(), 1);
    for (std::size_t i = 0; i < text.size(); i += 8) {
      std::uint64_t word = 0;
      std::memcpy(&word, text.data() + i, std::min<std::size_t>(8, text.size() - i));
      add(word, i);
    }
  }
};

}  // namespace photonlane
