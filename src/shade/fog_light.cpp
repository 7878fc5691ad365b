#include "shade/fog_light.hpp"

#include <algorithm>
#include <cmath>

#include "base/stage_clock.hpp"
#include "photonlane/base/random.hpp"
#include "shade/shadow.hpp"

namespace photonlane {
namespace {

/// The share s of the way at which fog hides a share: s * s * (3 - 2 * s) turned around.
double way_to(double share) {
  return 0.5 - std::sin(std::asin(std::clamp(1 - 2 * share, -1.0, 1.0)) / 3);
}

}  // namespace

void light_fog(const SceneView& view, const RoomView& here, const PixelPlace& place,
               const LaneRays& rays, const float* distance, float* lit, Tally& tally) {
  const CompiledRoom& room = here.room;
  const Vec3d toward = sun_direction(*room.light.sun);
  const int samples = view.budget.light.fog_samples;
  std::fill_n(lit, rays.size, 1.0f);
  LightBudget hard = view.budget.light;
  hard.softness = Softness::hard;
  const float one_less = 1 / static_cast<float>(samples);
  for (int s = 0; s < samples; ++s) {
    Asking asking;
    const StageScope stage(Work::light, rays.size);
    asking.lanes.far_limit = static_cast<float>(view.budget.far_limit);
    for (std::size_t i = 0; i < rays.size; ++i) {
      const double share = fog_share(room.fog, distance[i]);
      if (!(share > 1.0 / 512)) continue;
      const double at =
          share * (s + static_cast<double>(drawn(place, i, Chance::fog_place))) / samples;
      const auto t =
          static_cast<float>(room.fog.start + way_to(at) * (room.fog.end - room.fog.start));
      const std::size_t k = asking.lanes.size++;
      asking.of[k] = i;
      asking.lanes.x[k] = static_cast<float>(here.origin.x()) + rays.from_x[i] + t * rays.x[i];
      asking.lanes.y[k] = static_cast<float>(here.origin.y()) + rays.from_y[i] + t * rays.y[i];
      asking.lanes.z[k] = static_cast<float>(here.origin.z()) + rays.from_z[i] + t * rays.z[i];
      asking.lanes.direction_x[k] = static_cast<float>(toward.x());
      asking.lanes.direction_y[k] = static_cast<float>(toward.y());
      asking.lanes.direction_z[k] = static_cast<float>(toward.z());
    }
    if (asking.lanes.size == 0) return;
    Light through;
    come_through(view, here, hard, place, asking, nullptr, nullptr, {}, through, tally);
    for (std::size_t k = 0; k < asking.lanes.size; ++k) {
      const float left = (through.red[k] + through.green[k] + through.blue[k]) / 3;
      lit[asking.of[k]] -= one_less * (1 - left);
    }
  }
}

void shade_fog(const RoomView& here, const float* distance, const float* lit, float share,
               const Through* through, std::size_t count, Colors& sums) {
  const Fog& fog = here.room.fog;
  const auto sunlit = static_cast<float>(fog.sunlit);
  for (std::size_t i = 0; i < count; ++i) {
    const float less = share * fog_share(fog, distance[i]) * sunlit * (1 - lit[i]);
    sums.red[i] -= less * fog.color[0] * (through == nullptr ? 1 : through->red[i]);
    sums.green[i] -= less * fog.color[1] * (through == nullptr ? 1 : through->green[i]);
    sums.blue[i] -= less * fog.color[2] * (through == nullptr ? 1 : through->blue[i]);
  }
}

}  // namespace photonlane
