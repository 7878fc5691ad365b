#pragma once

///   const io::Picture picture = io::read_png("picture.png");

#include <array>
#include <cstdint>
#include <string>
#include <vector>

#include "photonlane/frame/frame.hpp"
#include "photonlane/light/texture.hpp"

namespace photonlane::io {

/// Pixels ready to show: sRGB bytes, red, green and blue, row after row from the top.
struct Picture {
  Size size;
  std::vector<std::uint8_t> bytes;

  Picture() = default;
  explicit Picture(Size size_)
      : size(size_), bytes(3 * static_cast<std::size_t>(size_.width) * size_.height) {}
  std::uint8_t* pixel(int x, int y) {
    return &bytes[3 * (static_cast<std::size_t>(y) * size.width + x)];
  }
  const std::uint8_t* pixel(int x, int y) const {
    return &bytes[3 * (static_cast<std::size_t>(y) * size.width + x)];
  }
};

/// Reads any PNG as sRGB bytes; alpha is dropped. Throws Error (file) for files that are missing,
/// truncated or not PNG, and Error (memory) for pictures over `most_pixels`.
Picture read_png(const std::string& path, std::size_t most_pixels = std::size_t{1} << 28);

/// Reads any PNG as a texture, alpha and all. Throws as read_png, and Error (input) for one that is
/// larger than a texture may be.
Texture read_texture(const std::string& path, std::size_t most_pixels = Texture::most_texels);

/// Writes a PNG that says it is sRGB, whole or not at all. Throws Error (file).
void write_png(const std::string& path, const Picture& picture);

/// The bytes of such a file, smaller and slower made. Throws Error (memory) where they cannot be.
std::string png_bytes(const Picture& picture);

}  // namespace photonlane::io
