#pragma once

#include <memory>
#include <string>

#include "io/document.hpp"
#include "photonlane/io/sphere_file.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

std::shared_ptr<const SolidPart> read_spheres(const Node& node, const Scene& scene,
                                              const std::string& folder);
std::string spheres_text(const SolidPart& part, const Scene& scene, int indent);

/// Names of files, from the folder on.
void read_file_names(const Node& node, const std::string& folder, std::vector<std::string>& names,
                     SphereFiles& files);
/// What is said of files of spheres: scale, columns or record.
void read_file_key(const std::string& key, const Node& node, SphereFiles& files);
/// The same as lines that are read back.
std::string file_lines(const std::vector<std::string>& names, const SphereFiles& files, int indent);

}  // namespace photonlane::io
