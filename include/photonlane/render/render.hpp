#pragma once

#include <functional>

#include "photonlane/render/camera.hpp"
#include "photonlane/render/frame.hpp"
#include "photonlane/render/world.hpp"

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
};

/// Makes a frame of what the camera sees, within the budget. The same arguments give the same
/// bytes for any number of threads and any vector width.
///
/// Throws Error (input) for a camera that cannot be (see viewing()) or that is not between floor
/// and ceiling, Error (memory) for a frame over the limit, Error (cancelled) when told to stop.
Frame render(const World& world, const Camera& camera, const Budget& budget,
             RenderOptions options = {});

}  // namespace photonlane
