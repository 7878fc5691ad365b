#include "io/map_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "io/files.hpp"
#include "io/read_node.hpp"
#include "photonlane/io/picture.hpp"

namespace photonlane::io {
namespace {

std::vector<LegendLetter> letters_of(const MapLegend& legend) {
  std::vector<LegendLetter> letters;
  for (const LegendEntry& entry : legend.entries) {
    if (!entry.is_color) letters.push_back({entry.letter, entry.cell, entry.mark, entry.form});
  }
  return letters;
}

std::uint32_t packed(const std::string& hex) {
  return static_cast<std::uint32_t>(std::stoul(hex.substr(1), nullptr, 16));
}

CellMap map_from_picture(const std::string& path, const MapLegend& legend) {
  constexpr std::size_t side = CellMap::largest_side;
  const Picture picture = read_png(path, side * side);
  if (picture.size.width > CellMap::largest_side || picture.size.height > CellMap::largest_side) {
    throw Error(ErrorKind::input,
                fmt::format("picture of {}x{} pixels, expected at most {} cells a side",
                            picture.size.width, picture.size.height, side),
                Place{path});
  }
  std::map<std::uint32_t, const LegendEntry*> entry_of;
  for (const LegendEntry& entry : legend.entries) {
    if (entry.is_color) entry_of[entry.color] = &entry;
  }
  CellMap map;
  map.width = picture.size.width;
  map.height = picture.size.height;
  map.cells.resize(static_cast<std::size_t>(map.width) * map.height);
  std::uint32_t last_color = 0xffffffffu;
  const LegendEntry* last = nullptr;
  for (int y = 0; y < map.height; ++y) {
    for (int x = 0; x < map.width; ++x) {
      const std::uint8_t* pixel = picture.pixel(x, y);
      const std::uint32_t color = static_cast<std::uint32_t>(pixel[0]) << 16 |
                                  static_cast<std::uint32_t>(pixel[1]) << 8 | pixel[2];
      if (color != last_color) {
        const auto found = entry_of.find(color);
        if (found == entry_of.end()) {
          throw Error(ErrorKind::input,
                      fmt::format("found color #{:06x} in the pixel at column {}, row {} from the "
                                  "top, expected a color of the legend",
                                  color, x, y),
                      Place{path});
        }
        last_color = color;
        last = found->second;
      }
      const int row = map.height - 1 - y;
      map.at(x, row) = last->cell;
      if (last->form) map.set_form(x, row, last->form);
      if (last->mark == LegendLetter::Mark::none) continue;
      std::optional<CellPlace>& mark =
          last->mark == LegendLetter::Mark::start ? map.start : map.goal;
      if (mark) {
        throw Error(ErrorKind::input,
                    fmt::format("a second pixel of color #{:06x}, which marks one cell, at column "
                                "{}, row {} from the top",
                                color, x, y),
                    Place{path});
      }
      mark = CellPlace{x, row};
    }
  }
  return map;
}

}  // namespace

bool LegendEntry::used(const CellMap& map) const {
  if (mark == LegendLetter::Mark::start) return map.start.has_value();
  if (mark == LegendLetter::Mark::goal) return map.goal.has_value();
  if (cell == empty_cell && form) {
    return std::find(map.forms.begin(), map.forms.end(), *form) != map.forms.end();
  }
  return std::find(map.cells.begin(), map.cells.end(), cell) != map.cells.end();
}

namespace {

/// The index of a material by its name.
int material_index(const Node& node, const Scene& scene, bool marks) {
  const std::vector<std::string>& names = scene.material_names;
  const auto found = std::find(names.begin(), names.end(), node.text());
  if (found != names.end()) return static_cast<int>(found - names.begin());
  std::vector<std::string_view> words(names.begin(), names.end());
  if (marks) words.insert(words.end(), {"empty", "start", "goal"});
  node.refuse(fmt::format("no such material '{}'{}", node.text().substr(0, 60),
                          suggestion(node.text(), words)));
}

void read_marked(const Node& node, const Scene& scene, LegendEntry& entry) {
  const std::string& name = node.text();
  if (name == "start" || name == "goal") {
    entry.mark = name == "start" ? LegendLetter::Mark::start : LegendLetter::Mark::goal;
  } else if (name != "empty") {
    entry.cell = wall_of(static_cast<std::uint32_t>(material_index(node, scene, true)));
  }
}

/// A material like another, its base multiplied by a color.
Cell tinted(const Node& node, Cell cell, Scene& scene) {
  Material material = scene.materials[material_of(cell)];
  Material color;
  const Knob<Material>& base = *find_knob(material_knobs(), "base");
  at_place(node, [&] { base.assign(color, base.info, node.value_text()); });
  material.base *= color.base;
  return scene.wall(material, fmt::format("{} tinted {}", scene.material_names[material_of(cell)],
                                          node.value_text()));
}

/// A cell that is more than a wall of a material.
void read_form(const Node& node, Scene& scene, LegendEntry& entry) {
  CellForm form;
  const Node* tint = nullptr;
  read_node(node, "cell", cell_form_knobs(), form, [&](const std::string& key, const Node& value) {
    if (key == "material") read_marked(value, scene, entry);
    if (key == "top") form.top = material_index(value, scene, false);
    if (key == "floor") form.floor = material_index(value, scene, false);
    if (key == "tint") tint = &value;
  });
  if (entry.cell == empty_cell) {
    for (const auto& pair : node.map("a cell")) {
      const std::string& key = pair.first.text();
      if (key != "material" && key != "floor") {
        pair.first.refuse(fmt::format("{} of an empty cell, expected a material", key));
      }
    }
  }
  if (tint != nullptr) entry.cell = tinted(*tint, entry.cell, scene);
  if (form != CellForm{}) entry.form = form;
}

}  // namespace

MapLegend read_legend(const Node& node, Scene& scene) {
  MapLegend legend;
  for (const auto& [key, value] : node.map("a map of letters or colors to materials")) {
    LegendEntry entry;
    entry.place = key.place();
    entry.text = key.text();
    if (entry.text.size() == 7 && entry.text[0] == '#') {
      try {
        color_from_hex(entry.text);
      } catch (const Error& error) {
        throw error.at(key.place());
      }
      entry.is_color = true;
      entry.color = packed(entry.text);
    } else {
      const Letter letter = entry.text.empty() ? Letter{0, 1} : first_letter(entry.text);
      if (entry.text.empty() || letter.bytes != entry.text.size() || letter.code == '\n') {
        key.refuse(fmt::format("found '{}', expected one letter, or a color as \"#rrggbb\"",
                               entry.text.substr(0, 40)));
      }
      entry.letter = letter.code;
    }
    if (value.kind() == Node::Kind::map) {
      read_form(value, scene, entry);
    } else {
      read_marked(value, scene, entry);
    }
    legend.entries.push_back(std::move(entry));
  }
  return legend;
}

CellMap map_from_drawing(const Node& node, const std::string& scene_text, const MapLegend& legend) {
  const std::string& drawing = node.text();
  try {
    return draw_cells(drawing, letters_of(legend));
  } catch (const Error& error) {
    const int row = error.place().line;
    if (row == 0) throw error.at(node.place());
    // Find the row in the file: the text of a block starts in the line below its sign, or above
    // that where it begins with empty lines.
    std::string_view rest = scene_text;
    for (int line = 1; line < node.place().line + row; ++line) {
      const auto end = rest.find('\n');
      if (end == rest.npos) throw error.at(node.place());
      rest.remove_prefix(end + 1);
    }
    const auto indent = rest.substr(0, rest.find('\n')).find_first_not_of(" \t");
    std::string_view drawn = drawing;
    for (int line = 1; line < row; ++line) drawn.remove_prefix(drawn.find('\n') + 1);
    drawn = drawn.substr(0, drawn.find('\n'));
    const std::string_view in_file = rest.substr(0, rest.find('\n'));
    const auto start = in_file.find(drawn);
    if (indent == in_file.npos || start == in_file.npos) throw error.at(node.place());
    throw error.at(Place{node.place().file, node.place().line + row,
                         static_cast<int>(start) + error.place().column});
  }
}

CellMap map_from_file(const Node& node, const std::string& folder, const MapLegend& legend) {
  const std::string& name = node.text();
  const std::string path = path_from(folder, name);
  try {
    if (ends_with(path, ".png")) return map_from_picture(path, legend);
    const std::string drawing = read_file(path);
    try {
      return draw_cells(drawing, letters_of(legend));
    } catch (const Error& error) {
      throw error.at(Place{path, error.place().line, error.place().column});
    }
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::file) throw;
    node.refuse(fmt::format("map_file {} {}", path, error.message()));
  }
}

}  // namespace photonlane::io
