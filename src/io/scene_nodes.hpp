#pragma once

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

const std::vector<SceneNode>& scene_nodes();
const SceneNode& scene_node(std::string_view name);

}  // namespace photonlane::io
