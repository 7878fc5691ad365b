#include "io/scene_names.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace photonlane::io {

int index_of(const Node& node, const std::vector<std::string>& names, std::string_view what) {
  const auto found = std::find(names.begin(), names.end(), node.text());
  if (found != names.end()) return static_cast<int>(found - names.begin());
  const std::vector<std::string_view> views(names.begin(), names.end());
  node.refuse(fmt::format("no such {} '{}'{}", what, node.text().substr(0, 60),
                          suggestion(node.text(), views)));
}

std::string name_of_material(const Scene& scene, std::size_t i) {
  const bool named = i < scene.material_names.size() && !scene.material_names[i].empty();
  return named ? scene.material_names[i] : fmt::format("material_{}", i);
}

std::string name_of_texture(const Scene& scene, int i) {
  const auto index = static_cast<std::size_t>(i);
  const bool named = index < scene.texture_names.size() && !scene.texture_names[index].empty();
  return named ? scene.texture_names[index] : fmt::format("texture_{}", i);
}

}  // namespace photonlane::io
