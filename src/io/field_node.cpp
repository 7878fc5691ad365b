#include "io/field_node.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "io/files.hpp"
#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/yaml_text.hpp"
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

std::vector<double> preset_numbers(const std::vector<Parameter>& parameters) {
  std::vector<double> numbers;
  for (const Parameter& parameter : parameters) {
    numbers.insert(numbers.end(), parameter.preset.begin(),
                   parameter.preset.begin() + static_cast<std::ptrdiff_t>(parameter.numbers()));
  }
  return numbers;
}
std::vector<std::string_view> names_of(const std::vector<Parameter>& parameters) {
  std::vector<std::string_view> names;
  for (const Parameter& parameter : parameters) names.push_back(parameter.info.name);
  return names;
}

/// Reads the parameter a key names; false where none has that name.
bool read_named(const std::vector<Parameter>& parameters, const Node& key, const Node& value,
                std::vector<double>& numbers) {
  std::size_t first = 0;
  for (const Parameter& parameter : parameters) {
    if (parameter.info.name == key.text()) {
      at_place(value,
               [&] { read_parameter(parameter, value.value_text(), numbers.data() + first); });
      return true;
    }
    first += parameter.numbers();
  }
  return false;
}

Field read_field_anew(const Node& node, const FieldContext& context);

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

/// The steps of an iterate: a list of maps of one key each.
std::vector<double> read_steps(const Node& node) {
  std::vector<double> numbers;
  const std::string expected = "a list of steps, each a map of one key, its kind";
  for (const Node& step : node.list(expected)) {
    const auto& entries = step.map(expected);
    if (entries.size() != 1) {
      step.refuse(fmt::format("a step of {} kinds, expected one", entries.size()));
    }
    const auto& [key, value] = entries.front();
    const auto& names = choice_names<FoldKind>;
    const auto found = std::find(names.begin(), names.end(), key.text());
    if (found == names.end()) {
      key.refuse(fmt::format("no such kind of step '{}'{}", key.text().substr(0, 60),
                             suggestion(key.text(), names)));
    }
    const FoldKindInfo& info = fold_kind_info(static_cast<FoldKind>(found - names.begin()));
    std::vector<double> own = preset_numbers(info.parameters);
    if (!value.is_null()) {
      for (const auto& pair : value.map(fmt::format("a {}", key.text()))) {
        if (!read_named(info.parameters, pair.first, pair.second, own)) {
          refuse_key(pair.first, names_of(info.parameters));
        }
      }
    }
    own.resize(FoldStep::most_numbers, 0);
    numbers.push_back(static_cast<double>(found - names.begin()));
    numbers.insert(numbers.end(), own.begin(), own.end());
  }
  return numbers;
}

/// A shape of what is in a file.
Field read_file_field(FieldKind kind, const std::vector<double>& numbers, const Node& file,
                      const FieldContext& context) {
  const std::string& name = file.text();
  const std::string path = path_from(context.folder, name);
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
  std::vector<double> numbers = preset_numbers(info.parameters);
  std::vector<std::string_view> names = names_of(info.parameters);
  std::vector<double> steps;
  if (info.most_parts > 0) names.emplace_back("of");
  if (info.extra == Extra::points) names.emplace_back("corners");
  if (info.extra == Extra::steps) names.emplace_back("steps");
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
      if (key.text() == "steps" && info.extra == Extra::steps) {
        steps = read_steps(value);
        continue;
      }
      if (key.text() == "file" && info.extra == Extra::file) {
        file = &value;
        continue;
      }
      if (read_named(info.parameters, key, value, numbers)) continue;
      const auto& kinds = choice_names<FieldKind>;
      if (info.most_parts > 0 && std::find(kinds.begin(), kinds.end(), key.text()) != kinds.end()) {
        key.refuse(fmt::format("a field '{}' beside the keys of {}, expected it below 'of'",
                               key.text(), name_of(kind)));
      }
      refuse_key(key, names);
    }
  }
  if (info.extra == Extra::file) {
    if (file == nullptr) node.refuse(fmt::format("a {} without a file", name_of(kind)));
    return read_file_field(kind, numbers, *file, context);
  }
  numbers.insert(numbers.end(), steps.begin(), steps.end());
  return at_place(node, [&] { return Field(kind, std::move(numbers), std::move(parts)); });
}

int read_material(const Node& node, const FieldContext& context) {
  return index_of(node, context.scene.material_names, "material");
}

/// {by: trap, over: [a, b, c]}.
Field read_tint(const Node& node, const Field& field, const FieldContext& context) {
  static constexpr KnobInfo by{"by", KnobKind::choice, "", {}, choice_names<TintBy>, ""};
  FoldTint tint;
  for (const auto& [key, value] : node.map("a tint: what it goes by, and over which materials")) {
    if (key.text() == "by") {
      at_place(value, [&, &at = value] {
        tint.by = static_cast<TintBy>(detail::choice_index(by, at.text()));
      });
    } else if (key.text() == "over") {
      for (const Node& material : value.list("a list of materials")) {
        tint.materials.push_back(read_material(material, context));
      }
    } else {
      refuse_key(key, std::vector<std::string_view>{"by", "over"});
    }
  }
  return at_place(node, [&] { return field.tinted(std::move(tint)); });
}

