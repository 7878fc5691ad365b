#include "photonlane/frame/frame.hpp"

#include <fmt/format.h>

#include "base/stopwatch.hpp"
#include "frame/fill_kernel.hpp"

namespace photonlane {
namespace {

constexpr std::size_t values_per_line = 16;

std::ptrdiff_t stride_of(int width) {
  return static_cast<std::ptrdiff_t>((width + values_per_line - 1) / values_per_line *
                                     values_per_line);
}

}  // namespace

const LayerInfo& layer_info(Layer layer) {
  if (static_cast<std::size_t>(layer) >= layer_count) {
    throw Error(ErrorKind::usage,
                fmt::format("no layer has number {}", static_cast<std::size_t>(layer)));
  }
  static const std::array<LayerInfo, layer_count> table{{
      {"", "linear light", 3, false},
      {"", "sRGB bytes, ready to show", 1, true},
      {"m", "distance along the view axis", 1, false},
      {"m", "distance along the ray", 1, false},
      {"", "side that was met", 1, true},
      {"", "cell that was met", 1, true},
      {"steps", "steps of the lane", 1, true},
      {"", "how the lane ended", 1, true},
      {"", "which way the surface faces", 3, false},
      {"", "material that was met", 1, true},
      {"evaluations", "evaluations of fields for the lane alone", 1, true},
      {"m", "least value of a field along the lane", 1, false},
      {"", "where a field changed by more than it says it can", 1, true},
      {"", "portals the lane went through", 1, true},
      {"", "room the lane ended in", 1, true},
      {"steps", "steps until a plane's point escapes, with their fraction", 1, false},
      {"pixels", "how far the edge of the inside is from a plane's point", 1, false},
      {"", "how near the orbit of a plane's point comes to the trap", 1, false},
      {"ns", "time of a thread for the pixel's lanes", 1, false},
      {"", "counted work of the pixel's lanes, about nanoseconds of a plain machine", 1, false},
      {"", "how much of the pixel is covered by what is not backdrop", 1, false},
      {"pixels", "how far what is seen moves until another time, to the right and down", 2, false},
      {"", "radiance of light that goes by paths, without upper limit", 3, false},
      {"", "bounces of the pixel's paths, as mean", 1, false},
      {"", "samples of the pixel", 1, false},
      {"", "variance of the pixel's radiance, as mean of its channels", 1, false},
      {"", "radiance that the first surfaces of the pixel's paths emit", 3, false},
      {"", "albedo of the first surfaces of the pixel's paths", 3, false},
      {"", "radiance that is seen straight", 3, false},
      {"", "radiance that was thrown back once", 3, false},
      {"", "radiance that was thrown back twice", 3, false},
      {"", "radiance that was thrown back three times", 3, false},
      {"", "radiance that was thrown back four times", 3, false},
      {"", "radiance that was thrown back five times", 3, false},
      {"", "radiance that was thrown back six times", 3, false},
      {"", "radiance that was thrown back seven times", 3, false},
  }};
  return table[static_cast<std::size_t>(layer)];
}

std::size_t Frame::memory_bytes(Size size, LayerSet layers) {
  std::size_t bytes = 0;
  for (const Layer layer : layers.list()) {
    bytes += static_cast<std::size_t>(stride_of(size.width)) * size.height * sizeof(float) *
             layer_info(layer).channels;
  }
  return bytes;
}

Frame::Frame(Size size, LayerSet layers) : Frame(size, layers, Frame()) {}

Frame::Frame(Size size, LayerSet layers, Frame recycle)
    : size_(size),
      stride_(stride_of(size.width)),
      layers_(layers),
      buffers_(std::move(recycle.buffers_)) {
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    if (layers.has(layer)) buffers_[i].resize(memory_bytes(size, {layer}));
  }
}

void Frame::add(Layer layer) {
  if (has(layer)) return;
  buffers_[static_cast<std::size_t>(layer)].resize(memory_bytes(size_, {layer}));
  layers_.add(layer);
}

void* Frame::plane(Layer layer, int channel, bool codes) const {
  const LayerInfo& info = layer_info(layer);
  if (!has(layer) || info.codes != codes || channel < 0 || channel >= info.channels) {
    throw Error(ErrorKind::usage, fmt::format("the frame has no {} in layer {}, channel {}",
                                              codes ? "codes" : "values", name_of(layer), channel));
  }
  return buffers_[static_cast<std::size_t>(layer)].data<float>() + channel * stride_ * size_.height;
}

Plane<float> Frame::values(Layer layer, int channel) {
  return {static_cast<float*>(plane(layer, channel, false)), size_.width, size_.height, stride_};
}
Plane<const float> Frame::values(Layer layer, int channel) const {
  return {static_cast<const float*>(plane(layer, channel, false)), size_.width, size_.height,
          stride_};
}
Plane<std::uint32_t> Frame::codes(Layer layer) {
  return {static_cast<std::uint32_t*>(plane(layer, 0, true)), size_.width, size_.height, stride_};
}
Plane<const std::uint32_t> Frame::codes(Layer layer) const {
  return {static_cast<const std::uint32_t*>(plane(layer, 0, true)), size_.width, size_.height,
          stride_};
}

void encode_display(Frame& frame) {
  const Stopwatch watch;
  frame.add(Layer::display);
  const Plane<std::uint32_t> display = frame.codes(Layer::display);
  for (int y = 0; y < frame.size().height; ++y) {
    encode_row(frame.values(Layer::color, 0).row(y).data(),
               frame.values(Layer::color, 1).row(y).data(),
               frame.values(Layer::color, 2).row(y).data(), display.row(y).data(),
               frame.size().width, 0, y);
  }
  frame.cost.encode_ms += watch.milliseconds();
}

}  // namespace photonlane
