#include "io/field_node.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "io/files.hpp"
#include "io/read_node.hpp"
#include "photonlane/io/volume_file.hpp"

namespace photonlane::io {
namespace {

using Parameter = FieldKindInfo::Parameter;
using Extra = FieldKindInfo::Extra;

/// The values of one parameter from the text of a file.
void read_parameter(const Parameter& parameter, const std::string& text, double* numbers) {
  const KnobInfo& info = parameter.info;
  switch (info.kind) {
    case KnobKind::choice:
      numbers[0] = static_cast<double>(detail::choice_index(info, text));
      break;
    case KnobKind::integer: {
      std::int64_t value = 0;
      detail::assign(value, info, text);
      numbers[0] = static_cast<double>(value);
      break;
    }
    case KnobKind::point: {
      Vec3d value(0, 0, 0);
      detail::assign(value, info, text);
      std::copy_n(value.data(), 3, numbers);
      break;
    }
    default:
      detail::assign(numbers[0], info, text);
  }
}

std::string parameter_text(const Parameter& parameter, const double* numbers) {
  const KnobInfo& info = parameter.info;
  switch (info.kind) {
    case KnobKind::choice:
      return std::string(info.choices[static_cast<std::size_t>(numbers[0])]);
    case KnobKind::integer:
      return fmt::format("{}", static_cast<std::int64_t>(numbers[0]));
    case KnobKind::point:
      return detail::read(Vec3d(numbers[0], numbers[1], numbers[2]), info);
    default:
      return detail::read(numbers[0], info);
  }
}

std::vector<Field> read_parts(const Node& node, const FieldContext& context) {
  std::vector<Field> parts;
  if (node.kind() == Node::Kind::list) {
    for (const Node& part : node.list("fields")) parts.push_back(read_field(part, context));
  } else {
    parts.push_back(read_field(node, context));
  }
  return parts;
}

/// The corners of an outline.
std::vector<double> read_corners(const Node& node) {
  const std::string expected = "a list of corners, each [x, y] in meters";
  const KnobInfo number{"corner", KnobKind::number, "meters", {-1e6, 1e6}, {}, ""};
  std::vector<double> numbers;
  for (const Node& corner : node.list(expected)) {
    const std::vector<Node>& parts = corner.list(expected);
    if (parts.size() != 2) {
      corner.refuse(fmt::format("a corner of {} numbers, expected two, [x, y]", parts.size()));
    }
    for (const Node& part : parts) {
      double value = 0;
      at_place(part, [&] { detail::assign(value, number, part.text()); });
      numbers.push_back(value);
    }
  }
  return numbers;
}

/// A shape of what is in a file.
Field read_file_field(FieldKind kind, const std::vector<double>& numbers, const Node& file,
                      const FieldContext& context) {
  const std::string& name = file.text();
  const std::string path = name.starts_with('/') ? name : context.folder + name;
  try {
    if (kind == FieldKind::volume) {
      auto volume = std::make_shared<Volume>(read_volume(path));
      volume->name = name;
      return field::volume(std::move(volume));
    }
    HeightMap map = read_heights(path);
    map.name = name;
    return field::heights(map, {numbers[0], numbers[1], numbers[2]});
  } catch (const Error& error) {
    file.refuse(fmt::format("{} {} {}", name_of(kind), path, error.message()));
  }
}

Field read_kind(FieldKind kind, const Node& node, const FieldContext& context) {
  const FieldKindInfo& info = field_kind_info(kind);
  std::vector<double> numbers;
  std::vector<std::size_t> first;
  std::vector<std::string_view> names;
  for (const Parameter& parameter : info.parameters) {
    first.push_back(numbers.size());
    names.push_back(parameter.info.name);
    numbers.insert(numbers.end(), parameter.preset.begin(),
                   parameter.preset.begin() + static_cast<std::ptrdiff_t>(parameter.numbers()));
  }
  if (info.most_parts > 0) names.emplace_back("of");
  if (info.extra == Extra::points) names.emplace_back("corners");
  if (info.extra == Extra::file) names.emplace_back("file");
  if (info.extra == Extra::function) node.refuse("a function, which exists in C++ alone");
  const Node* file = nullptr;
  std::vector<Field> parts;
  // A kind without keys may stand alone: {sphere: }.
  if (!node.is_null()) {
    for (const auto& pair : node.map(fmt::format("a {}", name_of(kind)))) {
      const Node& key = pair.first;
      const Node& value = pair.second;
      if (key.text() == "of" && info.most_parts > 0) {
        parts = read_parts(value, context);
        continue;
      }
      if (key.text() == "corners" && info.extra == Extra::points) {
        numbers = read_corners(value);
        continue;
      }
      if (key.text() == "file" && info.extra == Extra::file) {
        file = &value;
        continue;
      }
      const auto found = std::find_if(
          info.parameters.begin(), info.parameters.end(),
          [&](const Parameter& parameter) { return parameter.info.name == key.text(); });
      if (found == info.parameters.end()) refuse_key(key, names);
      const auto which = static_cast<std::size_t>(found - info.parameters.begin());
      at_place(value,
               [&] { read_parameter(*found, value.value_text(), numbers.data() + first[which]); });
    }
  }
  if (info.extra == Extra::file) {
    if (file == nullptr) node.refuse(fmt::format("a {} without a file", name_of(kind)));
    return read_file_field(kind, numbers, *file, context);
  }
  return at_place(node, [&] { return Field(kind, std::move(numbers), std::move(parts)); });
}

}  // namespace

Field read_field(const Node& node, const FieldContext& context) {
  const std::string expected = "a field: one kind, and its material";
  const std::pair<Node, Node>* what = nullptr;
  const Node* material = nullptr;
  for (const auto& pair : node.map(expected)) {
    if (pair.first.text() == "material") {
      material = &pair.second;
    } else if (what != nullptr) {
      pair.first.refuse(fmt::format("a second kind '{}', expected {}",
                                    pair.first.text().substr(0, 60), expected));
    } else {
      what = &pair;
    }
  }
  if (what == nullptr) node.refuse("a field of no kind, expected " + expected);
  const auto& names = choice_names<FieldKind>;
  const auto found = std::find(names.begin(), names.end(), what->first.text());
  if (found == names.end()) {
    what->first.refuse(fmt::format("no such kind of field '{}'{}", what->first.text().substr(0, 60),
                                   suggestion(what->first.text(), names)));
  }
  Field field = read_kind(static_cast<FieldKind>(found - names.begin()), what->second, context);
  if (material == nullptr) return field;
  const std::vector<std::string>& known = context.scene.material_names;
  const auto named = std::find(known.begin(), known.end(), material->text());
  if (named == known.end()) {
    const std::vector<std::string_view> views(known.begin(), known.end());
    material->refuse(fmt::format("no such material '{}'{}", material->text().substr(0, 60),
                                 suggestion(material->text(), views)));
  }
  return field.made_of(static_cast<int>(named - known.begin()));
}

std::string field_text(const Field& field, const Scene& scene, int indent) {
  const FieldKindInfo& info = field_kind_info(field.kind());
  const std::string space(static_cast<std::size_t>(indent), ' ');
  std::string text = fmt::format("{}:\n", name_of(field.kind()));
  const double* numbers = field.numbers().data();
  for (const Parameter& parameter : info.parameters) {
    text +=
        fmt::format("{}  {}: {}\n", space, parameter.info.name, parameter_text(parameter, numbers));
    numbers += parameter.numbers();
  }
  if (info.extra == Extra::points) {
    text += space + "  corners: [";
    for (std::size_t i = 0; i + 1 < field.numbers().size(); i += 2) {
      text +=
          fmt::format("{}[{}, {}]", i == 0 ? "" : ", ", field.numbers()[i], field.numbers()[i + 1]);
    }
    text += "]\n";
  }
  if (info.extra == Extra::file) {
    const std::string& name = field.source()->name();
    if (!ends_with(name, field.kind() == FieldKind::volume ? ".volume" : ".png")) {
      throw Error(ErrorKind::input, fmt::format("{} '{}' is from no file that a scene could name",
                                                name_of(field.kind()), name.substr(0, 60)));
    }
    text += fmt::format("{}  file: \"{}\"\n", space, name);
  }
  if (info.extra == Extra::function) {
    throw Error(ErrorKind::input,
                fmt::format("function '{}' exists in C++ alone, a scene file cannot hold it",
                            field.source()->name().substr(0, 60)));
  }
  if (!field.parts().empty()) {
    text += space + "  of:\n";
    for (const Field& part : field.parts()) {
      text += space + "    - " + field_text(part, scene, indent + 6);
    }
  }
  if (info.parameters.empty() && field.parts().empty() && info.extra == Extra::none)
    text += space + "  {}\n";
  if (field.material() >= 0) {
    const auto which = static_cast<std::size_t>(field.material());
    text += fmt::format("{}material: \"{}\"\n", space,
                        which < scene.material_names.size() && !scene.material_names[which].empty()
                            ? scene.material_names[which]
                            : fmt::format("material {}", which));
  }
  return text;
}

std::string field_reference() {
  std::string text =
      "\n## field\n\nA solid `{field: ...}`: a tree of shapes and operations. Each is a map of one "
      "key, its kind, and\n`material` where it is of another material than what it is in. Parts of "
      "an operation stand under `of`.\n\n| kind | of | keys | meaning |\n|---|---|---|---|\n";
  for (std::size_t i = 0; i < choice_names<FieldKind>.size(); ++i) {
    const FieldKindInfo& info = field_kind_info(static_cast<FieldKind>(i));
    std::string keys;
    for (const Parameter& parameter : info.parameters) {
      keys += fmt::format("{}`{}` ({}; default {}): {}", keys.empty() ? "" : "<br>",
                          parameter.info.name, parameter.info.expected(),
                          parameter_text(parameter, parameter.preset.data()), parameter.info.help);
    }
    if (info.extra == Extra::function) continue;
    if (info.extra != Extra::none) {
      keys += keys.empty() ? "" : "<br>";
      keys += info.extra == Extra::points ? "`corners` (a list of corners, each [x, y] in meters)"
                                          : "`file` (a file name): where it is from";
    }
    text += fmt::format("| `{}` | {} | {} | {} |\n", choice_names<FieldKind>[i],
                        info.most_parts == 0   ? ""
                        : info.most_parts == 1 ? "one"
                                               : "any",
                        keys, info.help);
  }
  return text;
}

}  // namespace photonlane::io
