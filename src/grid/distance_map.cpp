#include "grid/distance_map.hpp"

#include <algorithm>

namespace photonlane {
namespace {

/// One row of a pass over the map (Rosenfeld and Pfaltz, "Distance Functions on Digital Pictures",
/// 1968): what the row before allows, then along the row in both directions.
bool relax_row(std::uint8_t* row, const std::uint8_t* before, std::ptrdiff_t first,
               std::ptrdiff_t last, std::vector<std::uint8_t>& scratch) {
  scratch.assign(row + first, row + last + 1);
  for (std::ptrdiff_t x = first; x <= last; ++x) {
    const std::uint8_t near = std::min({before[x - 1], before[x], before[x + 1]});
    const auto through = static_cast<std::uint8_t>(near == 255 ? 255 : near + 1);
    row[x] = std::min(row[x], through);
  }
  for (std::ptrdiff_t x = first; x <= last; ++x) {
    row[x] = static_cast<std::uint8_t>(std::min<int>(row[x], row[x - 1] + 1));
  }
  for (std::ptrdiff_t x = last; x >= first; --x) {
    row[x] = static_cast<std::uint8_t>(std::min<int>(row[x], row[x + 1] + 1));
  }
  return !std::equal(scratch.begin(), scratch.end(), row + first);
}

/// Copies the opposite edge into the ring, so that neighbors across it are seen.
void wrap_ring(DistanceMap& map) {
  const std::ptrdiff_t stride = map.stride;
  std::uint8_t* bytes = map.bytes.data();
  for (std::ptrdiff_t y = 1; y <= map.height; ++y) {
    bytes[y * stride] = bytes[y * stride + map.width];
    bytes[y * stride + map.width + 1] = bytes[y * stride + 1];
  }
  std::copy_n(bytes + map.height * stride, stride, bytes);
  std::copy_n(bytes + stride, stride, bytes + (map.height + 1) * stride);
}

}  // namespace

DistanceMap measure_distances(const CellMap& map) {
  DistanceMap result;
  result.width = map.width;
  result.height = map.height;
  result.stride = map.width + 2;
  const std::size_t ringed = static_cast<std::size_t>(result.stride) * (map.height + 2);
  result.bytes.assign(ringed + 8, 0);
  const auto farthest =
      static_cast<std::uint8_t>(map.repeat ? std::min({255, map.width, map.height}) : 255);
  for (int y = 0; y < map.height; ++y) {
    std::uint8_t* row = result.bytes.data() + result.index(0, y);
    const Cell* cells = map.cells.data() + static_cast<std::size_t>(y) * map.width;
    for (int x = 0; x < map.width; ++x) row[x] = cells[x] == empty_cell ? farthest : 0;
  }

  std::vector<std::uint8_t> scratch;
  const std::ptrdiff_t stride = result.stride;
  bool changed = true;
  while (changed) {
    // Without repetition one round is exact; across edges it goes round until nothing changes.
    changed = false;
    if (map.repeat) wrap_ring(result);
    for (std::ptrdiff_t y = 1; y <= map.height; ++y) {
      std::uint8_t* row = result.bytes.data() + y * stride;
      changed |= relax_row(row, row - stride, 1, map.width, scratch);
    }
    if (map.repeat) wrap_ring(result);
    for (std::ptrdiff_t y = map.height; y >= 1; --y) {
      std::uint8_t* row = result.bytes.data() + y * stride;
      changed |= relax_row(row, row + stride, 1, map.width, scratch);
    }
    if (!map.repeat) break;
  }
  return result;
}

}  // namespace photonlane
