#pragma once

#include "photonlane/base/random.hpp"
#include "photonlane/grid/cell_map.hpp"
#include "textbook/columns.hpp"

namespace photonlane::bench {

/// A walled square with a share of its cells filled at random; empty around its middle, where the
/// eye stands.
inline CellMap scattered(int side, double share) {
  CellMap map;
  map.width = map.height = side;
  map.cells.assign(static_cast<std::size_t>(side) * side, empty_cell);
  for (int y = 0; y < side; ++y) {
    for (int x = 0; x < side; ++x) {
      const RandomKey key{.seed = 7, .pixel = static_cast<std::uint64_t>(y) * side + x};
      const bool edge = x == 0 || y == 0 || x == side - 1 || y == side - 1;
      const bool middle = std::abs(x - side / 2) < 2 && std::abs(y - side / 2) < 2;
      if (edge || (!middle && random_uniform(key, 0) < share)) {
        map.at(x, y) = wall_of(random_below(key, 1, 4));
      }
    }
  }
  return map;
}

inline textbook::Map textbook_map(const CellMap& map) {
  return {map.width, map.height, {map.cells.begin(), map.cells.end()}};
}

}  // namespace photonlane::bench
