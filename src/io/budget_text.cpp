#include "io/budget_text.hpp"

#include <fmt/format.h>

#include "io/document.hpp"
#include "io/files.hpp"

namespace photonlane::io {
namespace {

/// Where a place of a document is in its text.
std::size_t offset_of(const std::string& text, const Place& place) {
  std::size_t at = 0;
  for (int line = 1; line < place.line; ++line) {
    at = text.find('\n', at);
    if (at == std::string::npos) return text.size();
    ++at;
  }
  return std::min(text.size(), at + static_cast<std::size_t>(std::max(0, place.column - 1)));
}

/// How long the scalar at a place of the text is, as it is written there.
std::size_t scalar_length(const std::string& text, std::size_t at, bool in_braces) {
  const char quote = text[at];
  if (quote == '"' || quote == '\'') {
    std::size_t end = at + 1;
    while (end < text.size() && text[end] != quote)
      end += quote == '"' && text[end] == '\\' ? 2 : 1;
    return std::min(text.size(), end + 1) - at;
  }
  std::size_t end = at;
  while (end < text.size() && text[end] != '\n' &&
         !(in_braces && (text[end] == ',' || text[end] == '}')) &&
         !(text[end] == '#' && end > at && text[end - 1] == ' ')) {
    ++end;
  }
  while (end > at && (text[end - 1] == ' ' || text[end - 1] == '\r')) --end;
  return end - at;
}

/// A map of a document that keys can be put into.
class Map {
 public:
  Map(std::string& text, const Node& node)
      : text_(text), node_(node), start_(offset_of(text, node.place())) {}

  bool braced() const { return start_ < text_.size() && text_[start_] == '{'; }

  void put(const std::string& entry) {
    const auto& entries = node_.map("a budget");
    if (braced()) {
      text_.insert(start_ + 1, entries.empty() ? entry : entry + ", ");
      return;
    }
    const Place& first = entries.front().first.place();
    const std::size_t at = offset_of(text_, first);
    text_.insert(at, entry + "\n" + std::string(static_cast<std::size_t>(first.column - 1), ' '));
  }

  void replace(const Node& value, const std::string& by) {
    const std::size_t at = offset_of(text_, value.place());
    text_.replace(at, scalar_length(text_, at, braced()), by);
  }

 private:
  std::string& text_;
  const Node& node_;
  std::size_t start_;
};

void put_knob(std::string& text, const std::string& path, const std::string& name,
              const std::string& value) {
  const Node document = parse_document(text, path);
  const auto dot = name.find('.');
  const std::string group = dot == std::string::npos ? "" : name.substr(0, dot);
  const std::string leaf = dot == std::string::npos ? name : name.substr(dot + 1);
  const std::string entry = group.empty() ? fmt::format("{}: {}", leaf, value)
                                          : fmt::format("{}: {{{}: {}}}", group, leaf, value);
  const Node* budget = document.find("budget");
  if (budget == nullptr || budget->is_null()) {
    if (!text.empty() && text.back() != '\n') text += '\n';
    if (budget == nullptr) {
      text += "budget:\n  " + entry + "\n";
      return;
    }
    throw Error(ErrorKind::usage, "an empty budget stands in the file");
  }
  if (group.empty()) {
    const Node* old = budget->find(leaf);
    Map map(text, *budget);
    old != nullptr ? map.replace(*old, value) : map.put(entry);
    return;
  }
  const Node* inner = budget->find(group);
  if (inner == nullptr) return Map(text, *budget).put(entry);
  const Node* old = inner->find(leaf);
  Map map(text, *inner);
  old != nullptr ? map.replace(*old, value) : map.put(fmt::format("{}: {}", leaf, value));
}

}  // namespace

std::string text_with_budget(const SceneFile& file, const Budget& budget) {
  std::string text = file.text;
  const Budget old = parse_scene(file.text, file.path).budget;
  Budget wanted = budget;
  wanted.frame.width = old.frame.width;
  wanted.frame.height = old.frame.height;
  for (const Knob<Budget>& entry : budget_knobs()) {
    const std::string value = knob_text(entry, wanted);
    if (value == knob_text(entry, old)) continue;
    put_knob(text, file.path, std::string(entry.info.name), value);
  }
  const Budget read = parse_scene(text, file.path).budget;
  for (const Knob<Budget>& entry : budget_knobs()) {
    if (knob_text(entry, read) == knob_text(entry, wanted)) continue;
    throw Error(ErrorKind::usage,
                fmt::format("{}: {} cannot be put into the file, expected a budget without aliases",
                            file.path, entry.info.name));
  }
  return text;
}

void write_budget(const SceneFile& file, const Budget& budget) {
  write_file(file.path, text_with_budget(file, budget));
}

}  // namespace photonlane::io
