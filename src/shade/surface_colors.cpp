#include "shade/surface_colors.hpp"

#include <cmath>

#include "base/shared_exponent.hpp"
#include "base/stage_clock.hpp"
#include "light/surface_pattern.hpp"

namespace photonlane {
namespace {

/// Textures on curved faces, wrapped from three sides: as they lie on a floor and on walls, blended
/// by how the surface faces.
void wrap_textures(const PaintTable& paint, const Surfaces& surfaces, const Reach& reach,
                   Colors& colors) {
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    any = any || (surfaces.face[i] == Face::curved && surfaces.ending[i] == Ending::hit &&
                  paint.at(surfaces.material[i], Face::curved).level >= 0);
  }
  if (!any) return;
  Surfaces turned = surfaces;
  Colors wrapped = colors;
  float sum[Surfaces::capacity] = {};
  for (const Face side : {Face::east, Face::south, Face::floor}) {
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (surfaces.face[i] == Face::curved) turned.face[i] = side;
    }
    turned.pad();
    Colors one;
    paint_surfaces(turned, paint, reach, one);
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      const PaintEntry& entry = paint.at(surfaces.material[i], Face::curved);
      if (surfaces.face[i] != Face::curved || entry.level < 0) continue;
      const float along = side == Face::east    ? surfaces.normal_x[i]
                          : side == Face::south ? surfaces.normal_y[i]
                                                : surfaces.normal_z[i];
      const float weight = along * along * along * along;
      const auto add = [&](float& to, float from) { to = (sum[i] == 0 ? 0 : to) + weight * from; };
      // Walls toward the south may be darker; curved faces are not.
      const PaintEntry& laid = paint.at(surfaces.material[i], side);
      const auto undo = [](float plain, float shaded) { return shaded > 0 ? plain / shaded : 1; };
      add(wrapped.red[i], one.red[i] * undo(entry.red, laid.red));
      add(wrapped.green[i], one.green[i] * undo(entry.green, laid.green));
      add(wrapped.blue[i], one.blue[i] * undo(entry.blue, laid.blue));
      add(wrapped.alpha[i], one.alpha[i]);
      sum[i] += weight;
    }
  }
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (sum[i] == 0) continue;
    const float share = 1 / sum[i];
    colors.red[i] = wrapped.red[i] * share;
    colors.green[i] = wrapped.green[i] * share;
    colors.blue[i] = wrapped.blue[i] * share;
    colors.alpha[i] = wrapped.alpha[i] * share;
  }
}

/// Colors by texture and pattern, evened out over what a pixel covers `reach` meters from the eye.
/// True where some alpha is below 1.
bool paint_plainly(const SceneView& view, const RoomView& here, const Surfaces& surfaces,
                   const Reach& reach, Colors& colors) {
  const bool clear = paint_surfaces(surfaces, here.paint, reach, colors);
  if (surfaces.any_curved && view.world.textures().size() > 0) {
    wrap_textures(here.paint, surfaces, reach, colors);
  }
  if (view.patterned) {
    const StageScope stage(Work::pattern, surfaces.size);
    lay_patterns(surfaces, view.world.materials(), here.origin, here.paint.pixel_angle, reach,
                 colors);
  }
  return clear;
}

}  // namespace

bool paint_all(const SceneView& view, const RoomView& here, const Surfaces& surfaces,
               const Reach& reach, Colors& colors) {
  const StageScope stage(Work::paint, surfaces.size);
  bool clear = paint_plainly(view, here, surfaces, reach, colors);
  if (!surfaces.any_curved) return clear;
  bool mixed = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.face[i] != Face::curved || surfaces.ending[i] != Ending::hit) continue;
    mixed = mixed || surfaces.share[i] > 0;
    if (surfaces.share[i] >= 0) continue;
    if (is_lit_color(surfaces.share[i]) && surfaces.share[i] < lit_color) {
      colors.alpha[i] *= alpha_of_lit(surfaces.share[i]);
      clear = true;
    }
    const Color own =
        (surfaces.share[i] == own_color ? color_from_code(surfaces.other[i])
                                        : color_from_shared_exponent(surfaces.other[i])) *
        colors.alpha[i];
    colors.red[i] = own[0];
    colors.green[i] = own[1];
    colors.blue[i] = own[2];
  }
  if (!mixed) return clear;
  Surfaces others = surfaces;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.face[i] == Face::curved && surfaces.share[i] > 0) {
      others.material[i] = surfaces.other[i];
    }
  }
  others.pad();
  Colors second;
  clear = paint_plainly(view, here, others, reach, second) || clear;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (others.material[i] == surfaces.material[i]) continue;
    const auto mix = [&](float& color, float to) { color += (to - color) * surfaces.share[i]; };
    mix(colors.red[i], second.red[i]);
    mix(colors.green[i], second.green[i]);
    mix(colors.blue[i], second.blue[i]);
    mix(colors.alpha[i], second.alpha[i]);
  }
  return clear;
}

bool soften(const PaintTable& paint, const Surfaces& surfaces, Colors& colors) {
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const float density = paint.density[surfaces.material[i]];
    if (density == 0 || surfaces.ending[i] != Ending::hit) continue;
    const float hidden = 1 - std::exp(-density * surfaces.thickness[i]);
    colors.red[i] *= hidden;
    colors.green[i] *= hidden;
    colors.blue[i] *= hidden;
    colors.alpha[i] *= hidden;
    any = true;
  }
  return any;
}

}  // namespace photonlane
