#pragma once

#include <string>

#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// The text of a scene file with another budget in it: values are put where they stand, or beside
/// others of their kind; comments and all else stay. The size of the frame stays as well.
std::string text_with_budget(const SceneFile& file, const Budget& budget);

}  // namespace photonlane::io
