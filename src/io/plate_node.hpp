#pragma once

#include <memory>
#include <string>
#include <vector>

#include "io/document.hpp"
#include "io/scene_nodes.hpp"
#include "photonlane/plates/plate.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

std::shared_ptr<const SolidPart> read_plate(const Node& node, const Scene& scene,
                                            const std::string& folder);
std::string plate_text(const SolidPart& part, const Scene& scene, int indent);

/// Its nodes beside the camera's.
std::vector<SceneNode> plate_nodes();

}  // namespace photonlane::io
