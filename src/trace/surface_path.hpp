#pragma once

#include <functional>

#include "base/stage_clock.hpp"
#include "trace/room_view.hpp"
#include "trace/sight.hpp"

namespace photonlane {

/// Sets the eye of each of so many lanes.
using EyesOf = std::function<void(LaneRays& rays, std::size_t size)>;

/// What the lanes of some pixels see, one surface after the other: what stands in the map, and the
/// panels before it.
class SurfacePath {
 public:
  SurfacePath(const RoomView& here, Sight& sight, bool wants_data, const EyesOf& eyes)
      : panels_(here.panels), sight_(sight) {
    solids_.wants_data = wants_data;
    sight_.nearest(solids_);
    if (panels_.empty()) return;
    sight_.rays(solids_, rays_);
    if (eyes) eyes(rays_, solids_.size);
    std::fill_n(starts_.t, solids_.size, 0.0f);
    std::fill_n(starts_.panel, solids_.size, -1);
    cover();
  }

  Surfaces& seen() { return panels_.empty() ? solids_ : seen_; }

  /// What is behind, where it is wanted.
  void go_on(const bool* wanted) {
    if (panels_.empty()) {
      sight_.behind(wanted, solids_);
      return;
    }
    bool behind[Surfaces::capacity];
    bool any = false;
    for (std::size_t i = 0; i < solids_.size; ++i) {
      const bool panel = nearest_[i] >= 0;
      behind[i] = wanted[i] && !panel;
      any = any || behind[i];
      if (wanted[i]) {
        starts_.t[i] = seen_.t[i];
        starts_.panel[i] = panel ? nearest_[i] : -1;
      }
    }
    if (any) sight_.behind(behind, solids_);
    cover();
  }

 private:
  void cover() {
    const StageScope stage(Work::sprites, solids_.size);
    seen_ = solids_;
    panels_.cover(rays_, starts_, seen_, nearest_);
  }

  const Panels& panels_;
  Sight& sight_;
  Surfaces solids_;
  Surfaces seen_;
  LaneRays rays_;
  PanelStarts starts_;
  std::int32_t nearest_[Surfaces::capacity];
};

}  // namespace photonlane
