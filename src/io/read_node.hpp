#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <string>
#include <vector>

#include "io/document.hpp"
#include "io/scene_nodes.hpp"

namespace photonlane::io {

/// Refuses a key that is none of the names.
[[noreturn]] inline void refuse_key(const Node& key, const std::vector<std::string_view>& names) {
  key.refuse(fmt::format("no such key '{}'{}", key.text().substr(0, 60),
                         names.empty() ? "" : suggestion(key.text(), names)));
}

/// Runs something and gives its errors the place of a node.
template <class Work>
auto at_place(const Node& node, const Work& work) {
  try {
    return work();
  } catch (const Error& error) {
    if (!error.place().file.empty()) throw;
    throw error.at(node.place());
  }
}

/// Sets knobs from a map of plain values; `structure` gets the keys that are not knobs.
template <class Owner, class Structure>
void read_node(const Node& node, std::string_view kind, std::span<const Knob<Owner>> table,
               Owner& owner, const Structure& structure) {
  const SceneNode& known = scene_node(kind);
  for (const auto& pair : node.map(fmt::format("a {}", kind))) {
    const Node& key = pair.first;
    const Node& value = pair.second;
    if (const Knob<Owner>* entry = find_knob(table, key.text())) {
      at_place(value, [&] { entry->assign(owner, entry->info, value.value_text()); });
    } else if (std::any_of(known.keys.begin(), known.keys.end(),
                           [&](const StructureKey& one) { return one.name == key.text(); })) {
      structure(key.text(), value);
    } else {
      refuse_key(key, known.names());
    }
  }
}

/// A number by itself, within a range.
inline double read_number(const Node& node, double low, double high) {
  const KnobInfo info{"number", KnobKind::number, "", {low, high}, {}, ""};
  double value = 0;
  at_place(node, [&] { detail::assign(value, info, node.text()); });
  return value;
}

/// true or false, as the value of a key.
inline bool read_flag(const Node& node, std::string_view key) {
  const KnobInfo info{key, KnobKind::flag, "", {}, {}, ""};
  bool value = false;
  at_place(node, [&] { detail::assign(value, info, node.text()); });
  return value;
}

template <class Owner>
void read_plain(const Node& node, std::string_view kind, std::span<const Knob<Owner>> table,
                Owner& owner) {
  read_node(node, kind, table, owner, [](const std::string&, const Node&) {});
}

}  // namespace photonlane::io
