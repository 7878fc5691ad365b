#pragma once

#include <limits>
#include <vector>

#include "lane/surfaces.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane {

/// Light that a pixel gets from one distance, and how much of it that hides.
struct DeepPart {
  float z;
  float red, green, blue;
  float hides;
  bool open;  ///< more light comes from there later: of mirrors, glass and portals
};

/// Keeps what lanes from the eye see of each distance. Pixels are written by one thread each.
class DeepRecorder {
 public:
  DeepRecorder(const PixelPart& part, const Viewing& view)
      : part_(part),
        forward_(view.forward.cast<float>()),
        along_axis_(view.planar),
        pixels_(static_cast<std::size_t>(part.size.width) *
                static_cast<std::size_t>(part.size.height)) {}

  std::vector<DeepPart>& pixel(int x, int y) {
    return pixels_[static_cast<std::size_t>(y - part_.y) *
                       static_cast<std::size_t>(part_.size.width) +
                   static_cast<std::size_t>(x - part_.x)];
  }

  /// Along the view axis; of cameras that see all around, along the lane.
  float distance(const Surfaces& surfaces, std::size_t i) const {
    if (surfaces.ending[i] == Ending::escaped || surfaces.placeless(i)) {
      return std::numeric_limits<float>::infinity();
    }
    const Eigen::Vector3f at(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
    const float away = at.norm();
    // What is met right at the eye has no direction.
    if (!along_axis_ || !(away > 0)) return surfaces.t[i];
    return surfaces.t[i] * forward_.dot(at) / away;
  }

 private:
  PixelPart part_;
  Eigen::Vector3f forward_;
  bool along_axis_;
  std::vector<std::vector<DeepPart>> pixels_;
};

}  // namespace photonlane
