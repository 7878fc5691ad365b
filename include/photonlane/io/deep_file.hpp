#pragma once

///   io::write_deep("fountain.exr", make_deep(world, camera, budget));

#include <string>

#include "photonlane/frame/deep.hpp"

namespace photonlane::io {

/// An EXR file of several distances a pixel (deep scan lines): R, G, B, A and Z, floats. Throws
/// Error (usage) for other endings than .exr, Error (file) where it cannot be written.
void write_deep(const std::string& path, const DeepPicture& deep);

}  // namespace photonlane::io
