#include "photonlane/grid/cell_map.hpp"

#include <gmock/gmock.h>

#include "photonlane/grid/cell_solid.hpp"
#include "photonlane/grid/reach.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

constexpr LegendLetter legend[] = {{U'#', wall_of(0)}, {U'b', wall_of(1)}, {U'ß', wall_of(2)}};

/// The error of a drawing, as "line:column message".
std::string refusal(std::string_view drawing) {
  try {
    draw_cells(drawing, legend);
  } catch (const Error& error) {
    return std::to_string(error.place().line) + ":" + std::to_string(error.place().column) + " " +
           error.message();
  }
  return "accepted";
}

TEST(DrawCells, FirstLineIsTheNorth) {
  const CellMap map = draw_cells("#.b\n.#.\n", legend);
  EXPECT_EQ(map.width, 3);
  EXPECT_EQ(map.height, 2);
  EXPECT_EQ(map.at(0, 1), wall_of(0));
  EXPECT_EQ(map.at(2, 1), wall_of(1));
  EXPECT_EQ(map.at(1, 0), wall_of(0));
  EXPECT_EQ(map.at(0, 0), empty_cell);
}

TEST(DrawCells, TakesLettersOfAnyAlphabetAndLineEnds) {
  const CellMap map = draw_cells("ß#\r\n.ß\r\n", legend);
  EXPECT_EQ(map.width, 2);
  EXPECT_EQ(map.height, 2);
  EXPECT_EQ(map.at(0, 1), wall_of(2));
  EXPECT_EQ(map.at(1, 0), wall_of(2));
  EXPECT_EQ(draw_cells("#", legend).cells.size(), 1u);
}

TEST(DrawCells, RefusesWhatIsNoMapWithThePlace) {
  EXPECT_EQ(refusal("###\n##\n###"), "2:3 row of 2 cells, expected 3 like the rows above");
  EXPECT_EQ(refusal("##\n##\n###"), "3:3 row of 3 cells, expected 2 like the rows above");
  EXPECT_EQ(refusal("###\n#?#\n###"), "2:2 found '?' in the map, expected a letter of the legend");
  EXPECT_EQ(refusal("ß#ö"), "1:3 found 'ö' in the map, expected a letter of the legend");
  EXPECT_EQ(refusal(""), "0:0 the map is empty, expected at least one cell");
  EXPECT_EQ(refusal("\n\n"), "0:0 the map is empty, expected at least one cell");
  EXPECT_THAT(refusal("##\n\n##"), HasSubstr("2:1 row of 0 cells"));
  EXPECT_THAT(refusal(std::string(8193, '#')), HasSubstr("1:8193 row is longer than 8192 cells"));
}

TEST(ValidateMap, RefusesWhatCannotBeTraced) {
  CellMap map = draw_cells("#.\n.#", legend);
  EXPECT_NO_THROW(validate(map));
  map.cells.pop_back();
  EXPECT_THROW(validate(map), Error);
  map = draw_cells("#.\n.#", legend);
  map.cell_size = 0;
  EXPECT_THROW(validate(map), Error);
  map.cell_size = 1;
  map.wall_height = std::numeric_limits<double>::quiet_NaN();
  EXPECT_THROW(validate(map), Error);
  CellMap wide;
  wide.width = 8193;
  wide.height = 1;
  wide.cells.resize(8193);
  EXPECT_THROW(validate(wide), Error);
}

/// Chebyshev distance to the nearest wall the slow way; outside a map that does not repeat counts
/// as wall.
int brute_distance(const CellMap& map, int x, int y) {
  const int most = map.repeat ? std::min({255, map.width, map.height}) : 255;
  for (int r = 0; r < most; ++r) {
    for (int dy = -r; dy <= r; ++dy) {
      for (int dx = -r; dx <= r; ++dx) {
        int cx = x + dx;
        int cy = y + dy;
        if (map.repeat) {
          cx = ((cx % map.width) + map.width) % map.width;
          cy = ((cy % map.height) + map.height) % map.height;
        } else if (cx < 0 || cy < 0 || cx >= map.width || cy >= map.height) {
          return r;
        }
        if (map.at(cx, cy) != empty_cell) return r;
      }
    }
  }
  return most;
}

TEST(DistanceMap, EqualsTheSlowWay) {
  for (std::uint64_t seed = 0; seed < 24; ++seed) {
    const int width = 1 + static_cast<int>(random_below({.seed = seed}, 0, 40));
    const int height = 1 + static_cast<int>(random_below({.seed = seed}, 1, 40));
    CellMap map = test::random_map(width, height, seed % 3 == 0 ? 0.004 : 0.05, seed, false);
    map.repeat = seed % 2 == 1;
    const CellSolid solid(map);
    for (int y = 0; y < height; ++y) {
      for (int x = 0; x < width; ++x) {
        ASSERT_EQ(solid.distance_at(x, y), brute_distance(map, x, y))
            << seed << ": " << x << ", " << y << " of " << width << "x" << height;
      }
    }
  }
}

TEST(DistanceMap, StopsAt255) {
  CellMap map;
  map.width = map.height = 600;
  map.cells.assign(600 * 600, empty_cell);
  EXPECT_EQ(CellSolid(map).distance_at(300, 300), 255);
  EXPECT_EQ(CellSolid(map).distance_at(10, 300), 11);
  map.repeat = true;
  EXPECT_EQ(CellSolid(map).distance_at(10, 300), 255);
}

TEST(Reach, FillsRoomsSideBySideOnly) {
  const CellMap map = test::drawn("#####\n#.#.#\n##.##\n#...#\n#####").room().cell_map();
  const auto reached = reachable_cells(map, 2, 1);
  EXPECT_EQ(std::count(reached.begin(), reached.end(), 1), 4);
  EXPECT_EQ(reached[3 * 5 + 1], 0) << "a corner is no door";
  const auto nothing = reachable_cells(map, 0, 0);
  EXPECT_EQ(std::count(nothing.begin(), nothing.end(), 1), 0);
  const auto outside = reachable_cells(map, -1, 2);
  EXPECT_EQ(std::count(outside.begin(), outside.end(), 1), 0);
  CellMap round = test::drawn(".#.").room().cell_map();
  EXPECT_EQ(reachable_cells(round, 0, 0)[2], 0);
  round.repeat = true;
  EXPECT_EQ(reachable_cells(round, 0, 0)[2], 1);
}

}  // namespace
}  // namespace photonlane
