#pragma once

#include <cstddef>
#include <cstdint>

#include "base/lent.hpp"

namespace photonlane {

/// A lane that is marched by place.
template <class Number>
struct alignas(64) PlaceLane {
  Number x, y, z, direction_x, direction_y, direction_z, start, scale;
  // As the blocks of marching have them.
  Number t, far_end, side, steps, more, last, stride, value, before, value_before, nearest, left;
  Number enter, leave;   ///< the cube it is in
  std::uint64_t around;  ///< the block it was in last: where it is,
  std::uint32_t block;   ///< which,
  std::uint32_t shift;   ///< and of which level
  std::uint32_t part;    ///< what matters there
  std::uint16_t batch;
  std::uint8_t lane;  ///< of the batch
  std::uint8_t flags;
};

/// Memory for lanes that march together.
template <class Number>
struct PlaceLanes {
  static constexpr std::size_t most = 2048;
  PlaceLane<Number> lanes[most];
  std::uint64_t keys[most], sorted[most];  ///< part, then lane
  std::uint32_t waiting[most], close[most], ended[most];
};

/// Sorts `count` keys by their upper half; `spare` holds as many. Returns where they are then.
std::uint64_t* sort_keys(std::uint64_t* keys, std::uint64_t* spare, std::size_t count);

}  // namespace photonlane
