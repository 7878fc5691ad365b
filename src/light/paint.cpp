#include "light/paint.hpp"

#include <cmath>

namespace photonlane {
namespace {

/// Where a place is within a tile, from 0 to 1.
float phase(double meters, double tiles_a_meter) {
  const double tiles = meters * tiles_a_meter;
  return static_cast<float>(tiles - std::floor(tiles));
}

/// Lays the texture on a face: u to the right as one stands before a wall, v up from the floor; on
/// the floor north is up, and the ceiling is seen from below.
void lay(PaintEntry& entry, Face face, double across, double up, const Vec3d& eye) {
  const bool wall_along_y = face == Face::east || face == Face::west;
  const bool mirrored = face == Face::west || face == Face::north;
  const float turn_u = mirrored ? -1 : 1;
  const auto u = static_cast<float>(across);
  const auto v = static_cast<float>(up);
  (wall_along_y ? entry.u_y : entry.u_x) = turn_u * u;
  entry.u_0 = turn_u * phase(wall_along_y ? eye.y() : eye.x(), across);
  // On curved faces a texture lies as seen from above.
  const bool level = face == Face::floor || face == Face::ceiling || face == Face::curved;
  const float turn_v = face == Face::ceiling ? -1 : 1;
  (level ? entry.v_y : entry.v_z) = turn_v * v;
  entry.v_0 = turn_v * phase(level ? eye.y() : eye.z(), up);
  (level ? entry.normal_z : wall_along_y ? entry.normal_x : entry.normal_y) = 1;
}

}  // namespace

PaintTable::PaintTable(const std::vector<Material>& materials, const TextureSet& set,
                       const Vec3d& eye, const TextureBudget& budget, double angle, float shade)
    : textures(&set),
      sampling(budget.sampling),
      taps(static_cast<float>(budget.taps)),
      pixel_angle(static_cast<float>(angle)) {
  bool any_density = false;
  for (const Material& material : materials) {
    const bool textured = material.texture >= 0;
    const auto level = textured ? material.texture * TextureSet::levels : -1;
    clear = clear || material.opacity < 1 || material.density > 0 ||
            (textured && set.any_clear(static_cast<std::size_t>(material.texture)));
    for (std::uint32_t i = 0; i < faces; ++i) {
      const auto face = static_cast<Face>(i);
      const bool shaded = face == Face::north || face == Face::south;
      const Color base = material.base * (shaded ? shade : 1);
      PaintEntry entry{base[0], base[1], base[2], static_cast<float>(material.opacity)};
      entry.level = level;
      entry.first = set.white();
      entry.width = entry.height = 1;
      if (textured) {
        entry.first = set.first()[level];
        entry.width = set.width()[level];
        entry.height = set.height()[level];
        const double across = 1 / material.tile;
        const double up = across * entry.width / entry.height;
        entry.texels = static_cast<float>(across * entry.width);
        if (face != Face::panel) lay(entry, face, across, up, eye);
      }
      entries.push_back(entry);
    }
    density.push_back(static_cast<float>(material.density));
    any_density = any_density || material.density > 0;
  }
  if (!any_density) density.clear();
}

}  // namespace photonlane
