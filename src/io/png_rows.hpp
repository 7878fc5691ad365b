#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "photonlane/frame/frame.hpp"

namespace photonlane::io {

/// A picture that is made row by row: `fill(y, row)` gives red, green, blue and a byte that is left
/// out for each pixel, and must not throw.
struct PngRows {
  Size size;
  std::function<void(int y, std::uint8_t* row)> fill;
};

/// Writes a PNG that says it is sRGB, whole or not at all, with no more memory than a row takes.
/// Throws Error (file).
void write_png_rows(const std::string& path, const PngRows& rows);

}  // namespace photonlane::io
