#pragma once

///   const LegendLetter legend[] = {{U'#', wall_of(0)}};
///   CellMap map = draw_cells("#####\n#...#\n#####", legend);
///   map.cell_size = 2;

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

/// What stands in a cell.
enum class CellShape {
  block,     ///< fills the cell
  pane,      ///< an upright panel through the middle of the cell
  sliding,   ///< the same as a door that slides aside
  swinging,  ///< a door along the cell's south or west edge that turns into the cell
};
template <>
inline constexpr std::array<std::string_view, 4> choice_names<CellShape>{"block", "pane", "sliding",
                                                                         "swinging"};

/// Which way a panel runs, seen from above.
enum class PanelAxis {
  x,  ///< from west to east
  y,  ///< from south to north
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<PanelAxis>{"x", "y"};

/// How a cell differs from a wall from floor to ceiling, or from a bare floor.
struct CellForm {
  CellShape shape = CellShape::block;
  double height = 0;  ///< meters; 0: up to the ceiling
  PanelAxis along = PanelAxis::x;
  double thickness = 0.08;  ///< meters, of panels
  double opening = 0;       ///< of doors: 0 closed, 1 open
  bool reversed = false;    ///< opens toward west or south; swings on its other end
  bool passable = false;    ///< bodies go through it: mist, curtains
  int top = -1;             ///< material of the top; -1: that of the sides
  int floor = -1;           ///< material of the floor, where it is seen; -1: the room's

  bool operator==(const CellForm&) const = default;
  bool is_door() const { return shape == CellShape::sliding || shape == CellShape::swinging; }
};
/// The knobs of a CellForm.
std::span<const Knob<CellForm>> cell_form_knobs();

/// True where what stands in a cell of that form covers a place in it: x and y from 0 to 1 from the
/// cell's south-west corner.
bool stands_at(const CellForm& form, double cell_size, double x, double y);

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
  /// Cells that are not plain: form_of holds 0 for plain ones, else 1 + the index of the form.
  /// Empty where all are plain.
  std::vector<std::uint16_t> form_of;
  std::vector<CellForm> forms;

  bool operator==(const CellMap&) const = default;

  Cell at(int x, int y) const { return cells[static_cast<std::size_t>(y) * width + x]; }
  Cell& at(int x, int y) { return cells[static_cast<std::size_t>(y) * width + x]; }

  /// The form of a cell, or null for a plain one.
  const CellForm* form(std::size_t id) const {
    const std::uint16_t form = form_of.empty() ? 0 : form_of[id];
    return form == 0 ? nullptr : &forms[form - 1u];
  }
  const CellForm* form(int x, int y) const { return form(static_cast<std::size_t>(y) * width + x); }
  /// Gives a cell a form of its own, or makes it plain. Throws Error (input) past 65535 forms.
  void set_form(int x, int y, const std::optional<CellForm>& form);
};

/// A change of one cell.
struct CellEdit {
  int x = 0;
  int y = 0;
  Cell cell = empty_cell;
  std::optional<CellForm> form{};  ///< nothing: a plain cell
};

/// The edit that opens a door by a share, 0 closed to 1 open. Throws Error (input) where no door
/// is.
CellEdit open_door(const CellMap& map, int x, int y, double opening);

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
  std::optional<CellForm> form{};
};

/// A map from a drawing: a line a row, the first line in the north, a character a cell (UTF-8).
/// Throws Error (input), its place a line and column of the drawing, for rows of different
/// lengths, letters that are not in the legend, a second start or goal, and drawings without a
/// cell.
CellMap draw_cells(std::string_view drawing, std::span<const LegendLetter> legend);

/// Throws Error (input) for a form that is out of range or does not fit into the map's cells.
void check(const CellForm& form, const CellMap& map);

/// Throws Error (input) when the map cannot be traced: no cells, sides that do not match the
/// number of cells or are over the largest side, values out of range.
void validate(const CellMap& map);

}  // namespace photonlane
