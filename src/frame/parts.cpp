#include "frame/parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdint>

#include "photonlane/base/error.hpp"

namespace photonlane {

void paste(const Frame& from, const PixelPart& part, int x, int y, Frame& to) {
  const auto copy = [&](const auto& source, const auto& target) {
    for (int row = 0; row < part.size.height; ++row) {
      std::copy_n(source.row(part.y + row).begin() + part.x, part.size.width,
                  target.row(y + row).begin() + x);
    }
  };
  each_plane(
      to,
      [&](Layer layer, int channel) {
        copy(from.values(layer, channel), to.values(layer, channel));
      },
      [&](Layer layer) { copy(from.codes(layer), to.codes(layer)); });
}

void copy_layers(const Frame& from, LayerSet layers, Frame& to) {
  for (const Layer layer : layers.list()) {
    if (!from.has(layer)) continue;
    const LayerInfo& info = layer_info(layer);
    for (int channel = 0; channel < info.channels; ++channel) {
      for (int y = 0; y < to.size().height; ++y) {
        if (info.codes) {
          std::ranges::copy(from.codes(layer).row(y), to.codes(layer).row(y).begin());
        } else {
          std::ranges::copy(from.values(layer, channel).row(y),
                            to.values(layer, channel).row(y).begin());
        }
      }
    }
  }
}

void check_memory(Size size, LayerSet layers, std::size_t limit) {
  const std::size_t bytes = Frame::memory_bytes(size, layers);
  if (bytes <= limit) return;
  throw Error(ErrorKind::memory,
              fmt::format("a frame of {}x{} pixels needs {:.1f} GiB for its layers, the limit is "
                          "{:.1f} GiB",
                          size.width, size.height, static_cast<double>(bytes) / 0x1p30,
                          static_cast<double>(limit) / 0x1p30));
}

void check_part(const PixelPart& part, Size whole) {
  const auto fits = [](int from, int size, int most) {
    return from >= 0 && size >= 1 && std::int64_t{from} + size <= most;
  };
  if (fits(part.x, part.size.width, whole.width) && fits(part.y, part.size.height, whole.height)) {
    return;
  }
  throw Error(
      ErrorKind::input,
      fmt::format("a part of {}x{} pixels at {}, {} of a frame of {}x{}, expected one within "
                  "it",
                  part.size.width, part.size.height, part.x, part.y, whole.width, whole.height));
}

}  // namespace photonlane
