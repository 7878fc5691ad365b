#pragma once

#include <algorithm>
#include <cmath>
#include <vector>

#include "photonlane/grid/cell_map.hpp"

namespace photonlane::test {

/// What a lane meets, found the slow way and in double: every crossing of every grid line up to
/// the far limit, sorted; between two crossings the lane is in the cell of the middle.
struct PlainHit {
  bool hit = false;
  double t = 0;
  int x = 0, y = 0;
  double margin = 1;  ///< smallest gap between two crossings on the way: how near a corner it came
};

inline PlainHit plain_walk(const CellMap& map, double x, double y, double dx, double dy,
                           double far_limit) {
  const double size = map.cell_size;
  std::vector<double> crossings{0};
  const auto add_axis = [&](double from, double direction) {
    if (direction == 0) return;
    const double a = from / size;
    const double b = (from + direction * far_limit) / size;
    for (double line = std::ceil(std::min(a, b)); line <= std::max(a, b); ++line) {
      crossings.push_back((line * size - from) / direction);
    }
  };
  add_axis(x, dx);
  add_axis(y, dy);
  std::sort(crossings.begin(), crossings.end());
  crossings.push_back(far_limit);
  PlainHit result;
  for (std::size_t i = 0; i + 1 < crossings.size(); ++i) {
    const double gap = crossings[i + 1] - crossings[i];
    if (gap <= 0) continue;
    if (i > 0) result.margin = std::min(result.margin, gap);
    const double middle = crossings[i] + gap / 2;
    double cell_x = std::floor((x + dx * middle) / size);
    double cell_y = std::floor((y + dy * middle) / size);
    if (map.repeat) {
      cell_x -= map.width * std::floor(cell_x / map.width);
      cell_y -= map.height * std::floor(cell_y / map.height);
    }
    if (cell_x < 0 || cell_y < 0 || cell_x >= map.width || cell_y >= map.height) continue;
    const int column = static_cast<int>(cell_x);
    const int row = static_cast<int>(cell_y);
    if (map.at(column, row) != empty_cell) {
      return {true, crossings[i], column, row, result.margin};
    }
  }
  result.t = far_limit;
  return result;
}

}  // namespace photonlane::test
