#include "io/text_table.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace photonlane::io {

std::string aligned(const std::vector<std::vector<std::string>>& rows, const TableStyle& style) {
  std::vector<std::size_t> widths;
  for (const auto& row : rows) {
    widths.resize(std::max(widths.size(), row.size()));
    for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], row[i].size());
  }
  std::string text;
  for (const auto& row : rows) {
    std::string line;
    for (std::size_t i = 0; i < row.size(); ++i) {
      const bool left = std::find(style.left.begin(), style.left.end(), i) != style.left.end();
      const std::string gap = i == 0 ? "" : "  ";
      line += left ? fmt::format("{}{:<{}}", gap, row[i], widths[i])
                   : fmt::format("{}{:>{}}", gap, row[i], widths[i]);
    }
    line.erase(line.find_last_not_of(' ') + 1);
    text += line + "\n";
  }
  return text;
}

}  // namespace photonlane::io
