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

}  // namespace

Picture read_png(const std::string& path, std::size_t most_pixels) {
  const std::string bytes = read_file(path);
  PngImage image;
  const auto refuse = [&] {
    throw Error(ErrorKind::file, fmt::format("cannot be read as PNG: {}", image.message),
                Place{path});
  };
  if (png_image_begin_read_from_memory(&image, bytes.data(), bytes.size()) == 0) refuse();
  const std::size_t pixels = static_cast<std::size_t>(image.width) * image.height;
  if (pixels > most_pixels) {
    throw Error(ErrorKind::memory,
                fmt::format("picture of {}x{} pixels, expected at most {} pixels", image.width,
                            image.height, most_pixels),
                Place{path});
  }
  image.format = PNG_FORMAT_RGBA;
  std::vector<std::uint8_t> with_alpha(4 * pixels);
  if (png_image_finish_read(&image, nullptr, with_alpha.data(), 0, nullptr) == 0) refuse();
  Picture picture(Size{static_cast<int>(image.width), static_cast<int>(image.height)});
  for (std::size_t i = 0; i < pixels; ++i) {
    for (int channel = 0; channel < 3; ++channel) {
      picture.bytes[3 * i + channel] = with_alpha[4 * i + channel];
    }
  }
  return picture;
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
