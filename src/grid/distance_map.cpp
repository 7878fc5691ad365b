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

namespace {

/// Cells around a place, by their offset; across the edges where the map repeats. Null outside.
class Around {
 public:
  Around(DistanceMap& map, bool repeat, int x, int y) : map_(map), repeat_(repeat), x_(x), y_(y) {}

  std::uint8_t* at(int dx, int dy) const {
    int x = x_ + dx;
    int y = y_ + dy;
    if (repeat_) {
      x = ((x % map_.width) + map_.width) % map_.width;
      y = ((y % map_.height) + map_.height) % map_.height;
    } else if (x < 0 || y < 0 || x >= map_.width || y >= map_.height) {
      return nullptr;
    }
    return &map_.bytes[map_.index(x, y)];
  }

  /// The value there; outside a map that does not repeat stands as wall.
  int value(int dx, int dy) const {
    const std::uint8_t* cell = at(dx, dy);
    return cell == nullptr ? 0 : *cell;
  }

 private:
  DistanceMap& map_;
  bool repeat_;
  int x_, y_;
};

/// The largest distance the map holds.
int farthest(const DistanceMap& map, bool repeat) {
  return repeat ? std::min({255, map.width, map.height}) : 255;
}

/// Calls visit(dx, dy) for every cell of the square ring at a distance.
template <class Visit>
void each_in_ring(int distance, const Visit& visit) {
  if (distance == 0) {
    visit(0, 0);
    return;
  }
  for (int i = -distance; i <= distance; ++i) {
    visit(i, -distance);
    visit(i, distance);
  }
  for (int i = -distance + 1; i < distance; ++i) {
    visit(-distance, i);
    visit(distance, i);
  }
}

}  // namespace

void add_wall(DistanceMap& map, bool repeat, int x, int y) {
  const Around around(map, repeat, x, y);
  // Rings outward, until one in which nothing came nearer: beyond it nothing does.
  bool changed = true;
  for (int distance = 0; changed && distance < farthest(map, repeat); ++distance) {
    changed = false;
    each_in_ring(distance, [&](int dx, int dy) {
      std::uint8_t* cell = around.at(dx, dy);
      if (cell == nullptr || *cell <= distance) return;
      *cell = static_cast<std::uint8_t>(distance);
      changed = true;
    });
  }
}

void remove_wall(DistanceMap& map, bool repeat, int x, int y) {
  const Around around(map, repeat, x, y);
  const int most = farthest(map, repeat);
  // Cells whose distance was that to the wall that is gone may be farther from the others. They
  // lie in rings without a gap.
  int radius = 0;
  bool found = true;
  for (int distance = 0; found && distance < most; ++distance) {
    found = false;
    each_in_ring(distance, [&](int dx, int dy) {
      std::uint8_t* cell = around.at(dx, dy);
      if (cell == nullptr || *cell != distance) return;
      *cell = static_cast<std::uint8_t>(most);
      found = true;
    });
    if (found) radius = distance;
  }
  // What surrounds the square is right as it is; two passes carry it in, more where the square goes
  // round a map that repeats.
  bool changed = true;
  while (changed) {
    changed = false;
    const auto relax = [&](int dx, int dy, int sign) {
      std::uint8_t* cell = around.at(dx, dy);
      if (cell == nullptr || *cell == 0) return;
      const int near = std::min({around.value(dx - sign, dy), around.value(dx - 1, dy - sign),
                                 around.value(dx, dy - sign), around.value(dx + 1, dy - sign)});
      if (near + 1 < *cell) {
        *cell = static_cast<std::uint8_t>(near + 1);
        changed = true;
      }
    };
    for (int dy = -radius; dy <= radius; ++dy) {
      for (int dx = -radius; dx <= radius; ++dx) relax(dx, dy, 1);
    }
    for (int dy = radius; dy >= -radius; --dy) {
      for (int dx = radius; dx >= -radius; --dx) relax(dx, dy, -1);
    }
  }
}

}  // namespace photonlane
