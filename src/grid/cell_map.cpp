#include "photonlane/grid/cell_map.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

namespace photonlane {
Letter first_letter(std::string_view text) {
  const auto lead = static_cast<unsigned char>(text[0]);
  const std::size_t bytes = lead < 0x80 ? 1 : lead < 0xe0 ? 2 : lead < 0xf0 ? 3 : 4;
  if (bytes == 1 || lead < 0xc0 || bytes > text.size()) return {lead, 1};
  char32_t code = lead & (0x7f >> bytes);
  for (std::size_t i = 1; i < bytes; ++i) {
    const auto next = static_cast<unsigned char>(text[i]);
    if ((next & 0xc0) != 0x80) return {lead, 1};
    code = (code << 6) | (next & 0x3f);
  }
  return {code, bytes};
}

std::span<const Knob<CellForm>> cell_form_knobs() {
  static const Knob<CellForm> table[] = {
      knob<&CellForm::shape>("shape", "", {},
                             "what stands there: a block, a pane through the middle, or a door"),
      knob<&CellForm::height>("height", "meters", {0, 10000}, "height; 0 reaches the ceiling"),
      knob<&CellForm::along>(
          "along", "", {},
          "direction panes and doors run in: west to east (x) or south to north (y)"),
      knob<&CellForm::thickness>("thickness", "meters", {0.001, 1000},
                                 "thickness of panes and doors"),
      knob<&CellForm::opening>("opening", "", {0, 1}, "how far a door is open: 0 closed, 1 open"),
      knob<&CellForm::reversed>("reversed", "", {},
                                "the door opens toward west or south, or swings on its other end"),
      knob<&CellForm::passable>("passable", "", {}, "bodies walk through it: mist, curtains"),
  };
  return table;
}

void CellMap::set_form(int x, int y, const std::optional<CellForm>& form) {
  if (x < 0 || y < 0 || x >= width || y >= height) {
    throw Error(ErrorKind::usage,
                fmt::format("no cell at column {}, row {} of a map of {}x{}", x, y, width, height));
  }
  const std::size_t id = static_cast<std::size_t>(y) * width + x;
  if (cells.size() != static_cast<std::size_t>(width) * height ||
      (!form_of.empty() && form_of.size() != cells.size())) {
    throw Error(ErrorKind::usage, fmt::format("a map of {}x{} with {} cells and {} forms", width,
                                              height, cells.size(), form_of.size()));
  }
  if (!form) {
    if (!form_of.empty()) form_of[id] = 0;
    return;
  }
  validate_knobs(cell_form_knobs(), *form);
  if (form_of.empty()) form_of.assign(cells.size(), 0);
  // Doors keep the entry they have; of the others equal forms share one.
  if (form->is_door() && form_of[id] != 0 && forms[form_of[id] - 1u].is_door()) {
    forms[form_of[id] - 1u] = *form;
    return;
  }
  const auto same = form->is_door() ? forms.end() : std::find(forms.begin(), forms.end(), *form);
  const auto index = static_cast<std::size_t>(same - forms.begin());
  if (index == forms.size()) {
    if (forms.size() == 65535) throw Error(ErrorKind::input, "more than 65535 forms of cells");
    forms.push_back(*form);
  }
  form_of[id] = static_cast<std::uint16_t>(index + 1);
}

CellEdit open_door(const CellMap& map, int x, int y, double opening) {
  const bool inside = x >= 0 && y >= 0 && x < map.width && y < map.height;
  const CellForm* form = inside ? map.form(x, y) : nullptr;
  if (form == nullptr || !form->is_door()) {
    throw Error(ErrorKind::input, fmt::format("no door at column {}, row {}", x, y));
  }
  CellEdit edit{x, y, map.at(x, y), *form};
  edit.form->opening = opening;
  validate_knobs(cell_form_knobs(), *edit.form);
  return edit;
}

std::span<const Knob<CellMap>> cell_map_knobs() {
  static const Knob<CellMap> table[] = {
      knob<&CellMap::cell_size>("cell_size", "meters", {0.001, 1000}, "side of a cell"),
      knob<&CellMap::wall_height>("wall_height", "meters", {0, 10000, true},
                                  "height of the walls and of the ceiling"),
      knob<&CellMap::face_shade>("face_shade", "", {0, 1},
                                 "brightness of the faces toward north and south"),
      knob<&CellMap::repeat>("repeat", "", {}, "the map goes on without end in every direction"),
  };
  return table;
}

CellMap draw_cells(std::string_view drawing, std::span<const LegendLetter> legend) {
  std::map<char32_t, LegendLetter> cells_of{{U'.', {}}, {U' ', {}}};
  for (const LegendLetter& entry : legend) cells_of[entry.letter] = entry;

  CellMap map;
  std::vector<std::vector<Cell>> rows;
  struct Formed {
    int x, row;
    const CellForm* form;
  };
  std::vector<Formed> formed;
  int line = 0;
  while (!drawing.empty()) {
    ++line;
    const auto end = drawing.find('\n');
    std::string_view row_text = drawing.substr(0, end);
    drawing = end == std::string_view::npos ? std::string_view() : drawing.substr(end + 1);
    if (row_text.ends_with('\r')) row_text.remove_suffix(1);
    if (row_text.empty() && (rows.empty() || drawing.find_first_not_of("\r\n") == drawing.npos)) {
      continue;
    }
    std::vector<Cell> row;
    while (!row_text.empty()) {
      const Letter letter = first_letter(row_text);
      const auto found = cells_of.find(letter.code);
      const Place place{"", line, static_cast<int>(row.size()) + 1};
      if (found == cells_of.end()) {
        throw Error(ErrorKind::input,
                    fmt::format("found '{}' in the map, expected a letter of the legend",
                                row_text.substr(0, letter.bytes)),
                    place);
      }
      if (row.size() == CellMap::largest_side) {
        throw Error(ErrorKind::input,
                    fmt::format("row is longer than {} cells", CellMap::largest_side), place);
      }
      if (found->second.mark != LegendLetter::Mark::none) {
        const bool start = found->second.mark == LegendLetter::Mark::start;
        std::optional<CellPlace>& mark = start ? map.start : map.goal;
        if (mark) {
          throw Error(ErrorKind::input, fmt::format("a second {}", start ? "start" : "goal"),
                      place);
        }
        // Rows are counted from the north here; turned round below.
        mark = CellPlace{static_cast<int>(row.size()), static_cast<int>(rows.size())};
      }
      if (found->second.form) {
        formed.push_back(
            {static_cast<int>(row.size()), static_cast<int>(rows.size()), &*found->second.form});
      }
      row.push_back(found->second.cell);
      row_text.remove_prefix(letter.bytes);
    }
    if (!rows.empty() && row.size() != rows.front().size()) {
      throw Error(ErrorKind::input,
                  fmt::format("row of {} cells, expected {} like the rows above", row.size(),
                              rows.front().size()),
                  Place{"", line, static_cast<int>(std::min(row.size(), rows.front().size())) + 1});
    }
    rows.push_back(std::move(row));
  }

  map.height = static_cast<int>(rows.size());
  map.width = rows.empty() ? 0 : static_cast<int>(rows.front().size());
  map.cells.reserve(static_cast<std::size_t>(map.width) * map.height);
  for (auto row = rows.rbegin(); row != rows.rend(); ++row) {
    map.cells.insert(map.cells.end(), row->begin(), row->end());
  }
  for (std::optional<CellPlace>* mark : {&map.start, &map.goal}) {
    if (*mark) (*mark)->y = map.height - 1 - (*mark)->y;
  }
  for (const Formed& one : formed) map.set_form(one.x, map.height - 1 - one.row, *one.form);
  validate(map);
  return map;
}

void check(const CellForm& form, const CellMap& map) {
  validate_knobs(cell_form_knobs(), form);
  if (form.shape != CellShape::block && form.thickness > 0.5 * map.cell_size) {
    throw Error(ErrorKind::input,
                fmt::format("a panel {} meters thick, expected at most half of a cell of {} meters",
                            form.thickness, map.cell_size));
  }
  if (form.height > map.wall_height) {
    throw Error(ErrorKind::input, fmt::format("a cell {} meters high under a ceiling at {}",
                                              form.height, map.wall_height));
  }
}

void validate(const CellMap& map) {
  if (map.width <= 0 || map.height <= 0) {
    throw Error(ErrorKind::input, "the map is empty, expected at least one cell");
  }
  if (map.width > CellMap::largest_side || map.height > CellMap::largest_side) {
    throw Error(ErrorKind::input, fmt::format("map of {}x{} cells, expected at most {} a side",
                                              map.width, map.height, CellMap::largest_side));
  }
  if (map.cells.size() != static_cast<std::size_t>(map.width) * map.height) {
    throw Error(ErrorKind::input, fmt::format("map of {}x{} cells holds {} of them", map.width,
                                              map.height, map.cells.size()));
  }
  validate_knobs(cell_map_knobs(), map);
  if (!map.form_of.empty() && map.form_of.size() != map.cells.size()) {
    throw Error(ErrorKind::input, fmt::format("map of {} cells says the forms of {}",
                                              map.cells.size(), map.form_of.size()));
  }
  for (const std::uint16_t form : map.form_of) {
    if (form > map.forms.size()) {
      throw Error(ErrorKind::input,
                  fmt::format("a cell of form {}, of which there are {}", form, map.forms.size()));
    }
  }
  for (const CellForm& form : map.forms) check(form, map);
}

}  // namespace photonlane
