#include "live/encode.hpp"

#include <turbojpeg.h>

#include <memory>

namespace photonlane::live {
namespace {

std::string compress(const std::uint8_t* pixels, Size size, std::size_t row_bytes, int format,
                     int quality) {
  struct Done {
    void operator()(void* handle) const { tjDestroy(handle); }
  };
  // Each thread keeps its own: making one takes as long as a small picture.
  thread_local const std::unique_ptr<void, Done> handle(tjInitCompress());
  unsigned char* bytes = nullptr;
  unsigned long count = 0;
  const int sampling = quality >= 90 ? TJSAMP_444 : TJSAMP_420;
  const bool made = handle && tjCompress2(handle.get(), pixels, size.width,
                                          static_cast<int>(row_bytes), size.height, format, &bytes,
                                          &count, sampling, quality, TJFLAG_FASTDCT) == 0;
  const std::unique_ptr<unsigned char, decltype(&tjFree)> owner(bytes, &tjFree);
  if (!made) {
    throw Error(ErrorKind::memory, std::string("the picture could not be made a JPEG: ") +
                                       (handle ? tjGetErrorStr2(handle.get()) : "no memory"));
  }
  return std::string(reinterpret_cast<const char*>(bytes), count);
}

}  // namespace

std::string jpeg_bytes(const Frame& frame, int quality) {
  const auto display = frame.codes(Layer::display);
  return compress(reinterpret_cast<const std::uint8_t*>(display.data), frame.size(),
                  static_cast<std::size_t>(display.stride) * sizeof(std::uint32_t), TJPF_RGBX,
                  quality);
}

std::string jpeg_bytes(const io::Picture& picture, int quality) {
  return compress(picture.bytes.data(), picture.size,
                  3 * static_cast<std::size_t>(picture.size.width), TJPF_RGB, quality);
}

}  // namespace photonlane::live
