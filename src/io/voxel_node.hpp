#pragma once

#include <memory>
#include <string>

#include "io/document.hpp"
#include "io/scene_nodes.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

std::shared_ptr<const SolidPart> read_voxels(const Node& node, const Scene& scene,
                                             const std::string& folder);
std::string voxels_text(const SolidPart& part, const Scene& scene, int indent);

/// What scene files may say of voxels, and of what they are made from.
std::vector<SceneNode> voxel_nodes();

}  // namespace photonlane::io
