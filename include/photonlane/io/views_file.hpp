#pragma once

///   options.views = io::read_views("views.yaml", file);

#include <string>
#include <vector>

#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// The cameras of a file: a list of maps of camera keys, each with the rest as the scene's camera
/// has it; or a walk script, of which as many steps as `most` are taken, evenly. Throws Error
/// (input) with file, line and column.
std::vector<Camera> read_views(const std::string& path, const SceneFile& file,
                               std::size_t most = 12);

}  // namespace photonlane::io
