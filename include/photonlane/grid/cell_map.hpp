#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// What stands in a cell: nothing, or a wall of a material of the scene.
using Cell = std::uint16_t;
inline constexpr Cell empty_cell = 0;
/// The wall made of the material with that index.
constexpr Cell wall_of(std::uint32_t material) { return static_cast<Cell>(material + 1); }
/// The index of a wall's material.
constexpr std::uint32_t material_of(Cell cell) { return cell - 1u; }

/// A cell by its column and row, counted from the south-west.
struct CellPlace {
  int x = 0;
  int y = 0;
  bool operator==(const CellPlace&) const = default;
};

/// A rectangle of cells seen from above. Column x covers [x, x + 1) * cell_size along the x axis,
/// row y the same along y; row 0 is the southernmost, so that a plan drawn with north on top has
/// row 0 as its last line. Outside the rectangle there is nothing, or the same map again.
struct CellMap {
  static constexpr int largest_side = 8192;

  int width = 0;
  int height = 0;
  std::vector<Cell> cells;         ///< width * height, row after row from the south
  double cell_size = 1;            ///< meters
  double wall_height = 3;          ///< meters; floor at z = 0, ceiling at this height
  double face_shade = 0.78;        ///< brightness of the faces toward north and south
  std::optional<CellPlace> start;  ///< where a walk begins; an empty cell
  std::optional<CellPlace> goal;   ///< where it should lead; an empty cell
  bool repeat = false;             ///< the map goes on without end in every direction

  Cell at(int x, int y) const { return cells[static_cast<std::size_t>(y) * width + x]; }
  Cell& at(int x, int y) { return cells[static_cast<std::size_t>(y) * width + x]; }
};

/// A change of one cell.
struct CellEdit {
  int x = 0;
  int y = 0;
  Cell cell = empty_cell;
};

/// The knobs of a CellMap.
std::span<const Knob<CellMap>> cell_map_knobs();

/// A character of a UTF-8 text and how many bytes it takes.
struct Letter {
  char32_t code = 0;
  std::size_t bytes = 1;
};

/// The character that starts a text, which must not be empty; a broken sequence stands for its
/// first byte.
Letter first_letter(std::string_view text);

/// What a character of a drawn map stands for. '.' and ' ' are empty unless listed.
struct LegendLetter {
  /// Empty cells may be marked.
  enum class Mark { none, start, goal };

  char32_t letter = 0;
  Cell cell = empty_cell;
  Mark mark = Mark::none;
};

/// A map from a drawing: a line a row, the first line in the north, a character a cell (UTF-8).
/// Throws Error (input), its place a line and column of the drawing, for rows of different
/// lengths, letters that are not in the legend, a second start or goal, and drawings without a
/// cell.
CellMap draw_cells(std::string_view drawing, std::span<const LegendLetter> legend);

/// Throws Error (input) when the map cannot be traced: no cells, sides that do not match the
/// number of cells or are over the largest side, values out of range.
void validate(const CellMap& map);

}  // namespace photonlane
