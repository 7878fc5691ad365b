#pragma once

#include <string>
#include <vector>

#include "photonlane/base/vector.hpp"

namespace photonlane::io {

/// Numbers of pixels, a plane a channel, rows from above.
struct PixelPlanes {
  Size size{0, 0};
  std::vector<std::vector<float>> planes;
  Size frame{0, 0};       ///< of the picture; there may be pixels around it
  int left = 0, top = 0;  ///< where in the picture the first pixel lies: at 0, or before it
};

/// Channels of an EXR file by name: all of its data window; the picture is its display window.
/// Throws Error (file) for files that are none, for pixels of the window that the file does not
/// have, and for channels it does not have, with those it has.
PixelPlanes read_exr_channels(const std::string& path, const std::vector<std::string>& names);

/// A PNG file's red, green, blue (as linear light) and alpha.
PixelPlanes read_png_light(const std::string& path);

/// The numbers of a gray PNG file of 8 or 16 bits, as they stand there, from 0 to 1: no colors.
PixelPlanes read_png_numbers(const std::string& path);

}  // namespace photonlane::io
