#pragma once

///   Frame frame = render(world, camera, budget, {.layers = {Layer::color, Layer::steps}});
///   frame = render(world, camera, budget, {.recycle = std::move(frame)});  // in the same memory

#include <functional>
#include <optional>
#include <span>

#include "photonlane/frame/frame.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// The layers that frames of a world have: of rooms, or of a plane; all but the display layer.
LayerSet measurable_layers(const World& world);

/// How a frame is made, as far as it does not change the picture.
struct RenderOptions {
  LayerSet layers{Layer::color};
  int threads = 0;  ///< 0: as many as the machine has
  /// Called now and then with the share done, in [0, 1], from one thread at a time. Return false
  /// to stop: render() then throws Error (cancelled).
  std::function<bool(double share)> progress;
  std::size_t memory_limit = std::size_t{8} << 30;  ///< bytes a frame may hold
  Frame recycle;  ///< a frame no longer needed; its memory is used again
  /// Only these pixels: the frame has their size, and the same bytes as the whole has there. What
  /// is worked at together is rendered together, so the tally is of somewhat more pixels: of blocks
  /// of 64x32 (128x16 where one lane a column is cast).
  std::optional<PixelPart> part;
  /// Of render_parts(): told of each part as it is done, from one thread at a time.
  std::function<void(std::size_t which, const Frame& part)> part_done;
};

/// Makes a frame of what the camera sees, within the budget. The same arguments give the same
/// bytes for any number of threads and any vector width.
///
/// Throws Error (input) for a camera that cannot be (see viewing()) or that is not between floor
/// and ceiling, and for a part that holds no pixel or is not within the frame, Error (memory) for a
/// frame over the limit, Error (cancelled) when told to stop.
Frame render(const World& world, const Camera& camera, const Budget& budget,
             RenderOptions options = {});

/// Several parts of one size, from top to bottom in one frame: a sample of a large one, without the
/// rest. The parts are shared out among the threads. Throws what render() throws, and Error (input)
/// for none, or for parts of several sizes.
Frame render_parts(const World& world, const Camera& camera, const Budget& budget,
                   std::span<const PixelPart> parts, RenderOptions options = {});

/// The frame of a plane before the next one of a zoom, and the window it shows.
struct PlaneBefore {
  const Frame* frame = nullptr;  ///< with the layers smooth_count and ending
  PlaneWindow window;
  double error = 0.05;  ///< steps, as root mean square, that taken pixels may be off by
};

/// The same, starting from the pixels of the frame before: where smooth counts go on evenly from
/// one of its pixels to the next they are taken from there. Some of those are iterated all the
/// same; where they are further off than allowed, fewer are taken, down to none. What was taken and
/// how far it is off is in the frame's report. Of layers, those of colors, smooth counts and
/// endings alone.
///
/// Throws Error (usage) for worlds of rooms, other layers, colors that tell something else than
/// smooth counts, and frames before without them; Error (input) for an error that is not above 0.
Frame render_after(const World& world, const Camera& camera, const Budget& budget,
                   const PlaneBefore& before, RenderOptions options = {});

}  // namespace photonlane
