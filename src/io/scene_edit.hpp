#pragma once

#include <string>

#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// The text of a scene file with another budget in it: values are put where they stand, or beside
/// others of their kind; comments and all else stay. The size of the frame stays as well.
std::string text_with_budget(const SceneFile& file, const Budget& budget);

/// The same with another camera; of planes, another window. A point that is looked at is moved to
/// where the camera looks, as far away as it was.
std::string text_with_camera(const SceneFile& file, const Camera& camera);

}  // namespace photonlane::io
