#include "io/document.hpp"

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

// The event interface is what gives every node its place and every alias its own.
#include <yaml-cpp/eventhandler.h>

#include <map>
#include <sstream>

#include "photonlane/base/words.hpp"

namespace photonlane::io {

const std::string& Node::text() const {
  if (kind() != Kind::scalar) refuse(fmt::format("found {}, expected a single value", found()));
  return content_->text;
}

std::string Node::value_text() const {
  if (kind() != Kind::list) return text();
  std::string joined = "[";
  for (const Node& item : content_->items) {
    if (joined.size() > 1) joined += ", ";
    joined += item.text();
  }
  return joined + "]";
}

const std::vector<Node>& Node::list(std::string_view expected) const {
  if (kind() != Kind::list) {
    refuse(fmt::format("found {}, expected a list of {}", found(), expected));
  }
  return content_->items;
}

const std::vector<std::pair<Node, Node>>& Node::map(std::string_view expected) const {
  if (kind() != Kind::map) refuse(fmt::format("found {}, expected {}", found(), expected));
  return content_->entries;
}

const Node* Node::find(std::string_view key) const {
  if (kind() != Kind::map) return nullptr;
  for (const auto& [name, value] : content_->entries) {
    if (name.text() == key) return &value;
  }
  return nullptr;
}

void Node::refuse(const std::string& message) const {
  throw Error(ErrorKind::input, message, place_);
}

std::string Node::found() const {
  switch (kind()) {
    case Kind::null:
      return "nothing";
    case Kind::scalar:
      return fmt::format("'{}'", std::string_view(content_->text).substr(0, 40));
    case Kind::list:
      return "a list";
    case Kind::map:
      return "a map of keys";
  }
  return {};
}

void Node::fill_in(
    const std::function<std::string(const Node& node, std::string_view name)>& find) {
  // What aliases share is done once: afterwards nothing in it starts with a $.
  if (content_ == nullptr) return;
  if (kind() == Kind::scalar && !content_->quoted && content_->text.size() > 1 &&
      content_->text.front() == '$') {
    content_->text = find(*this, std::string_view(content_->text).substr(1));
  }
  if (content_->filled) return;
  content_->filled = true;
  for (Node& item : content_->items) item.fill_in(find);
  for (auto& [key, value] : content_->entries) value.fill_in(find);
}

class DocumentBuilder final : public YAML::EventHandler {
 public:
  explicit DocumentBuilder(std::string file) : file_(std::move(file)) {}

  void OnDocumentStart(const YAML::Mark&) override {}
  void OnDocumentEnd() override {}
  void OnNull(const YAML::Mark& mark, YAML::anchor_t anchor) override {
    add(make(Node::Kind::null, mark), anchor);
  }
  void OnAlias(const YAML::Mark& mark, YAML::anchor_t anchor) override {
    const auto found = anchors_.find(anchor);
    Node node = make(Node::Kind::null, mark);
    if (found == anchors_.end()) node.refuse("alias inside what it stands for");
    node.content_ = found->second;
    add(node, 0);
  }
  void OnScalar(const YAML::Mark& mark, const std::string& tag, YAML::anchor_t anchor,
                const std::string& value) override {
    Node node = make(Node::Kind::scalar, mark);
    if (const auto bad = find_invalid_utf8(value)) {
      node.refuse(
          fmt::format("'{}' is not UTF-8 from its byte {} on", value.substr(0, 40), *bad + 1));
    }
    node.content_->text = value;
    // What the parser calls everything in quotes.
    node.content_->quoted = tag == "!";
    add(node, anchor);
  }
  void OnSequenceStart(const YAML::Mark& mark, const std::string&, YAML::anchor_t anchor,
                       YAML::EmitterStyle::value) override {
    open(make(Node::Kind::list, mark), anchor);
  }
  void OnSequenceEnd() override { close(); }
  void OnMapStart(const YAML::Mark& mark, const std::string&, YAML::anchor_t anchor,
                  YAML::EmitterStyle::value) override {
    open(make(Node::Kind::map, mark), anchor);
  }
  void OnMapEnd() override { close(); }

  Node root;

 private:
  struct Level {
    Node node;
    YAML::anchor_t anchor = 0;
    Node key;
    bool has_key = false;
    std::map<std::string, int> lines;  // of the keys so far
  };

  Node make(Node::Kind kind, const YAML::Mark& mark) {
    Node node;
    node.place_ = Place{file_, mark.line + 1, mark.column + 1};
    node.content_ = std::make_shared<Node::Content>();
    node.content_->kind = kind;
    return node;
  }

  void open(Node node, YAML::anchor_t anchor) {
    constexpr std::size_t deepest = 64;
    if (levels_.size() == deepest) {
      node.refuse(fmt::format("nested deeper than {} levels", deepest));
    }
    levels_.push_back({std::move(node), anchor, {}, false, {}});
  }

  void close() {
    Level level = std::move(levels_.back());
    levels_.pop_back();
    add(level.node, level.anchor);
  }

  void add(const Node& node, YAML::anchor_t anchor) {
    if (anchor != 0) anchors_[anchor] = node.content_;
    if (levels_.empty()) {
      root = node;
      return;
    }
    Level& level = levels_.back();
    Node::Content& content = *level.node.content_;
    if (content.kind == Node::Kind::list) {
      content.items.push_back(node);
    } else if (level.has_key) {
      content.entries.emplace_back(level.key, node);
      level.has_key = false;
    } else {
      if (node.kind() != Node::Kind::scalar) node.refuse("expected a key");
      const auto [where, fresh] = level.lines.emplace(node.text(), node.place().line);
      if (!fresh) {
        node.refuse(
            fmt::format("key '{}' stands twice, first in line {}", node.text(), where->second));
      }
      level.key = node;
      level.has_key = true;
    }
  }

  std::string file_;
  std::vector<Level> levels_;
  std::map<YAML::anchor_t, std::shared_ptr<Node::Content>> anchors_;
};

Digest Node::digest() const {
  if (content_ == nullptr) return {};
  if (content_->digest) return *content_->digest;
  Digest sum;
  sum.add(static_cast<std::uint64_t>(content_->kind), content_->quoted ? 1 : 0);
  sum.add(content_->items.size(), content_->entries.size());
  sum.add(content_->text);
  for (const Node& item : content_->items) sum.add(item.digest());
  for (const auto& [key, value] : content_->entries) {
    sum.add(key.digest());
    sum.add(value.digest());
  }
  content_->digest = sum;
  return sum;
}

Node parse_document(const std::string& text, const std::string& file) {
  std::istringstream stream(text);
  DocumentBuilder builder(file);
  try {
    YAML::Parser parser(stream);
    if (!parser.HandleNextDocument(builder)) {
      throw Error(ErrorKind::input, "the file is empty, expected a scene", Place{file, 1, 1});
    }
    DocumentBuilder second(file);
    if (parser.HandleNextDocument(second)) {
      second.root.refuse("a second document, expected one scene a file");
    }
  } catch (const YAML::Exception& problem) {
    throw Error(ErrorKind::input, problem.msg,
                Place{file, problem.mark.line + 1, problem.mark.column + 1});
  }
  return builder.root;
}

}  // namespace photonlane::io
