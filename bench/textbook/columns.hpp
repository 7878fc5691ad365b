#pragma once

/// The plain scalar loops a practitioner writes first, written fairly: what the library races.

#include <cstdint>
#include <vector>

namespace textbook {

struct Map {
  int width = 0;
  int height = 0;
  std::vector<std::uint8_t> cells;  ///< 0 empty, else 1 + color index
  bool wall(int x, int y) const {
    return x < 0 || y < 0 || x >= width || y >= height ||
           cells[static_cast<std::size_t>(y) * width + x] != 0;
  }
};

struct Eye {
  float x = 0, y = 0;  ///< cells
  float forward_x = 1, forward_y = 0;
  float half_width = 1;  ///< half the width of the image plane at distance 1
};

struct Hit {
  float t = 0;  ///< along a unit direction
  int x = 0, y = 0;
  bool by_x = false;
  std::uint32_t steps = 0;
};

/// One ray by equal steps of `increment`, the position added up, until a wall or `far`.
Hit cast_increments(const Map& map, const Eye& eye, float dx, float dy, float increment, float far);

/// One ray from boundary to boundary with running sums, until a wall or `far`.
Hit cast_boundaries(const Map& map, const Eye& eye, float dx, float dy, float far = 1e30f);

/// The directions of the columns of a frame, casting each, hits in order.
void cast_columns_increments(const Map& map, const Eye& eye, float increment, float far,
                             std::vector<Hit>& hits);
void cast_columns_boundaries(const Map& map, const Eye& eye, std::vector<Hit>& hits);

}  // namespace textbook
