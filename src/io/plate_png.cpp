#include <fmt/format.h>
#include <png.h>

#include <csetjmp>
#include <cstring>

#include "io/files.hpp"
#include "io/plate_file.hpp"
#include "photonlane/base/color.hpp"
#include "photonlane/io/picture.hpp"

namespace photonlane::io {
namespace {

/// What libpng calls where it cannot go on.
void leave(png_structp png, png_const_charp) { longjmp(png_jmpbuf(png), 1); }
void ignore(png_structp, png_const_charp) {}

struct Bytes {
  const char* data;
  std::size_t left;
};

void read_bytes(png_structp png, png_bytep to, std::size_t count) {
  auto* const bytes = static_cast<Bytes*>(png_get_io_ptr(png));
  if (count > bytes->left) png_error(png, "");
  std::memcpy(to, bytes->data, count);
  bytes->data += count;
  bytes->left -= count;
}

/// Rows of numbers of 16 bits, big-endian. No object with a destructor is made between setjmp and
/// longjmp.
class GrayReader {
 public:
  explicit GrayReader(Bytes& bytes) {
    png_ = png_create_read_struct(PNG_LIBPNG_VER_STRING, nullptr, leave, ignore);
    if (png_ == nullptr) return;
    info_ = png_create_info_struct(png_);
    png_set_read_fn(png_, &bytes, read_bytes);
  }
  ~GrayReader() { png_destroy_read_struct(&png_, &info_, nullptr); }
  GrayReader(const GrayReader&) = delete;
  GrayReader& operator=(const GrayReader&) = delete;

  /// False where that failed.
  bool start() {
    if (info_ == nullptr || setjmp(png_jmpbuf(png_)) != 0) return false;
    png_read_info(png_, info_);
    return true;
  }
  std::uint64_t width() const { return png_get_image_width(png_, info_); }
  std::uint64_t height() const { return png_get_image_height(png_, info_); }
  bool gray() const { return png_get_color_type(png_, info_) == PNG_COLOR_TYPE_GRAY; }
  int bits() const { return png_get_bit_depth(png_, info_); }
  bool read(png_bytepp rows) {
    if (setjmp(png_jmpbuf(png_)) != 0) return false;
    png_read_image(png_, rows);
    return true;
  }

 private:
  png_structp png_ = nullptr;
  png_infop info_ = nullptr;
};

}  // namespace

PixelPlanes read_png_light(const std::string& path) {
  const Texture pixels = read_texture(path);
  const Size size{pixels.width, pixels.height};
  PixelPlanes result{size, {}, size};
  result.planes.resize(4);
  float light[256];
  for (int code = 0; code < 256; ++code) light[code] = from_display(static_cast<float>(code) / 255);
  for (std::vector<float>& plane : result.planes) plane.reserve(pixels.texels.size());
  for (std::size_t i = 0; i < pixels.texels.size(); ++i) {
    const std::uint32_t texel = pixels.texels[i];
    for (int channel = 0; channel < 3; ++channel) {
      result.planes[static_cast<std::size_t>(channel)].push_back(light[texel >> 8 * channel & 255]);
    }
    result.planes[3].push_back(static_cast<float>(texel >> 24) / 255);
  }
  return result;
}

PixelPlanes read_png_numbers(const std::string& path) {
  const std::string text = read_file(path, most_picture_bytes);
  Bytes bytes{text.data(), text.size()};
  GrayReader reader(bytes);
  const auto damaged = [&] {
    throw Error(ErrorKind::file, "is no PNG file, or a damaged or incomplete one", Place{path});
  };
  if (!reader.start()) damaged();
  constexpr std::uint64_t most = std::uint64_t{1} << 27;
  if (reader.width() * reader.height() > most) {
    throw Error(ErrorKind::memory,
                fmt::format("picture of {}x{} pixels, expected at most {} pixels", reader.width(),
                            reader.height(), most),
                Place{path});
  }
  if (!reader.gray() || reader.bits() < 8) {
    throw Error(ErrorKind::file, "is not a gray PNG file of 8 or 16 bits, as depth is",
                Place{path});
  }
  const auto width = static_cast<std::size_t>(reader.width());
  const auto height = static_cast<std::size_t>(reader.height());
  const std::size_t each = reader.bits() == 16 ? 2 : 1;
  std::vector<png_byte> pixels(width * height * each);
  std::vector<png_bytep> rows(height);
  for (std::size_t y = 0; y < height; ++y) rows[y] = pixels.data() + y * width * each;
  if (!reader.read(rows.data())) damaged();
  const Size size{static_cast<int>(width), static_cast<int>(height)};
  PixelPlanes result{size, {}, size};
  std::vector<float>& numbers = result.planes.emplace_back(width * height);
  for (std::size_t i = 0; i < numbers.size(); ++i) {
    numbers[i] = each == 1 ? static_cast<float>(pixels[i]) / 255
                           : static_cast<float>(pixels[2 * i] << 8 | pixels[2 * i + 1]) / 65535;
  }
  return result;
}

}  // namespace photonlane::io
