#include "photonlane/grid/map_generator.hpp"

#include <gmock/gmock.h>

#include <algorithm>

#include "photonlane/base/random.hpp"
#include "photonlane/grid/reach.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

std::ptrdiff_t open_cells(const CellMap& map) {
  return std::count(map.cells.begin(), map.cells.end(), empty_cell);
}

/// Ways on from an open cell.
int exits(const CellMap& map, int x, int y) {
  return (map.at(x + 1, y) == empty_cell) + (map.at(x - 1, y) == empty_cell) +
         (map.at(x, y + 1) == empty_cell) + (map.at(x, y - 1) == empty_cell);
}

TEST(MakeMap, ThousandsOfSeedsAreClosedAndLeadFromStartToGoal) {
  for (std::uint64_t seed = 0; seed < 3000; ++seed) {
    const RandomKey key{.seed = 5, .pixel = seed};
    MapRecipe recipe;
    recipe.kind = static_cast<MapKind>(seed % 3);
    recipe.tree = static_cast<TreeMethod>(seed / 3 % 3);
    recipe.width = 3 + static_cast<int>(random_below(key, 0, 60));
    recipe.height = 3 + static_cast<int>(random_below(key, 1, 40));
    recipe.loops = seed % 5 == 0 ? 0.2 : 0;
    recipe.dead_ends = seed % 7 == 0 ? 0.3 : 1;
    recipe.open = 0.1 + 0.7 * random_uniform(key, 2);
    recipe.room_size = 3 + static_cast<int>(random_below(key, 3, 9));
    recipe.seed = static_cast<std::int64_t>(seed);
    const CellMap map = make_map(recipe);
    ASSERT_NO_THROW(validate(map));
    ASSERT_TRUE(map.start && map.goal);
    ASSERT_EQ(map.at(map.start->x, map.start->y), empty_cell) << seed;
    const auto reached = reachable_cells(map, map.start->x, map.start->y);
    ASSERT_EQ(std::count(reached.begin(), reached.end(), 1), open_cells(map))
        << "seed " << seed << ": all that is open hangs together";
    ASSERT_EQ(reached[static_cast<std::size_t>(map.goal->y) * map.width + map.goal->x], 1) << seed;
    for (int x = 0; x < map.width; ++x) {
      ASSERT_NE(map.at(x, 0), empty_cell);
      ASSERT_NE(map.at(x, map.height - 1), empty_cell);
    }
    for (int y = 0; y < map.height; ++y) {
      ASSERT_NE(map.at(0, y), empty_cell);
      ASSERT_NE(map.at(map.width - 1, y), empty_cell);
    }
  }
}

TEST(MakeMap, AMazeWithoutLoopsIsATree) {
  for (const TreeMethod tree : {TreeMethod::depth, TreeMethod::uniform, TreeMethod::edges}) {
    MapRecipe recipe{.width = 61, .height = 41, .tree = tree, .loops = 0};
    const CellMap map = make_map(recipe);
    // A tree has one edge less than nodes; here nodes and edges are both open cells.
    EXPECT_EQ(open_cells(map), 2 * 30 * 20 - 1) << name_of(tree);
    recipe.loops = 1;
    EXPECT_EQ(open_cells(make_map(recipe)), 30 * 20 + 29 * 20 + 30 * 19) << "every wall opened";
    recipe.loops = 0.1;
    const double added = static_cast<double>(open_cells(make_map(recipe)) - (2 * 30 * 20 - 1));
    EXPECT_NEAR(added / (29 * 20 + 30 * 19 - (30 * 20 - 1)), 0.1, 0.04);
  }
}

