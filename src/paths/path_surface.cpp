#include "paths/path_surface.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane {

ScatterSurface scatter_surface(const std::vector<Material>& materials, const Surfaces& surfaces,
                               std::size_t i, const Colors& colors, bool inside) {
  const Material& material = materials[surfaces.material[i]];
  ScatterSurface result;
  result.opacity = std::clamp(colors.alpha[i], 0.0f, 1.0f);
  // Colors are times their opacity.
  const float whole = result.opacity > 1e-6f ? 1 / result.opacity : 0;
  result.base = Color(colors.red[i], colors.green[i], colors.blue[i]) * whole;
  result.base = result.base.max(0.0f).min(1.0f);
  // Its light is in its color, and goes on from there as it is.
  if (surfaces.picture(i)) result.base = Color(0, 0, 0);
  result.tint = material.tint;
  double metal = material.metal;
  double specular = material.specular;
  double roughness = material.roughness;
  if (surfaces.face[i] == Face::curved && surfaces.share[i] > 0) {
    const Material& other = materials[surfaces.other[i]];
    const auto share = static_cast<double>(surfaces.share[i]);
    metal += (other.metal - metal) * share;
    specular += (other.specular - specular) * share;
    roughness += (other.roughness - roughness) * share;
  }
  result.metal = static_cast<float>(metal);
  result.specular = static_cast<float>(specular);
  result.roughness = static_cast<float>(roughness);
  if (surfaces.face[i] == Face::floor && material.wetness > 0 && !(specular > 0)) {
    // A film of water.
    result.specular = 0.02f;
    result.film = static_cast<float>(material.wetness);
  }
  result.body = material.bends() && surfaces.face[i] == Face::curved;
  if (material.index > 1 && (result.body || result.opacity < 1)) {
    const auto index = static_cast<float>(material.index);
    result.index = result.body && inside ? 1 / index : index;
  }
  // Colored where it is gone into, not once more where it is left.
  if (result.body && inside) result.tint = Color(1, 1, 1);
  result.leaf = surfaces.face[i] == Face::panel;
  return result;
}

Color emission_of(const std::vector<Material>& materials, const Surfaces& surfaces, std::size_t i,
                  const Colors& colors) {
  if (surfaces.picture(i)) return {colors.red[i], colors.green[i], colors.blue[i]};
  const Material& material = materials[surfaces.material[i]];
  double glow = material.glow;
  Color own = material.emission;
  if (surfaces.face[i] == Face::curved && surfaces.share[i] > 0) {
    const Material& other = materials[surfaces.other[i]];
    glow += (other.glow - glow) * static_cast<double>(surfaces.share[i]);
    own += (other.emission - own) * surfaces.share[i];
  }
  return Color(colors.red[i], colors.green[i], colors.blue[i]) * static_cast<float>(glow) +
         own * colors.alpha[i];
}

Vec3d SurfaceFrame::to_room(const Way& way) const {
  const Vec3d room(
      static_cast<double>(way.x * across.one.x + way.y * across.two.x + way.z * normal.x),
      static_cast<double>(way.x * across.one.y + way.y * across.two.y + way.z * normal.y),
      static_cast<double>(way.x * across.one.z + way.y * across.two.z + way.z * normal.z));
  return room.normalized();
}

Way toward_lane(const SurfaceFrame& frame, float way_x, float way_y, float way_z) {
  Way out = frame.from_room(-way_x, -way_y, -way_z);
  out.z = std::max(out.z, 1e-4f);
  const float scale = 1 / std::sqrt(out.x * out.x + out.y * out.y + out.z * out.z);
  return {out.x * scale, out.y * scale, out.z * scale};
}

}  // namespace photonlane
