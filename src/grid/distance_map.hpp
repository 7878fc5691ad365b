#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

#include "photonlane/grid/cell_map.hpp"

namespace photonlane {

/// For every cell, how many cells it is to the nearest wall, diagonal steps counting one
/// (Chebyshev's distance): 0 in a wall, at most 255. All cells nearer than that are empty, so a
/// lane may leave that square in one leap.
///
/// Stored with a ring of cells around the map. Where the map does not repeat the ring holds 0:
/// the outside stops a lane as a wall does, without a test of its own. Where it repeats, distances
/// run across the edges and are held below the shorter side, so that one leap wraps at most once.
struct DistanceMap {
  int width = 0;
  int height = 0;
  std::ptrdiff_t stride = 0;        ///< width + 2
  std::vector<std::uint8_t> bytes;  ///< (width + 2) * (height + 2), and a few to read past the end

  std::size_t index(int x, int y) const {
    return static_cast<std::size_t>((y + 1) * stride + (x + 1));
  }
};

DistanceMap measure_distances(const CellMap& map);

/// Repair the map around one cell that became a wall, or was one. Only the square in which
/// something changes is looked at, and the result equals a new measurement.
void add_wall(DistanceMap& map, bool repeat, int x, int y);
void remove_wall(DistanceMap& map, bool repeat, int x, int y);

}  // namespace photonlane
