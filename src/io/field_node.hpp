#pragma once

#include <map>
#include <string>

#include "io/document.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// What a field's nodes may name: the scene's materials, and files beside it.
struct FieldContext {
  const Scene& scene;
  std::string folder;  ///< with its last slash, or nothing
  /// The fields of nodes that were read: what aliases share is read once and shared.
  std::map<const void*, Field>& read;
};

/// Reads a field: a map with one key that is a kind of field, and its material where it has one of
/// its own. Throws Error (input) at the place of what is wrong.
Field read_field(const Node& node, const FieldContext& context);

/// A field as YAML that read_field reads back, `indent` spaces in, without the first line's.
std::string field_text(const Field& field, const Scene& scene, int indent);

/// The kinds of fields as a Markdown table.
std::string field_reference();

}  // namespace photonlane::io
