#pragma once

#include <string>
#include <vector>

namespace photonlane::io {

struct TableStyle {
  std::vector<std::size_t> left;  ///< columns that begin in line; others end in line
};

/// Rows of a table as text, columns aligned.
std::string aligned(const std::vector<std::vector<std::string>>& rows,
                    const TableStyle& style = {});

}  // namespace photonlane::io
