#include "field/place_lanes.hpp"

#include <algorithm>
#include <utility>

#include "base/lent_pool.hpp"

namespace photonlane {

template class Lent<PlaceLanes<float>>;
template class Lent<PlaceLanes<double>>;

std::uint64_t* sort_keys(std::uint64_t* keys, std::uint64_t* spare, std::size_t count) {
  if (count < 64) {
    std::sort(keys, keys + count);
    return keys;
  }
  std::uint64_t differ = 0;
  for (std::size_t i = 1; i < count; ++i) differ |= keys[i] ^ keys[0];
  for (int shift = 32; shift < 64; shift += 8) {
    if ((differ >> shift & 255) == 0) continue;
    std::size_t begin[256] = {};
    for (std::size_t i = 0; i < count; ++i) ++begin[keys[i] >> shift & 255];
    std::size_t sum = 0;
    for (std::size_t& first : begin) sum += std::exchange(first, sum);
    for (std::size_t i = 0; i < count; ++i) spare[begin[keys[i] >> shift & 255]++] = keys[i];
    std::swap(keys, spare);
  }
  return keys;
}

}  // namespace photonlane
