#pragma once

#include "lane/surfaces.hpp"
#include "light/paint.hpp"
#include "photonlane/light/material.hpp"
#include "photonlane/light/scatter.hpp"
#include "shade/shadow.hpp"

namespace photonlane {

/// How surface i of a batch scatters light, as it is painted. `inside`: the lane runs inside a body
/// that bends light.
ScatterSurface scatter_surface(const std::vector<Material>& materials, const Surfaces& surfaces,
                               std::size_t i, const Colors& colors, bool inside);

/// The radiance it emits.
Color emission_of(const std::vector<Material>& materials, const Surfaces& surfaces, std::size_t i,
                  const Colors& colors);

/// Directions in the frame of a normal, and back.
struct SurfaceFrame {
  Normal normal;
  Across across;

  explicit SurfaceFrame(const Normal& n) : normal(n), across(n) {}
  Way from_room(float x, float y, float z) const {
    return {x * across.one.x + y * across.one.y + z * across.one.z,
            x * across.two.x + y * across.two.y + z * across.two.z,
            x * normal.x + y * normal.y + z * normal.z};
  }
  Vec3d to_room(const Way& way) const;
};

/// Toward where a lane comes from; never behind the surface.
Way toward_lane(const SurfaceFrame& frame, float way_x, float way_y, float way_z);

}  // namespace photonlane
