#include "io/field_node.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "io/read_node.hpp"

namespace photonlane::io {
namespace {

using Parameter = FieldKindInfo::Parameter;

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

std::vector<Field> read_parts(const Node& node, const Scene& scene) {
  std::vector<Field> parts;
  if (node.kind() == Node::Kind::list) {
    for (const Node& part : node.list("fields")) parts.push_back(read_field(part, scene));
  } else {
    parts.push_back(read_field(node, scene));
  }
  return parts;
}

Field read_kind(FieldKind kind, const Node& node, const Scene& scene) {
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
  std::vector<Field> parts;
  // A kind without keys may stand alone: {sphere: }.
  if (!node.is_null()) {
    for (const auto& pair : node.map(fmt::format("a {}", name_of(kind)))) {
      const Node& key = pair.first;
      const Node& value = pair.second;
      if (key.text() == "of" && info.most_parts > 0) {
        parts = read_parts(value, scene);
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
  return at_place(node, [&] { return Field(kind, std::move(numbers), std::move(parts)); });
}

}  // namespace

Field read_field(const Node& node, const Scene& scene) {
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
  Field field = read_kind(static_cast<FieldKind>(found - names.begin()), what->second, scene);
  if (material == nullptr) return field;
  const std::vector<std::string>& known = scene.material_names;
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
  if (!field.parts().empty()) {
    text += space + "  of:\n";
    for (const Field& part : field.parts()) {
      text += space + "    - " + field_text(part, scene, indent + 6);
    }
  }
  if (info.parameters.empty() && field.parts().empty()) text += space + "  {}\n";
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
    text += fmt::format("| `{}` | {} | {} | {} |\n", choice_names<FieldKind>[i],
                        info.most_parts == 0   ? ""
                        : info.most_parts == 1 ? "one"
                                               : "any",
                        keys, info.help);
  }
  return text;
}

}  // namespace photonlane::io
