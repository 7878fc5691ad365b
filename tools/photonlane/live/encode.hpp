#pragma once

#include <string>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::live {

/// The display layer of a frame, or a picture, as JPEG; quality from 1 to 100. Throws Error
/// (memory) where it cannot be made.
std::string jpeg_bytes(const Frame& frame, int quality);
std::string jpeg_bytes(const io::Picture& picture, int quality);

}  // namespace photonlane::live
