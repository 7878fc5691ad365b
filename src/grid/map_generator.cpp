#include "photonlane/grid/map_generator.hpp"

#include <algorithm>
#include <cmath>

#include "grid/spanning_tree.hpp"
#include "photonlane/grid/reach.hpp"

namespace photonlane {
namespace {

CellMap all_walls(const MapRecipe& recipe, Cell wall) {
  CellMap map;
  map.width = recipe.width;
  map.height = recipe.height;
  map.cells.assign(static_cast<std::size_t>(map.width) * map.height, wall);
  return map;
}

void carve(CellMap& map, int left, int bottom, int right, int top) {
  for (int y = bottom; y <= top; ++y) {
    for (int x = left; x <= right; ++x) map.at(x, y) = empty_cell;
  }
}

/// The open neighbors of an open cell.
int exits(const CellMap& map, int x, int y) {
  return (map.at(x + 1, y) == empty_cell) + (map.at(x - 1, y) == empty_cell) +
         (map.at(x, y + 1) == empty_cell) + (map.at(x, y - 1) == empty_cell);
}

/// Walls up a share of the dead ends, each back to where another way leads on.
void wall_up_dead_ends(CellMap& map, double keep, Cell wall, RandomStream& random) {
  std::vector<CellPlace> ends;
  for (int y = 1; y < map.height - 1; ++y) {
    for (int x = 1; x < map.width - 1; ++x) {
      if (map.at(x, y) == empty_cell && exits(map, x, y) == 1) ends.push_back({x, y});
    }
  }
  for (CellPlace place : ends) {
    if (random.chance(keep)) continue;
    while (exits(map, place.x, place.y) == 1 && place != *map.start) {
      map.at(place.x, place.y) = wall;
      if (map.at(place.x + 1, place.y) == empty_cell) {
        ++place.x;
      } else if (map.at(place.x - 1, place.y) == empty_cell) {
        --place.x;
      } else if (map.at(place.x, place.y + 1) == empty_cell) {
        ++place.y;
      } else {
        --place.y;
      }
    }
  }
}

void make_maze(CellMap& map, const MapRecipe& recipe, Cell wall, RandomStream& random) {
  const int columns = (map.width - 1) / 2;
  const int rows = (map.height - 1) / 2;
  const Lattice lattice = spanning_tree(columns, rows, recipe.tree, recipe.loops, random);
  for (int y = 0; y < rows; ++y) {
    for (int x = 0; x < columns; ++x) {
      map.at(2 * x + 1, 2 * y + 1) = empty_cell;
      if (lattice.east[lattice.index(x, y)] != 0) map.at(2 * x + 2, 2 * y + 1) = empty_cell;
      if (lattice.north[lattice.index(x, y)] != 0) map.at(2 * x + 1, 2 * y + 2) = empty_cell;
    }
  }
  map.start = CellPlace{1, 1};
  if (recipe.dead_ends < 1) wall_up_dead_ends(map, recipe.dead_ends, wall, random);
}

/// Wanderers carve until enough is open. Each starts somewhere in what was carved last, and rather
/// goes on than turns, so that the cave spreads in arms instead of growing round.
void make_cave(CellMap& map, const MapRecipe& recipe, RandomStream& random) {
  std::vector<CellPlace> carved;
  const auto visit = [&](CellPlace place) {
    if (map.at(place.x, place.y) == empty_cell) return;
    map.at(place.x, place.y) = empty_cell;
    carved.push_back(place);
  };
  const double inner = static_cast<double>(map.width - 2) * (map.height - 2);
  const auto wanted = static_cast<std::size_t>(std::max(1.0, recipe.open * inner));
  visit({map.width / 2, map.height / 2});
  map.start = carved.front();
  constexpr int life = 60;
  constexpr double keep_on = 0.5;
  std::size_t stuck = 0;
  while (carved.size() < wanted) {
    // Where the newest parts are closed in, older ones have to go on.
    const std::size_t before = carved.size();
    const auto newest = static_cast<std::size_t>(16 + 2 * std::sqrt(static_cast<double>(before)));
    const std::size_t recent = std::min(before, newest << std::min<std::size_t>(stuck, 30));
    const auto back = random.below(static_cast<std::uint32_t>(recent));
    CellPlace place = carved[before - 1 - back];
    std::uint32_t direction = random.below(4);
    for (int step = 0; step < life && carved.size() < wanted; ++step) {
      constexpr int dx[] = {1, 0, -1, 0};
      constexpr int dy[] = {0, 1, 0, -1};
      if (!random.chance(keep_on)) direction = random.below(4);
      place.x = std::clamp(place.x + dx[direction], 1, map.width - 2);
      place.y = std::clamp(place.y + dy[direction], 1, map.height - 2);
      visit(place);
    }
    stuck = carved.size() < before + life / 8 ? stuck + 1 : 0;
  }
}

/// A room somewhere in each block of a lattice of blocks; a tree over the blocks says which are
/// joined by a corridor with one bend.
void make_rooms(CellMap& map, const MapRecipe& recipe, RandomStream& random) {
  struct Room {
    int left, bottom, right, top;
    CellPlace middle() const { return {(left + right) / 2, (bottom + top) / 2}; }
  };
  const int block = recipe.room_size + 3;
  const int columns = std::max(1, (map.width - 1) / block);
  const int rows = std::max(1, (map.height - 1) / block);
  const auto side = [&](int from, int to, int& low, int& high) {
    const int most = std::min(recipe.room_size, to - from + 1);
    const int least = std::min(3, most);
    const int length =
        least + static_cast<int>(random.below(static_cast<std::uint32_t>(most - least + 1)));
    low = from +
          static_cast<int>(random.below(static_cast<std::uint32_t>(to - from + 1 - length + 1)));
    high = low + length - 1;
  };
  std::vector<Room> rooms;
  for (int row = 0; row < rows; ++row) {
    for (int column = 0; column < columns; ++column) {
      const auto first = [](int i, int cells, int parts) { return 1 + i * (cells - 2) / parts; };
      Room room{};
      side(first(column, map.width, columns),
           std::max(first(column, map.width, columns), first(column + 1, map.width, columns) - 2),
           room.left, room.right);
      side(first(row, map.height, rows),
           std::max(first(row, map.height, rows), first(row + 1, map.height, rows) - 2),
           room.bottom, room.top);
      carve(map, room.left, room.bottom, room.right, room.top);
      rooms.push_back(room);
    }
  }
  const Lattice lattice = spanning_tree(columns, rows, recipe.tree, recipe.loops, random);
  const auto corridor = [&](CellPlace from, CellPlace to) {
    const CellPlace bend = random.chance(0.5) ? CellPlace{to.x, from.y} : CellPlace{from.x, to.y};
    for (const auto& [a, b] : {std::pair{from, bend}, std::pair{bend, to}}) {
      carve(map, std::min(a.x, b.x), std::min(a.y, b.y), std::max(a.x, b.x), std::max(a.y, b.y));
    }
  };
  for (int row = 0; row < rows; ++row) {
    for (int column = 0; column < columns; ++column) {
      const std::size_t node = lattice.index(column, row);
      if (lattice.east[node] != 0) corridor(rooms[node].middle(), rooms[node + 1].middle());
      if (lattice.north[node] != 0) corridor(rooms[node].middle(), rooms[node + columns].middle());
    }
  }
  map.start = rooms.front().middle();
}

}  // namespace

std::span<const Knob<MapRecipe>> map_recipe_knobs() {
  static const Knob<MapRecipe> table[] = {
      knob<&MapRecipe::kind>("kind", "", {}, "what kind of map is made"),
      knob<&MapRecipe::width>("width", "cells", {3, CellMap::largest_side}, "columns of the map"),
      knob<&MapRecipe::height>("height", "cells", {3, CellMap::largest_side}, "rows of the map"),
      knob<&MapRecipe::seed>("seed", "", {0, 9e15}, "another number, another map"),
      knob<&MapRecipe::tree>("tree", "", {},
                             "how a maze's corridors or the ways between rooms grow: depth first, "
                             "every tree equally likely, or edges in random order"),
      knob<&MapRecipe::loops>("loops", "", {0, 1},
                              "share of the walls between neighbors off the tree that are opened"),
      knob<&MapRecipe::dead_ends>("dead_ends", "", {0, 1}, "share of the dead ends that stay", 1,
                                  "kind=maze"),
      knob<&MapRecipe::open>("open", "", {0, 0.9}, "share of the cave that is carved", 1,
                             "kind=cave"),
      knob<&MapRecipe::room_size>("room_size", "cells", {3, 1000}, "largest side of a room", 1,
                                  "kind=rooms"),
  };
  return table;
}

CellMap make_map(const MapRecipe& recipe, Cell wall) {
  validate_knobs(map_recipe_knobs(), recipe);
  RandomStream random(static_cast<std::uint64_t>(recipe.seed));
  CellMap map = all_walls(recipe, wall);
  switch (recipe.kind) {
    case MapKind::maze:
      make_maze(map, recipe, wall, random);
      break;
    case MapKind::cave:
      make_cave(map, recipe, random);
      break;
    case MapKind::rooms:
      make_rooms(map, recipe, random);
      break;
  }
  map.goal = farthest_cell(map, *map.start);
  return map;
}

}  // namespace photonlane
