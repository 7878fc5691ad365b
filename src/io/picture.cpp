#include "photonlane/io/picture.hpp"

#include <fmt/format.h>
#include <png.h>

#include <cerrno>
#include <csetjmp>
#include <cstdio>
#include <cstring>

#include "io/files.hpp"
#include "io/png_rows.hpp"

namespace photonlane::io {
namespace {

/// libpng's own record of a picture, freed whatever happens.
struct PngImage : png_image {
  PngImage() : png_image{} { version = PNG_IMAGE_VERSION; }
  ~PngImage() { png_image_free(this); }
  PngImage(const PngImage&) = delete;
  PngImage& operator=(const PngImage&) = delete;
};

/// Pixels as textures keep them: red | green << 8 | blue << 16 | alpha << 24.
Texture read_pixels(const std::string& path, std::size_t most_pixels) {
  const std::string bytes = read_file(path, most_picture_bytes);
  constexpr std::size_t signature = 8;
  if (bytes.size() < signature ||
      png_sig_cmp(reinterpret_cast<png_const_bytep>(bytes.data()), 0, signature) != 0) {
    throw Error(ErrorKind::file, "is not a PNG file", Place{path});
  }
  PngImage image;
  const auto refuse = [&] {
    throw Error(ErrorKind::file, "is a damaged or incomplete PNG file", Place{path});
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
  Texture pixels{static_cast<int>(image.width), static_cast<int>(image.height),
                 std::vector<std::uint32_t>(count)};
  if (png_image_finish_read(&image, nullptr, pixels.texels.own().data(), 0, nullptr) == 0) refuse();
  return pixels;
}

/// What libpng calls where it cannot go on; the message is told by errno instead.
void leave(png_structp png, png_const_charp) { longjmp(png_jmpbuf(png), 1); }
void ignore(png_structp, png_const_charp) {}

/// Writes rows of red, green, blue and a byte that is left out. No object with a destructor is made
/// between setjmp and longjmp. False where it failed.
bool write_png_stream(std::FILE* file, const PngRows& rows, std::uint8_t* row) {
  png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, leave, ignore);
  if (png == nullptr) return false;
  png_infop info = png_create_info_struct(png);
  if (info == nullptr) {
    png_destroy_write_struct(&png, nullptr);
    return false;
  }
  if (setjmp(png_jmpbuf(png)) != 0) {
    png_destroy_write_struct(&png, &info);
    return false;
  }
  png_init_io(png, file);
  png_set_IHDR(png, info, static_cast<png_uint_32>(rows.size.width),
               static_cast<png_uint_32>(rows.size.height), 8, PNG_COLOR_TYPE_RGB,
               PNG_INTERLACE_NONE, PNG_COMPRESSION_TYPE_BASE, PNG_FILTER_TYPE_BASE);
  png_set_sRGB(png, info, PNG_sRGB_INTENT_PERCEPTUAL);
  png_set_filter(png, PNG_FILTER_TYPE_BASE, PNG_NO_FILTERS);
  png_set_compression_level(png, 3);
  png_write_info(png, info);
  png_set_filler(png, 0, PNG_FILLER_AFTER);
  for (int y = 0; y < rows.size.height; ++y) {
    rows.fill(y, row);
    png_write_row(png, row);
  }
  png_write_end(png, info);
  png_destroy_write_struct(&png, &info);
  return true;
}

}  // namespace

void write_png_rows(const std::string& path, const PngRows& rows) {
  if (rows.size.width <= 0 || rows.size.height <= 0) {
    throw Error(ErrorKind::usage, "a picture without pixels", Place{path});
  }
  std::vector<std::uint8_t> row(4 * static_cast<std::size_t>(rows.size.width));
  write_whole(path, [&](const std::string& temporary) {
    errno = 0;
    std::FILE* file = std::fopen(temporary.c_str(), "wb");
    bool written = file != nullptr && write_png_stream(file, rows, row.data());
    int problem = errno;
    if (file != nullptr && std::fclose(file) != 0) {
      if (written) problem = errno;
      written = false;
    }
    if (!written) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(problem)),
                  Place{path});
    }
  });
}

Picture read_png(const std::string& path, std::size_t most_pixels) {
  const Texture pixels = read_pixels(path, most_pixels);
  Picture picture(Size{pixels.width, pixels.height});
  for (std::size_t i = 0; i < pixels.texels.size(); ++i) {
    for (int channel = 0; channel < 3; ++channel) {
      picture.bytes[3 * i + channel] = static_cast<std::uint8_t>(pixels.texels[i] >> 8 * channel);
    }
  }
  return picture;
}

Texture read_texture(const std::string& path, std::size_t most_pixels) {
  Texture texture = read_pixels(path, most_pixels);
  try {
    validate(texture);
  } catch (const Error& error) {
    throw error.at(Place{path});
  }
  return texture;
}

void write_png(const std::string& path, const Picture& picture) {
  write_png_rows(path, {picture.size, [&](int y, std::uint8_t* row) noexcept {
                          for (int x = 0; x < picture.size.width; ++x) {
                            std::copy_n(picture.pixel(x, y), 3, row + 4 * x);
                          }
                        }});
}

std::string png_bytes(const Picture& picture) {
  PngImage image;
  image.width = static_cast<png_uint_32>(picture.size.width);
  image.height = static_cast<png_uint_32>(picture.size.height);
  image.format = PNG_FORMAT_RGB;
  png_alloc_size_t size = 0;
  const auto write = [&](void* to) {
    return png_image_write_to_memory(&image, to, &size, 0, picture.bytes.data(), 0, nullptr) != 0;
  };
  std::string bytes;
  bool made = write(nullptr);
  if (made) {
    bytes.resize(size);
    made = write(bytes.data());
    bytes.resize(size);
  }
  if (!made) throw Error(ErrorKind::memory, "a picture cannot be made a PNG");
  return bytes;
}

}  // namespace photonlane::io
