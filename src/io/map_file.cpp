#include "io/map_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "io/files.hpp"
#include "photonlane/io/picture.hpp"

namespace photonlane::io {
namespace {

std::vector<LegendLetter> letters_of(const Legend& legend) {
  std::vector<LegendLetter> letters;
  for (const LegendEntry& entry : legend.entries) {
    if (!entry.is_color) letters.push_back({entry.letter, entry.cell, entry.mark});
  }
  return letters;
}

std::uint32_t packed(const std::string& hex) {
  return static_cast<std::uint32_t>(std::stoul(hex.substr(1), nullptr, 16));
}

CellMap map_from_picture(const std::string& path, const Legend& legend) {
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
  return std::find(map.cells.begin(), map.cells.end(), cell) != map.cells.end();
}

Legend read_legend(const Node& node, const std::vector<std::string>& material_names) {
  Legend legend;
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
    const std::string& name = value.text();
    if (name == "start" || name == "goal") {
      entry.mark = name == "start" ? LegendLetter::Mark::start : LegendLetter::Mark::goal;
    } else if (name != "empty") {
      const auto found = std::find(material_names.begin(), material_names.end(), name);
      if (found == material_names.end()) {
        std::vector<std::string_view> names(material_names.begin(), material_names.end());
        for (const char* word : {"empty", "start", "goal"}) names.emplace_back(word);
        value.refuse(
            fmt::format("no such material '{}'{}", name.substr(0, 60), suggestion(name, names)));
      }
      entry.cell = wall_of(static_cast<std::uint32_t>(found - material_names.begin()));
    }
    legend.entries.push_back(std::move(entry));
  }
  return legend;
}

CellMap map_from_drawing(const Node& node, const std::string& scene_text, const Legend& legend) {
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

CellMap map_from_file(const Node& node, const std::string& folder, const Legend& legend) {
  const std::string& name = node.text();
  const std::string path = name.starts_with('/') ? name : folder + name;
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
