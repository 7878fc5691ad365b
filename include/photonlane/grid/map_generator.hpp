#pragma once

///   const CellMap cave = make_map({.kind = MapKind::cave, .width = 71, .height = 51, .seed = 4});

#include <span>

#include "photonlane/grid/cell_map.hpp"

namespace photonlane {

/// What kind of map is made.
enum class MapKind {
  maze,   ///< corridors one cell wide between walls one cell wide
  cave,   ///< carved by wandering
  rooms,  ///< rectangles joined by corridors
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<MapKind>{"maze", "cave", "rooms"};

/// How the tree that joins everything is grown.
enum class TreeMethod {
  depth,    ///< depth first: long winding corridors (Tarjan, 1972)
  uniform,  ///< every tree equally likely (Wilson, 1996)
  edges,    ///< edges in random order: many short branches (Kruskal, 1956)
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<TreeMethod>{"depth", "uniform",
                                                                          "edges"};

/// What to make. The same recipe makes the same map everywhere.
struct MapRecipe {
  MapKind kind = MapKind::maze;
  int width = 41;
  int height = 31;
  std::int64_t seed = 1;
  TreeMethod tree = TreeMethod::depth;
  double loops = 0.03;   ///< share of the walls between neighbors off the tree that are opened
  double dead_ends = 1;  ///< share of a maze's dead ends that stay; the others are walled up
  double open = 0.45;    ///< share of a cave that is carved
  int room_size = 9;     ///< cells: largest side of a room
};
std::span<const Knob<MapRecipe>> map_recipe_knobs();

/// Makes a map with walls of one material (`wall`) all around, and marks a start and the place
/// farthest from it as the goal; there is always a way from one to the other. Sources: Tarjan,
/// "Depth-First Search and Linear Graph Algorithms", 1972; Wilson, "Generating Random Spanning
/// Trees More Quickly than the Cover Time", 1996; Kruskal, "On the Shortest Spanning Subtree of a
/// Graph and the Traveling Salesman Problem", 1956. Throws Error (input) for a recipe out of range.
CellMap make_map(const MapRecipe& recipe, Cell wall = wall_of(0));

}  // namespace photonlane
