#pragma once

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// Calls put(plane of the whole, channel) for every plane of every layer.
template <class Floats, class Codes>
void each_plane(Frame& frame, const Floats& floats, const Codes& codes) {
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    if (!frame.has(layer)) continue;
    const LayerInfo& info = layer_info(layer);
    for (int channel = 0; channel < info.channels; ++channel) {
      info.codes ? codes(layer) : floats(layer, channel);
    }
  }
}

/// Copies a part of a frame into another one, from a pixel of that on. Both have the same layers.
void paste(const Frame& from, const PixelPart& part, int x, int y, Frame& to);

/// Whether one lane a column is cast.
bool by_columns(const World& world, const Camera& camera, const Budget& budget);

/// What is made for the sake of a part: the whole blocks that it lies in; of planes itself.
PixelPart made_part(const World& world, const Camera& camera, const Budget& budget,
                    const PixelPart& part);

/// Pixels that are worked at together, from a multiple of its sides on: the smallest part that
/// costs nothing more than its pixels. All of the frame where none can be made without the rest.
Size block_size(const World& world, const Camera& camera, const Budget& budget);

/// Copies those of some layers that a frame has into another one of its size.
void copy_layers(const Frame& from, LayerSet layers, Frame& to);

/// Throws what render() throws for what cannot be.
void check_frame(const World& world, const Camera& camera, const Budget& budget,
                 const RenderOptions& options);

/// Throws Error (memory) for layers of a frame that are over the limit.
void check_memory(Size size, LayerSet layers, std::size_t limit);

/// Throws Error (input) for a part without pixels, or that is not within a frame.
void check_part(const PixelPart& part, Size whole);

}  // namespace photonlane
