#include "photonlane/grid/reach.hpp"

#include <algorithm>
#include <utility>

namespace photonlane {

namespace {

/// Doors can be opened.
bool can_pass(const CellMap& map, int x, int y) {
  const CellForm* form = map.form(x, y);
  return map.at(x, y) == empty_cell || (form != nullptr && (form->is_door() || form->passable));
}

}  // namespace

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
    if (mark != 0 || !can_pass(map, x, y)) return;
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

CellPlace farthest_cell(const CellMap& map, CellPlace from) {
  // Breadth first: rings of cells equally far away, one after the other.
  std::vector<std::uint8_t> seen(map.cells.size(), 0);
  std::vector<CellPlace> ring;
  const auto visit = [&](int x, int y, std::vector<CellPlace>& next) {
    if (x < 0 || y < 0 || x >= map.width || y >= map.height || !can_pass(map, x, y)) return;
    std::uint8_t& mark = seen[static_cast<std::size_t>(y) * map.width + x];
    if (mark == 0) next.push_back({x, y});
    mark = 1;
  };
  visit(from.x, from.y, ring);
  CellPlace farthest = from;
  while (!ring.empty()) {
    farthest = *std::min_element(ring.begin(), ring.end(), [](CellPlace a, CellPlace b) {
      return a.y != b.y ? a.y < b.y : a.x < b.x;
    });
    std::vector<CellPlace> next;
    for (const CellPlace& place : ring) {
      visit(place.x + 1, place.y, next);
      visit(place.x - 1, place.y, next);
      visit(place.x, place.y + 1, next);
      visit(place.x, place.y - 1, next);
    }
    ring = std::move(next);
  }
  return farthest;
}

}  // namespace photonlane
