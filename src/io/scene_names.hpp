#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "io/document.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// The index of a node's text in a list of names; refuses others, calling them `what`.
int index_of(const Node& node, const std::vector<std::string>& names, std::string_view what);

/// What a material or texture is called in a file: its name, or one made of its number.
std::string name_of_material(const Scene& scene, std::size_t i);
std::string name_of_texture(const Scene& scene, int i);

}  // namespace photonlane::io
