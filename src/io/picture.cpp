#include "photonlane/io/picture.hpp"

#include <fmt/format.h>
#include <png.h>

#include "io/files.hpp"

namespace photonlane::io {
namespace {

/// libpng's own record of a picture, freed whatever happens.
struct PngImage : png_image {
  PngImage() : png_image{} { version = PNG_IMAGE_VERSION; }
  ~PngImage() { png_image_free(this); }
  PngImage(const PngImage&) = delete;
  PngImage& operator=(const PngImage&) = delete;
};

/// Four bytes a pixel: red, green, blue, alpha.
struct Pixels {
  int width, height;
  std::vector<std::uint8_t> bytes;
};

Pixels read_pixels(const std::string& path, std::size_t most_pixels) {
  const std::string bytes = read_file(path);
  PngImage image;
  const auto refuse = [&] {
    throw Error(ErrorKind::file, fmt::format("cannot be read as PNG: {}", image.message),
                Place{path});
  };
  if (png_image_begin_read_from_memory(&image, bytes.data(), bytes.size()) == 0) refuse();
  const std::size_t count = static_cast<std::size_t>(image.width) * image.height;
  if (count > most_pixels) {
    throw Error(ErrorKind::memory,
                fmt::format("picture of {}x{} pixels, expected at most {} pixels", image.width,
                            image.height, most_pixels),
                Place{path});
  }
  image.format = PNG_FORMAT_RGBA;
  Pixels pixels{static_cast<int>(image.width), static_cast<int>(image.height),
                std::vector<std::uint8_t>(4 * count)};
  if (png_image_finish_read(&image, nullptr, pixels.bytes.data(), 0, nullptr) == 0) refuse();
  return pixels;
}

}  // namespace

Picture read_png(const std::string& path, std::size_t most_pixels) {
  const Pixels pixels = read_pixels(path, most_pixels);
  Picture picture(Size{pixels.width, pixels.height});
  for (std::size_t i = 0; i < pixels.bytes.size() / 4; ++i) {
    for (int channel = 0; channel < 3; ++channel) {
      picture.bytes[3 * i + channel] = pixels.bytes[4 * i + channel];
    }
  }
  return picture;
}

Texture read_texture(const std::string& path) {
  const Pixels pixels = read_pixels(path, std::size_t{1} << 28);
  Texture texture{pixels.width, pixels.height, {}};
  texture.texels.reserve(pixels.bytes.size() / 4);
  for (std::size_t i = 0; i < pixels.bytes.size(); i += 4) {
    const std::uint8_t* byte = &pixels.bytes[i];
    texture.texels.push_back(byte[0] | std::uint32_t{byte[1]} << 8 | std::uint32_t{byte[2]} << 16 |
                             std::uint32_t{byte[3]} << 24);
  }
  try {
    validate(texture);
  } catch (const Error& error) {
    throw error.at(Place{path});
  }
  return texture;
}

void write_png(const std::string& path, const Picture& picture) {
  PngImage image;
  image.width = static_cast<png_uint_32>(picture.size.width);
  image.height = static_cast<png_uint_32>(picture.size.height);
  image.format = PNG_FORMAT_RGB;
  image.flags = PNG_IMAGE_FLAG_FAST;
  std::string bytes(PNG_IMAGE_PNG_SIZE_MAX(image), '\0');
  png_alloc_size_t size = bytes.size();
  if (png_image_write_to_memory(&image, bytes.data(), &size, 0, picture.bytes.data(), 0, nullptr) ==
      0) {
    throw Error(ErrorKind::file, fmt::format("cannot be written as PNG: {}", image.message),
                Place{path});
  }
  write_file(path, std::string_view(bytes).substr(0, size));
}

}  // namespace photonlane::io
