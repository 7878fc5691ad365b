#pragma once

#include <map>
#include <memory>

#include "io/document.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// What a scene file's nodes were made into, by what they say: the same file read with other
/// numbers takes over what they do not change, so that a world knows it again.
struct KeptParts {
  std::map<Digest, Texture> textures;
  std::map<Digest, Field> fields;
  std::map<Digest, std::shared_ptr<const SolidPart>> solids;
};

}  // namespace photonlane::io
