#pragma once

#include <span>
#include <string_view>
#include <vector>

#include "photonlane/base/knob.hpp"

namespace photonlane::io {

/// How many nodes a key's value is.
enum class Holds { one, list, named };

/// A key of a scene file that is not a plain value.
struct StructureKey {
  std::string_view name;
  std::string_view expected;
  std::string_view help;
  std::string_view node;  ///< the node its value is, `color`, `number`, or nothing
  Holds holds = Holds::one;
};

/// One kind of node of a scene file: its plain values, straight from their table of knobs, and its
/// other keys. Reading, messages, the reference and the schema all go by this.
struct SceneNode {
  std::string_view name;
  std::string_view help;
  std::vector<KnobInfo> knobs;
  std::vector<StructureKey> keys;

  std::vector<std::string_view> names() const;
};

/// The keys of a table of knobs.
template <class Owner>
std::vector<KnobInfo> infos(std::span<const Knob<Owner>> table) {
  std::vector<KnobInfo> result;
  for (const Knob<Owner>& entry : table) result.push_back(entry.info);
  return result;
}

const std::vector<SceneNode>& scene_nodes();
const SceneNode& scene_node(std::string_view name);

}  // namespace photonlane::io
