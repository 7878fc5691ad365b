#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/digest.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {

/// One node of a YAML document with the place it stands at. Aliases share what they stand for, so
/// that a document of aliases to aliases stays as small as its file, and keep their own place.
class Node {
 public:
  enum class Kind { null, scalar, list, map };

  Node() = default;

  Kind kind() const { return content_ ? content_->kind : Kind::null; }
  const Place& place() const { return place_; }
  bool is_null() const { return kind() == Kind::null; }

  /// The text of a scalar; throws Error (input) at the node's place for anything else.
  const std::string& text() const;
  /// A scalar's text, or a list of scalars as "[a, b, c]": what knobs are set from.
  std::string value_text() const;
  const std::vector<Node>& list(std::string_view expected) const;
  const std::vector<std::pair<Node, Node>>& map(std::string_view expected) const;

  /// The value of a key of a map, or null.
  const Node* find(std::string_view key) const;

  /// The same for a node and its aliases, another for every other node.
  const void* identity() const { return content_.get(); }

  /// The same for nodes that say the same, wherever they stand; of two others the same once in
  /// 2^128.
  Digest digest() const;

  [[noreturn]] void refuse(const std::string& message) const;

  /// Puts what `find` gives for a name in the place of every scalar $name that stands without
  /// quotes. It is asked with the node, to refuse names it does not know.
  void fill_in(const std::function<std::string(const Node& node, std::string_view name)>& find);

 private:
  friend class DocumentBuilder;
  struct Content {
    Kind kind = Kind::null;
    std::string text;
    std::vector<Node> items;
    std::vector<std::pair<Node, Node>> entries;
    bool quoted = false;
    bool filled = false;
    std::optional<Digest> digest;  ///< once it was asked for
  };
  std::string found() const;

  Place place_;
  std::shared_ptr<Content> content_;
};

/// Reads one YAML document. Throws Error (input) with the place for text that is not YAML, keys
/// that stand twice in a map, more than 64 levels, aliases to nothing, and a second document.
Node parse_document(const std::string& text, const std::string& file);

}  // namespace photonlane::io
