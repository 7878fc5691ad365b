#include "io/scene_edit.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "io/document.hpp"
#include "io/files.hpp"
#include "io/yaml_text.hpp"

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

/// How long the scalar at a place of the text is, or the list in brackets, as it is written there.
std::size_t value_length(const std::string& text, std::size_t at, bool in_braces) {
  const char quote = text[at];
  if (quote == '[') {
    const std::size_t end = text.find(']', at);
    return end == text.npos ? 0 : end + 1 - at;
  }
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
    const auto& entries = node_.map("a map");
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
    text_.replace(at, value_length(text_, at, braced()), by);
  }

 private:
  std::string& text_;
  const Node& node_;
  std::size_t start_;
};

/// Puts a value into the map `top` of a file: "group.leaf", or "leaf" by itself.
void put_value(std::string& text, const std::string& path, const std::string& top,
               const std::string& name, const std::string& value) {
  const Node document = parse_document(text, path);
  const auto dot = name.find('.');
  const std::string group = dot == std::string::npos ? "" : name.substr(0, dot);
  const std::string leaf = dot == std::string::npos ? name : name.substr(dot + 1);
  const std::string entry = group.empty() ? fmt::format("{}: {}", leaf, value)
                                          : fmt::format("{}: {{{}: {}}}", group, leaf, value);
  const Node* whole = document.find(top);
  if (whole == nullptr || whole->is_null()) {
    if (!text.empty() && text.back() != '\n') text += '\n';
    if (whole == nullptr) {
      text += top + ":\n  " + entry + "\n";
      return;
    }
    throw Error(ErrorKind::usage, fmt::format("an empty {} stands in the file", top));
  }
  if (group.empty()) {
    const Node* old = whole->find(leaf);
    Map map(text, *whole);
    old != nullptr ? map.replace(*old, value) : map.put(entry);
    return;
  }
  const Node* inner = whole->find(group);
  if (inner == nullptr) return Map(text, *whole).put(entry);
  const Node* old = inner->find(leaf);
  Map map(text, *inner);
  old != nullptr ? map.replace(*old, value) : map.put(fmt::format("{}: {}", leaf, value));
}

/// Puts those of a table's values into a map that are other than before.
template <class Owner, class Skip>
void put_changed(std::string& text, const std::string& path, const std::string& top,
                 std::span<const Knob<Owner>> table, const Owner& old, const Owner& wanted,
                 const Skip& skip) {
  for (const Knob<Owner>& entry : table) {
    const std::string name(entry.info.name);
    std::string value = knob_text(entry, wanted);
    if (value == knob_text(entry, old) || skip(name)) continue;
    if (entry.info.kind == KnobKind::text) value = yaml_quoted(value);
    put_value(text, path, top, name, value);
  }
}

[[noreturn]] void refuse_form(const SceneFile& file, std::string_view what) {
  throw Error(ErrorKind::usage,
              fmt::format("{}: {} cannot be put into the file, expected it without aliases",
                          file.path, what));
}

/// Refuses a map that other places of the file take over: those would change as well.
void refuse_anchor(const SceneFile& file, const std::string& top) {
  const Node document = parse_document(file.text, file.path);
  for (const auto& [key, value] : document.map("a scene")) {
    if (key.text() != top) continue;
    std::size_t at = offset_of(file.text, key.place()) + top.size();
    while (at < file.text.size() && (file.text[at] == ':' || file.text[at] == ' ')) ++at;
    if (at < file.text.size() && (file.text[at] == '&' || file.text[at] == '*')) {
      refuse_form(file, "the " + top);
    }
  }
}

/// Where a camera looks, so far away; numbers as short as they tell places apart.
std::string looked_at(const Camera& camera, double away) {
  const Vec3d place = camera.eye + away * viewing(camera, {64, 64}).forward;
  return fmt::format("[{:.12g}, {:.12g}, {:.12g}]", place.x(), place.y(), place.z());
}

}  // namespace

std::string text_with_budget(const SceneFile& file, const Budget& budget) {
  std::string text = file.text;
  const Budget old = parse_scene(file.text, file.path).budget;
  Budget wanted = budget;
  wanted.frame.width = old.frame.width;
  wanted.frame.height = old.frame.height;
  put_changed(text, file.path, "budget", budget_knobs(), old, wanted,
              [](const std::string&) { return false; });
  const Budget read = parse_scene(text, file.path).budget;
  for (const Knob<Budget>& entry : budget_knobs()) {
    if (knob_text(entry, read) == knob_text(entry, wanted)) continue;
    refuse_form(file, entry.info.name);
  }
  return text;
}

std::string text_with_camera(const SceneFile& file, const Camera& camera) {
  std::string text = file.text;
  const SceneFile old = parse_scene(file.text, file.path);
  const auto no_key = [](const std::string&) { return false; };
  if (old.scene.plane) {
    refuse_anchor(file, "window");
    put_changed(text, file.path, "window", plane_window_knobs(), old.camera.window, camera.window,
                no_key);
    const PlaneWindow read = parse_scene(text, file.path).camera.window;
    for (const Knob<PlaneWindow>& entry : plane_window_knobs()) {
      if (knob_text(entry, read) != knob_text(entry, camera.window)) {
        refuse_form(file, entry.info.name);
      }
    }
    return text;
  }
  refuse_anchor(file, "camera");
  const Node document = parse_document(file.text, file.path);
  const Node* const node = document.find("camera");
  if (node != nullptr && node->find("matrices") != nullptr) {
    throw Error(
        ErrorKind::usage,
        fmt::format("{}: the camera is that of matrices, which stay as they are", file.path));
  }
  const bool looks = node != nullptr && node->find("look_at") != nullptr;
  put_changed(
      text, file.path, "camera", camera_knobs(), old.camera, camera,
      [&](const std::string& name) { return looks && (name == "heading" || name == "pitch"); });
  if (looks) {
    // As a point is read: by the knob of a place.
    Camera target;
    const Knob<Camera>& place = *find_knob(camera_knobs(), "eye");
    place.assign(target, place.info, node->find("look_at")->value_text());
    const double away = std::max(1.0, (target.eye - old.camera.eye).norm());
    put_value(text, file.path, "camera", "look_at", looked_at(camera, away));
  }
  const Camera read = parse_scene(text, file.path).camera;
  const Viewing one = viewing(read, {64, 64});
  const Viewing other = viewing(camera, {64, 64});
  const bool turned =
      (one.forward - other.forward).norm() > 1e-8 || (one.up - other.up).norm() > 1e-6;
  for (const Knob<Camera>& entry : camera_knobs()) {
    const bool by_look = looks && (entry.info.name == "heading" || entry.info.name == "pitch");
    if (by_look ? turned : knob_text(entry, read) != knob_text(entry, camera)) {
      refuse_form(file, entry.info.name);
    }
  }
  return text;
}

void write_camera(const SceneFile& file, const Camera& camera) {
  write_file(file.path, text_with_camera(file, camera));
}

void write_budget(const SceneFile& file, const Budget& budget) {
  write_file(file.path, text_with_budget(file, budget));
}

}  // namespace photonlane::io
