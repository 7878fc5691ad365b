#include "io/sphere_node.hpp"

#include <cmath>

#include "io/files.hpp"
#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/sphere_words.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/io/sphere_file.hpp"
#include "photonlane/spheres/pollen_generator.hpp"
#include "photonlane/spheres/spheres.hpp"

namespace photonlane::io {
namespace {

const Knob<Sphere>& radius_knob() { return *find_knob(sphere_knobs(), "radius"); }

void set_radius(const Node& node, Sphere& sphere) {
  at_place(node, [&] { radius_knob().assign(sphere, radius_knob().info, node.value_text()); });
}

/// [x, y, z], [x, y, z, radius], or a map.
Sphere read_sphere(const Node& node, Sphere sphere, const Scene& scene) {
  if (node.kind() != Node::Kind::list) {
    read_node(node, "one_sphere", sphere_knobs(), sphere,
              [&](const std::string&, const Node& value) {
                sphere.material = index_of(value, scene.material_names, "material");
              });
    return sphere;
  }
  const std::vector<Node>& parts = node.list("a sphere [x, y, z] or [x, y, z, radius]");
  if (parts.size() != 3 && parts.size() != 4) {
    node.refuse(fmt::format("a sphere of {} numbers, expected [x, y, z] or [x, y, z, radius]",
                            parts.size()));
  }
  KnobInfo number = find_knob(sphere_knobs(), "at")->info;
  number.kind = KnobKind::number;
  for (int i = 0; i < 3; ++i) {
    const Node& part = parts[static_cast<std::size_t>(i)];
    at_place(part, [&] { detail::assign(sphere.center[i], number, part.text()); });
  }
  if (parts.size() == 4) set_radius(parts[3], sphere);
  return sphere;
}

/// One of an enumeration's names.
template <class Enumeration>
Enumeration read_choice(const Node& node, std::string_view what) {
  const auto& names = choice_names<Enumeration>;
  const auto found = std::find(names.begin(), names.end(), node.text());
  if (found == names.end()) {
    node.refuse(fmt::format("no such {} '{}'{}", what, node.text().substr(0, 60),
                            suggestion(node.text(), names)));
  }
  return static_cast<Enumeration>(found - names.begin());
}

void read_columns(const Node& node, SphereFiles& files) {
  for (const auto& [key, value] : node.map("columns")) {
    at_place(key, [&, &quantity = key, &name = value] {
      set_column(quantity.text(), name.text(), files);
    });
  }
}

void read_record(const Node& node, SphereFiles& files) {
  const auto& entries = node.map("a record");
  std::vector<SphereWord> words;
  for (const auto& [key, value] : entries) words.emplace_back(key.text(), value.text());
  std::size_t now = 0;
  try {
    set_places(words, files, now);
  } catch (const Error& error) {
    entries[now].second.refuse(error.message());
  }
}

}  // namespace

void read_file_names(const Node& node, const std::string& folder, std::vector<std::string>& names,
                     SphereFiles& files) {
  if (node.kind() == Node::Kind::list) {
    for (const Node& one : node.list("files")) names.push_back(one.text());
  } else {
    names.push_back(node.text());
  }
  for (const std::string& name : names) {
    files.paths.push_back(path_from(folder, name));
  }
}

void read_file_key(const std::string& key, const Node& node, SphereFiles& files) {
  if (key == "scale") files.scale = read_number(node, 1e-12, 1e12);
  if (key == "columns") read_columns(node, files);
  if (key == "record") read_record(node, files);
}

std::string file_lines(const std::vector<std::string>& names, const SphereFiles& files,
                       int indent) {
  const std::string space(static_cast<std::size_t>(indent), ' ');
  std::string text = space + "files: [";
  for (const std::string& name : names) {
    text += (&name == names.data() ? "" : ", ") + yaml_quoted(name);
  }
  text += "]\n";
  if (files.radius != Sphere().radius) text += fmt::format("{}radius: {}\n", space, files.radius);
  if (files.scale != 1) text += fmt::format("{}scale: {}\n", space, files.scale);
  std::string columns;
  std::string record;
  for (std::size_t q = 0; q < sphere_quantities; ++q) {
    const std::string_view name = name_of(static_cast<SphereQuantity>(q));
    if (!files.columns[q].empty()) {
      columns += fmt::format("{}  {}: {}\n", space, name, yaml_quoted(files.columns[q]));
    }
    if (files.fields[q]) {
      record += fmt::format("{}  {}: {}\n", space, name, yaml_quoted(place_word(*files.fields[q])));
    }
  }
  if (!columns.empty()) text += space + "columns:\n" + columns;
  if (!record.empty()) {
    text += fmt::format("{}record:\n{}  count: {}\n", space, space, files.count) + record;
  }
  return text;
}

std::shared_ptr<const SolidPart> read_spheres(const Node& node, const Scene& scene,
                                              const std::string& folder) {
  auto spheres = std::make_shared<Spheres>();
  Sphere like;
  SphereFiles files;
  SphereSetOptions options;
  const Node* places = nullptr;
  const Node* named = nullptr;
  const Node* pollen = nullptr;
  const Node* only_files = nullptr;
  bool only_materials = true;  // of what is said of files
  int nothing = 0;
  read_node(node, "spheres", std::span<const Knob<int>>(), nothing,
            [&](const std::string& key, const Node& value) {
              if (key == "material") {
                spheres->material = index_of(value, scene.material_names, "material");
              } else if (key == "radius") {
                set_radius(value, like);
              } else if (key == "at") {
                places = &value;
              } else if (key == "files") {
                named = &value;
              } else if (key == "pollen") {
                pollen = &value;
              } else {
                only_files = &value;
                only_materials = only_materials && key == "materials";
                read_file_key(key, value, files);
                if (key == "keep")
                  options.keeping = read_choice<SphereKeeping>(value, "way to keep them");
                if (key == "materials") {
                  for (const Node& one : value.list("a list of materials")) {
                    spheres->materials.push_back(index_of(one, scene.material_names, "material"));
                  }
                }
              }
            });
  if ((places != nullptr) + (named != nullptr) + (pollen != nullptr) != 1) {
    node.refuse(
        "expected where spheres are once: at: [[x, y, z], ...], files: NAME or pollen: {count: N}");
  }
  if (pollen != nullptr) {
    PollenRecipe recipe;
    read_plain(*pollen, "pollen", pollen_recipe_knobs(), recipe);
    // A file of a few letters must not keep a machine busy for minutes.
    constexpr std::int64_t most = 4'000'000;
    if (recipe.count > most) {
      pollen->refuse(
          fmt::format("{} grains, expected {} at most; for more: photonlane make pollen -o FILE, "
                      "and files: FILE",
                      recipe.count, most));
    }
    at_place(*pollen, [&] { spheres->set = SphereSet::make(PollenSource(recipe), options); });
    spheres->source_text = "pollen:\n" + changed_lines(pollen_recipe_knobs(), recipe, 2);
    if (spheres->source_text == "pollen:\n") spheres->source_text = "pollen: {}\n";
    if (options.keeping != SphereKeeping::automatic) {
      spheres->source_text += fmt::format("keep: {}\n", name_of(options.keeping));
    }
    return spheres;
  }
  if (named != nullptr) {
    std::vector<std::string> names;
    read_file_names(*named, folder, names, files);
    files.radius = like.radius;
    try {
      if (files.paths.size() == 1 && ends_with(files.paths.front(), ".parts")) {
        if (only_files != nullptr && !only_materials) {
          only_files->refuse("said of spheres in parts, which are as `make spheres` made them");
        }
        spheres->parts = open_sphere_parts(files.paths.front());
        spheres->source_text = file_lines(names, files, 0);
        return spheres;
      }
      spheres->set = read_spheres(files, options);
    } catch (const Error& error) {
      const std::string where = place_text(error.place());
      named->refuse(where.empty() ? error.message() : where + ": " + error.message());
    }
    spheres->source_text = file_lines(names, files, 0);
    if (options.keeping != SphereKeeping::automatic) {
      spheres->source_text += fmt::format("keep: {}\n", name_of(options.keeping));
    }
    return spheres;
  }
  if (only_files != nullptr) only_files->refuse("said of files, and there are none");
  const std::vector<Node>& all = places->list("a list of spheres");
  if (all.empty()) places->refuse("a list of 0 spheres, expected one at least");
  spheres->spheres.reserve(all.size());
  for (const Node& one : all) spheres->spheres.push_back(read_sphere(one, like, scene));
  return spheres;
}

std::string spheres_text(const SolidPart& part, const Scene& scene, int indent) {
  const auto& set = dynamic_cast<const Spheres&>(part);
  std::string text;
  const auto material = [&](int index) {
    return yaml_quoted(name_of_material(scene, static_cast<std::size_t>(index)));
  };
  if (set.material >= 0) {
    text += fmt::format("{:{}}material: {}\n", "", indent, material(set.material));
  }
  if (set.set != nullptr || set.parts != nullptr) {
    if (set.source_text.empty()) {
      throw Error(ErrorKind::input, "a set of spheres from no file that a scene could name");
    }
    if (!set.materials.empty()) {
      text += fmt::format("{:{}}materials: [", "", indent);
      for (const int& one : set.materials) {
        text += (&one == set.materials.data() ? "" : ", ") + material(one);
      }
      text += "]\n";
    }
    for (std::size_t at = 0; at < set.source_text.size();) {
      const std::size_t stop = set.source_text.find('\n', at);
      text += fmt::format("{:{}}{}\n", "", indent, set.source_text.substr(at, stop - at));
      at = stop + 1;
    }
    return text;
  }
  text += fmt::format("{:{}}at:\n", "", indent);
  for (const Sphere& sphere : set.spheres) {
    const Vec3d& at = sphere.center;
    if (sphere.material < 0) {
      text += fmt::format("{:{}}- [{}, {}, {}, {}]\n", "", indent + 2, at.x(), at.y(), at.z(),
                          sphere.radius);
    } else {
      text += fmt::format("{:{}}- {{at: [{}, {}, {}], radius: {}, material: {}}}\n", "", indent + 2,
                          at.x(), at.y(), at.z(), sphere.radius, material(sphere.material));
    }
  }
  return text;
}

}  // namespace photonlane::io
