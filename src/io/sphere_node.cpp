#include "io/sphere_node.hpp"

#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/yaml_text.hpp"
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

}  // namespace

std::shared_ptr<const SolidPart> read_spheres(const Node& node, const Scene& scene) {
  auto spheres = std::make_shared<Spheres>();
  Sphere like;
  const Node* places = nullptr;
  int nothing = 0;
  read_node(node, "spheres", std::span<const Knob<int>>(), nothing,
            [&](const std::string& key, const Node& value) {
              if (key == "material") {
                spheres->material = index_of(value, scene.material_names, "material");
              } else if (key == "radius") {
                set_radius(value, like);
              } else {
                places = &value;
              }
            });
  if (places == nullptr) node.refuse("spheres without places, expected at: [[x, y, z], ...]");
  const std::vector<Node>& all = places->list("a list of spheres");
  if (all.empty() || all.size() > Spheres::most) {
    places->refuse(
        fmt::format("a list of {} spheres, expected 1 to {}", all.size(), Spheres::most));
  }
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
