#include "photonlane/grid/reach.hpp"

#include <utility>

namespace photonlane {

std::vector<std::uint8_t> reachable_cells(const CellMap& map, int from_x, int from_y) {
  std::vector<std::uint8_t> reached(map.cells.size(), 0);
  std::vector<std::pair<int, int>> open;
  const auto visit = [&](int x, int y) {
    if (map.repeat) {
      x = ((x % map.width) + map.width) % map.width;
      y = ((y % map.height) + map.height) % map.height;
    }
    if (x < 0 || y < 0 || x >= map.width || y >= map.height) return;
    std::uint8_t& mark = reached[static_cast<std::size_t>(y) * map.width + x];
    if (mark != 0 || map.at(x, y) != empty_cell) return;
    mark = 1;
    open.emplace_back(x, y);
  };
  visit(from_x, from_y);
  while (!open.empty()) {
    const auto [x, y] = open.back();
    open.pop_back();
    visit(x + 1, y);
    visit(x - 1, y);
    visit(x, y + 1);
    visit(x, y - 1);
  }
  return reached;
}

}  // namespace photonlane
