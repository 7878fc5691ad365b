#pragma once

///   const View views[] = {{.camera = camera, .width = 0.5}, {.camera = camera, .left = 0.5, .width
///   = 0.5}}; const Frame frame = render_views(world, views, budget);

#include <span>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// One eye of several, and the part of the frame it fills: shares of the frame's width and height,
/// from its left and upper edge.
struct View {
  Camera camera;
  double left = 0;
  double top = 0;
  double width = 1;
  double height = 1;
};
/// The knobs of a part; the camera has its own.
std::span<const Knob<View>> view_knobs();

/// "view 2" for the index 1: how messages begin that are about a view.
std::string view_title(std::size_t index);

/// The pixels of a frame of that size that a view fills; neighbors share an edge.
PixelPart pixel_part(const View& view, Size size);

/// Frames side by side, from left to right with `gap` empty pixels between them, so that a layer of
/// all can be drawn by one scale. Throws Error (input) for none, and for frames that differ in
/// height or layers.
Frame beside(std::span<const Frame> frames, int gap = 4);

/// Several eyes in one frame, later views over earlier ones; what none fills is black, and has
/// met nothing. Tallies and costs are those of all views together. Throws what render() throws, and
/// Error (input) for no view, or a part that is not within the frame or holds no pixel.
Frame render_views(const World& world, std::span<const View> views, const Budget& budget,
                   RenderOptions options = {});

}  // namespace photonlane
