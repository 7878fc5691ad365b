#pragma once

#include <memory>
#include <string>

#include "io/document.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

std::shared_ptr<const SolidPart> read_spheres(const Node& node, const Scene& scene,
                                              const std::string& folder);
std::string spheres_text(const SolidPart& part, const Scene& scene, int indent);

}  // namespace photonlane::io
