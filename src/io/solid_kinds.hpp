#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "io/document.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// A kind of solid as scene files have it, beside cells and fields: a key of an entry of `solids`.
/// Its keys are those of the scene node of the same name.
struct SolidKind {
  std::string_view name;
  std::string_view help;
  /// Names of files are from the folder on, which has its last slash.
  std::shared_ptr<const SolidPart> (*read)(const Node& node, const Scene& scene,
                                           const std::string& folder);
  /// The node's lines, indented by so many spaces.
  std::string (*write)(const SolidPart& part, const Scene& scene, int indent);
};

/// All of them: a new kind is a line here.
std::span<const SolidKind> solid_kinds();

/// The words an entry of `solids` may be: cells, field and the kinds.
std::vector<std::string_view> solid_words();

/// The entry of a part in a file. Throws Error (usage) for kinds that files do not have.
std::string solid_text(const SolidPart& part, const Scene& scene, int indent);

}  // namespace photonlane::io