TEST(MakeMap, TreesDifferAsTheirMethodsDo) {
  const auto dead_ends = [](TreeMethod tree) {
    const CellMap map = make_map({.width = 201, .height = 201, .tree = tree, .loops = 0});
    int count = 0;
    for (int y = 1; y < 200; ++y) {
      for (int x = 1; x < 200; ++x) count += map.at(x, y) == empty_cell && exits(map, x, y) == 1;
    }
    return count / 10000.0;
  };
  // Depth first leaves about a tenth of the cells as dead ends. In the uniform tree of a square
  // lattice the share is 8/pi^2 (1 - 2/pi) = 0.2945 (Manna, Dhar and Majumdar, "Spanning trees in
  // two dimensions", 1992); edges in random order give a little more.
  EXPECT_NEAR(dead_ends(TreeMethod::depth), 0.10, 0.02);
  EXPECT_NEAR(dead_ends(TreeMethod::uniform), 0.2945, 0.012);
  EXPECT_NEAR(dead_ends(TreeMethod::edges), 0.305, 0.012);
}

TEST(MakeMap, DeadEndsCanBeWalledUp) {
  MapRecipe recipe{.width = 81, .height = 81, .loops = 0.15, .dead_ends = 0};
  const CellMap map = make_map(recipe);
  int dead = 0;
  for (int y = 1; y < 80; ++y) {
    for (int x = 1; x < 80; ++x) {
      dead += map.at(x, y) == empty_cell && exits(map, x, y) == 1 && CellPlace{x, y} != *map.start;
    }
  }
  EXPECT_EQ(dead, 0);
  EXPECT_GT(open_cells(map), 500);
}

TEST(MakeMap, ACaveIsAsOpenAsAsked) {
  for (const double open : {0.05, 0.45, 0.9}) {
    const CellMap map = make_map({.kind = MapKind::cave, .width = 90, .height = 70, .open = open});
    EXPECT_NEAR(static_cast<double>(open_cells(map)) / (88 * 68), open, 0.001);
  }
}

TEST(MakeMap, TheSameRecipeMakesTheSameMap) {
  for (const MapKind kind : {MapKind::maze, MapKind::cave, MapKind::rooms}) {
    const MapRecipe recipe{.kind = kind, .seed = 77};
    MapRecipe other = recipe;
    other.seed = 78;
    EXPECT_EQ(make_map(recipe).cells, make_map(recipe).cells);
    EXPECT_NE(make_map(recipe).cells, make_map(other).cells);
  }
}

TEST(MakeMap, RefusesRecipesOutOfRange) {
  const auto refusal = [](const MapRecipe& recipe) -> std::string {
    try {
      make_map(recipe);
      return "accepted";
    } catch (const Error& error) {
      return error.what();
    }
  };
  EXPECT_THAT(refusal({.width = 2}), HasSubstr("width: found '2', expected integer, 3 to 8192"));
  EXPECT_THAT(refusal({.height = 9000}), HasSubstr("height"));
  EXPECT_THAT(refusal({.loops = 1.5}), HasSubstr("loops"));
  EXPECT_THAT(refusal({.open = -0.1}), HasSubstr("open"));
}

TEST(FarthestCell, IsTheEndOfTheLongestShortestWay) {
  MapRecipe recipe{.width = 31, .height = 21, .seed = 3, .loops = 0.1};
  const CellMap map = make_map(recipe);
  // Distances by relaxing all cells until nothing changes.
  std::vector<int> distance(map.cells.size(), 1 << 20);
  const auto at = [&](int x, int y) -> int& {
    return distance[static_cast<std::size_t>(y) * 31 + x];
  };
  at(map.start->x, map.start->y) = 0;
  for (bool changed = true; changed;) {
    changed = false;
    for (int y = 1; y < 20; ++y) {
      for (int x = 1; x < 30; ++x) {
        if (map.at(x, y) != empty_cell) continue;
        const int near = 1 + std::min({at(x + 1, y), at(x - 1, y), at(x, y + 1), at(x, y - 1)});
        if (near < at(x, y)) {
          at(x, y) = near;
          changed = true;
        }
      }
    }
  }
  int longest = 0;
  for (std::size_t i = 0; i < distance.size(); ++i) {
    if (map.cells[i] == empty_cell) longest = std::max(longest, distance[i]);
  }
  EXPECT_EQ(at(map.goal->x, map.goal->y), longest);
}

}  // namespace
}  // namespace photonlane
