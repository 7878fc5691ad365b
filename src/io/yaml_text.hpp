#pragma once

#include <fmt/format.h>

#include <span>
#include <string>
#include <string_view>

#include "photonlane/base/knob.hpp"

namespace photonlane::io {

/// Text as a double-quoted YAML scalar that reads back to the same bytes (YAML 1.2, 5.7). Throws
/// Error (usage) for text that is not UTF-8, which YAML cannot hold.
std::string yaml_quoted(std::string_view text);

/// The knobs of a table that are not as usual, a line each; dotted names open maps.
template <class Owner>
std::string changed_lines(std::span<const Knob<Owner>> table, const Owner& owner, int indent,
                          const Owner& usual = Owner{}) {
  std::string text;
  std::string_view group;
  for (const Knob<Owner>& entry : table) {
    std::string value = knob_text(entry, owner);
    if (value == knob_text(entry, usual)) continue;
    if (entry.info.kind == KnobKind::text) value = yaml_quoted(value);
    std::string_view name = entry.info.name;
    int deeper = 0;
    if (const auto dot = name.find('.'); dot != name.npos) {
      const std::string_view of = name.substr(0, dot);
      if (group != of) text += fmt::format("{:{}}{}:\n", "", indent, of);
      group = of;
      name = name.substr(dot + 1);
      deeper = 2;
    }
    text += fmt::format("{:{}}{}: {}\n", "", indent + deeper, name, value);
  }
  return text;
}

/// A key and the lines of its map, which may be none.
std::string keyed(std::string_view key, const std::string& lines, int indent);

/// Lines, each so many spaces farther in.
std::string indented(std::string_view lines, int indent);

/// An entry of a list whose lines are two spaces farther in, which may be none.
std::string list_item(std::string lines, int indent);

}  // namespace photonlane::io
