#pragma once

#include <string>

#include "photonlane/light/texture.hpp"

namespace photonlane::io {

/// A board with a text on it, in the recipe's size and colors: a rim, and the text as large as
/// fits. Lines are broken at "/". Throws Error (input) for an empty text or one of more than 200
/// bytes.
Texture sign_texture(const std::string& text, const TextureRecipe& recipe);

}  // namespace photonlane::io