std::string material_text(int material, const Scene& scene) {
  return yaml_quoted(name_of_material(scene, static_cast<std::size_t>(material)));
}

std::string parameters_text(const std::vector<Parameter>& parameters, const double* numbers,
                            std::string_view before, std::string_view after) {
  std::string text;
  for (const Parameter& parameter : parameters) {
    text += fmt::format("{}{}: {}{}", before, parameter.info.name,
                        parameter_text(parameter, numbers), after);
    numbers += parameter.numbers();
  }
  return text;
}

std::string parameter_reference(const std::vector<Parameter>& parameters) {
  std::string keys;
  for (const Parameter& parameter : parameters) {
    keys += fmt::format("{}`{}` ({}; default {}): {}", keys.empty() ? "" : "<br>",
                        parameter.info.name, parameter.info.expected(),
                        parameter_text(parameter, parameter.preset.data()), parameter.info.help);
  }
  return keys;
}

std::string steps_text(const Field& field, const std::string& space) {
  std::string text = space + "  steps:\n";
  for (const FoldStep& step : fold_steps(field.numbers())) {
    std::string inner =
        parameters_text(fold_kind_info(step.kind).parameters, step.numbers.data(), "", ", ");
    inner.resize(inner.size() - 2);
    text += fmt::format("{}    - {}: {{{}}}\n", space, name_of(step.kind), inner);
  }
  return text;
}

}  // namespace

Field read_field(const Node& node, const FieldContext& context) {
  if (const auto found = context.read.find(node.identity()); found != context.read.end()) {
    return found->second;
  }
  const Field field = read_field_anew(node, context);
  context.read.emplace(node.identity(), field);
  return field;
}

namespace {

Field read_field_anew(const Node& node, const FieldContext& context) {
  const std::string expected = "a field: one kind, and its material or tint";
  const std::pair<Node, Node>* what = nullptr;
  const Node* material = nullptr;
  const Node* tint = nullptr;
  for (const auto& pair : node.map(expected)) {
    if (pair.first.text() == "material") {
      material = &pair.second;
    } else if (pair.first.text() == "tint") {
      tint = &pair.second;
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
  if (tint != nullptr) field = read_tint(*tint, field, context);
  return material == nullptr ? field : field.made_of(read_material(*material, context));
}

}  // namespace

std::string field_text(const Field& field, const Scene& scene, int indent) {
  const FieldKindInfo& info = field_kind_info(field.kind());
  const std::string space(static_cast<std::size_t>(indent), ' ');
  std::string text = fmt::format("{}:\n", name_of(field.kind()));
  text += parameters_text(info.parameters, field.numbers().data(), space + "  ", "\n");
  if (info.extra == Extra::steps &&
      field.numbers().size() > preset_numbers(info.parameters).size()) {
    text += steps_text(field, space);
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
    text += fmt::format("{}  file: {}\n", space, yaml_quoted(name));
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
    text += fmt::format("{}material: {}\n", space, material_text(field.material(), scene));
  }
  if (!field.tint().materials.empty()) {
    text += fmt::format("{}tint: {{by: {}, over: [", space, name_of(field.tint().by));
    for (std::size_t i = 0; i < field.tint().materials.size(); ++i) {
      text +=
          fmt::format("{}{}", i == 0 ? "" : ", ", material_text(field.tint().materials[i], scene));
    }
    text += "]}\n";
  }
  return text;
}

std::string field_reference() {
  std::string text =
      "\n## field\n\nA solid `{field: ...}`: a tree of shapes and operations. Each is a map of one "
      "key, its kind, and\n`material` where it is of another material than what it is in. Parts of "
      "an operation stand under `of`. What folds again and again (sponge, gasket, bulb, julia, "
      "iterate) may have\na `tint` instead, {by: trap, over: [a list of 2 to 16 materials]}: how "
      "near a place's way came to the middle (trap), after how many\niterations (depth), or on "
      "which sides of the folds it was (fold).\n\n| kind | of | keys | meaning "
      "|\n|---|---|---|---|\n";
  for (std::size_t i = 0; i < choice_names<FieldKind>.size(); ++i) {
    const FieldKindInfo& info = field_kind_info(static_cast<FieldKind>(i));
    std::string keys = parameter_reference(info.parameters);
    if (info.extra == Extra::function) continue;
    if (info.extra == Extra::steps) {
      keys += "<br>`steps` (a list of steps, see below)";
    } else if (info.extra != Extra::none) {
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
  text +=
      "\nThe steps of an `iterate`, each a map of one key, are done one after another, all of them "
      "again and\nagain; what is `of` it stands where they lead to.\n\n| step | keys | leads a "
      "place "
      "|\n|---|---|---|\n";
  for (std::size_t i = 0; i < choice_names<FoldKind>.size(); ++i) {
    const FoldKindInfo& info = fold_kind_info(static_cast<FoldKind>(i));
    text += fmt::format("| `{}` | {} | {} |\n", choice_names<FoldKind>[i],
                        parameter_reference(info.parameters), info.help);
  }
  return text;
}

}  // namespace photonlane::io
