#include "light/paint.hpp"

#include <cmath>

namespace photonlane {
namespace {

/// Where a place is within a tile, from 0 to 1.
float phase(double meters, double tiles_a_meter) {
  const double tiles = meters * tiles_a_meter;
  return static_cast<float>(tiles - std::floor(tiles));
}

}  // namespace

PaintTable::PaintTable(const std::vector<Material>& materials, const TextureSet& set,
                       const Vec3d& eye, const TextureBudget& budget, double angle, float shade)
    : textures(&set),
      sampling(budget.sampling),
      taps(static_cast<float>(budget.taps)),
      pixel_angle(static_cast<float>(angle)),
      north_shade(shade) {
  for (const Material& material : materials) {
    red.push_back(material.base[0]);
    green.push_back(material.base[1]);
    blue.push_back(material.base[2]);
    opacity.push_back(static_cast<float>(material.opacity));
    texture.push_back(material.texture);
    double tiles_across = 1 / material.tile;
    double tiles_up = tiles_across;
    if (material.texture >= 0) {
      const std::size_t level = static_cast<std::size_t>(material.texture) * TextureSet::levels;
      tiles_up *= static_cast<double>(set.width()[level]) / set.height()[level];
      clear = clear || set.any_clear(static_cast<std::size_t>(material.texture));
    }
    clear = clear || material.opacity < 1;
    across.push_back(static_cast<float>(tiles_across));
    up.push_back(static_cast<float>(tiles_up));
    phase_x.push_back(phase(eye.x(), tiles_across));
    phase_y.push_back(phase(eye.y(), tiles_across));
    phase_up_y.push_back(phase(eye.y(), tiles_up));
    phase_up_z.push_back(phase(eye.z(), tiles_up));
  }
}

}  // namespace photonlane
