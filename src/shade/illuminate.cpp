#include "shade/illuminate.hpp"

#include <algorithm>
#include <cmath>

#include "base/stage_clock.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/light/optics.hpp"
#include "room/portal_faces.hpp"
#include "shade/corners.hpp"
#include "shade/shadow.hpp"
#include "trace/crossing.hpp"

namespace photonlane {
namespace {

/// Adds one more light to what there is, as 1 - (1 - a)(1 - b).
void add_light(float& sum, float light) {
  sum = 1 - (1 - sum) * (1 - std::clamp(light, 0.0f, 1.0f));
}

/// How squarely light falls on a surface. Panels are thin: they are lit from behind as well.
float facing(const Surfaces& surfaces, std::size_t i, const Normal& normal, float x, float y,
             float z) {
  const float cosine = normal.x * x + normal.y * y + normal.z * z;
  return surfaces.face[i] == Face::panel ? 0.5f + 0.5f * cosine : std::max(cosine, 0.0f);
}

/// Surfaces of pictures, but for their background.
bool is_lit(const Surfaces& surfaces, std::size_t i) {
  return surfaces.picture(i) && is_lit_color(surfaces.share[i]);
}

/// The light that falls on surfaces, and what they throw back of it toward the eye.
struct Falling {
  Light light;
  Light gleam;
};

/// Adds the light of one lamp or the sun: of so much of its color, from a direction.
class Shine {
 public:
  Shine(const LookedAt& seen, const Color& color, Falling& falling)
      : seen_(seen), color_(color), falling_(falling) {}

  void add(std::size_t i, const Normal& normal, float x, float y, float z, float amount, float red,
           float green, float blue) {
    Light& light = falling_.light;
    red *= color_[0] * amount;
    green *= color_[1] * amount;
    blue *= color_[2] * amount;
    add_light(light.red[i], red);
    add_light(light.green[i], green);
    add_light(light.blue[i], blue);
    if (seen_.gloss == nullptr || !seen_.gloss->glossy[i]) return;
    const Gloss& gloss = *seen_.gloss;
    const float eye_x = -seen_.rays.x[i];
    const float eye_y = -seen_.rays.y[i];
    const float eye_z = -seen_.rays.z[i];
    const float half_x = x + eye_x;
    const float half_y = y + eye_y;
    const float half_z = z + eye_z;
    const float length = std::sqrt(half_x * half_x + half_y * half_y + half_z * half_z);
    if (!(length > 1e-6f)) return;
    const Facets facets{normal.x * x + normal.y * y + normal.z * z, gloss.cosine[i],
                        (normal.x * half_x + normal.y * half_y + normal.z * half_z) / length,
                        (x * half_x + y * half_y + z * half_z) / length};
    if (facets.light <= 0) return;
    const float share = highlight(facets, gloss.roughness[i]);
    const auto gleam = [&](float& sum, float straight, float amount_of) {
      sum += share * mirror_reflectance(facets.light_to_half, straight) * amount_of;
    };
    gleam(falling_.gleam.red[i], gloss.straight_red[i], red);
    gleam(falling_.gleam.green[i], gloss.straight_green[i], green);
    gleam(falling_.gleam.blue[i], gloss.straight_blue[i], blue);
  }

 private:
  const LookedAt& seen_;
  const Color& color_;
  Falling& falling_;
};

/// Whether a line from a surface goes through the faces on the way to a light, each before
/// `length`, whatever stands between.
bool leads_there(const SceneView& view, const RoomView& here, std::span<const FaceOf> way,
                 const Surfaces& surfaces, std::size_t i, Vec3d toward, double length) {
  Vec3d from = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
  const RoomView* room = &here;
  std::int32_t came_out = -1;
  for (const FaceOf& one : way) {
    const PortalFace& face = room->face(static_cast<std::uint32_t>(one.face));
    const double at = face.meet(from, toward, 0, one.face == came_out);
    if (!(at < length)) return false;
    const Crossing crossing = room->room.portals->cross(one.face, from + at * toward, toward);
    from = crossing.place;
    toward = crossing.way;
    length = (length - at) * crossing.scale;
    room = &view.rooms[crossing.room];
    came_out = crossing.twin;
  }
  return true;
}

/// A sun, which may shine through portals.
struct SunLight {
  Vec3d direction;
  Color color;
  double size;
  std::span<const FaceOf> way;
};

void add_sun(const SceneView& view, const RoomView& here, const LightBudget& budget,
             const PixelPlace& place, const SunLight& sun, const LookedAt& seen, Falling& falling,
             Tally& tally) {
  const Surfaces& surfaces = seen.surfaces;
  const Vec3d& direction = sun.direction;

  const auto x = static_cast<float>(direction.x());
  const auto y = static_cast<float>(direction.y());
  const auto z = static_cast<float>(direction.z());
  Shine shine(seen, sun.color, falling);
  const double across = std::hypot(direction.x(), direction.y());
  Asking asking;
  float squares[Surfaces::capacity];
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::hit) continue;
    const Normal normal = normal_of(surfaces, i);
    const float square = facing(surfaces, i, normal, x, y, z);
    if (square <= 0) continue;
    if (!sun.way.empty() &&
        !leads_there(view, here, sun.way, surfaces, i, direction, view.budget.far_limit)) {
      continue;
    }
    if (budget.sun_shadows == SunShadows::none) {
      shine.add(i, normal, x, y, z, square, 1, 1, 1);
    } else if (budget.sun_shadows == SunShadows::probe) {
      const double ahead = across > 0 ? budget.probe / across : 0;
      const Vec3d from = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
      const bool hidden =
          here.room.has_cells &&
          stands(here.cells().map(), from.x() + ahead * direction.x(),
                 from.y() + ahead * direction.y(), from.z() + ahead * direction.z());
      if (!hidden) shine.add(i, normal, x, y, z, square, 1, 1, 1);
    } else {
      squares[asking.lanes.size] = square;
      asking.add(view, here, surfaces, i, normal, x, y, z);
    }
  }
  if (asking.lanes.size == 0) return;
  asking.lanes.far_limit = static_cast<float>(view.budget.far_limit);
  float spread[Surfaces::capacity];
  const SineCosine half = sine_cosine(0.5 * sun.size);
  std::fill_n(spread, asking.lanes.size, static_cast<float>(half.sine / half.cosine));
  Light through;
  come_through(view, here, budget, place, asking, nullptr, spread, sun.way, through, tally);
  for (std::size_t k = 0; k < asking.lanes.size; ++k) {
    const std::size_t i = asking.of[k];
    shine.add(i, normal_of(surfaces, i), x, y, z, squares[k], through.red[k], through.green[k],
              through.blue[k]);
  }
}

void add_lamp(const SceneView& view, const RoomView& here, const LightBudget& budget,
              const PixelPlace& place, const Lamp& lamp, std::span<const FaceOf> way,
              const LookedAt& seen, Falling& falling, Tally& tally) {
  const Surfaces& surfaces = seen.surfaces;
  const Vec3d from_eye = lamp.place - here.origin;
  const auto range = static_cast<float>(lamp.range);
  Asking asking;
  float strength[Surfaces::capacity];
  float distance[Surfaces::capacity];
  float spread[Surfaces::capacity];
  Normal toward[Surfaces::capacity];
  Shine shine(seen, lamp.color, falling);
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::hit) continue;
    const float dx = static_cast<float>(from_eye.x()) - surfaces.x[i];
    const float dy = static_cast<float>(from_eye.y()) - surfaces.y[i];
    const float dz = static_cast<float>(from_eye.z()) - surfaces.z[i];
    const float square = dx * dx + dy * dy + dz * dz;
    if (square >= range * range || square == 0) continue;
    const float length = std::sqrt(square);
    const float x = dx / length;
    const float y = dy / length;
    const float z = dz / length;
    const Normal normal = normal_of(surfaces, i);
    const float fade = 1 - square / (range * range);
    const float amount =
        fade * fade * facing(surfaces, i, normal, x, y, z) * lamp_cone(lamp, -x, -y, -z);
    if (amount <= 0) continue;
    if (!way.empty() &&
        !leads_there(view, here, way, surfaces, i, Vec3d(x, y, z), static_cast<double>(length))) {
      continue;
    }
    if (budget.lamp_shadows == LampShadows::none) {
      shine.add(i, normal, x, y, z, amount, 1, 1, 1);
      continue;
    }
    const std::size_t k = asking.lanes.size;
    strength[k] = amount;
    toward[k] = {x, y, z};
    asking.add(view, here, surfaces, i, normal, x, y, z);
    // To the lamp from where the lane starts, a little off the surface.
    const Vec3d way_there =
        lamp.place - Vec3d(asking.lanes.x[k], asking.lanes.y[k], asking.lanes.z[k]);
    const double rest = std::max(way_there.norm(), 1e-9);
    distance[k] = static_cast<float>(rest);
    spread[k] = static_cast<float>(lamp.radius / rest);
    asking.lanes.direction_x[k] = static_cast<float>(way_there.x() / rest);
    asking.lanes.direction_y[k] = static_cast<float>(way_there.y() / rest);
    asking.lanes.direction_z[k] = static_cast<float>(way_there.z() / rest);
  }
  if (asking.lanes.size == 0) return;
  asking.lanes.far_limit = range;
  asking.lanes.any_limit = true;
  std::copy_n(distance, asking.lanes.size, asking.lanes.limit);
  std::fill(asking.lanes.limit + asking.lanes.size, std::end(asking.lanes.limit), 0.0f);
  Light through;
  come_through(view, here, budget, place, asking, distance, spread, way, through, tally);
  for (std::size_t k = 0; k < asking.lanes.size; ++k) {
    const std::size_t i = asking.of[k];
    shine.add(i, normal_of(surfaces, i), toward[k].x, toward[k].y, toward[k].z, strength[k],
              through.red[k], through.green[k], through.blue[k]);
  }
}

/// Without light of its own a room shows the form of what is curved by how it faces.
void shade_curved(const Surfaces& surfaces, Colors& colors) {
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.face[i] != Face::curved || surfaces.ending[i] != Ending::hit) continue;
    if (surfaces.picture(i)) continue;
    const float facing =
        0.36f * surfaces.normal_x[i] - 0.48f * surfaces.normal_y[i] + 0.8f * surfaces.normal_z[i];
    const float shade = 0.65f + 0.35f * facing;
    colors.red[i] *= shade;
    colors.green[i] *= shade;
    colors.blue[i] *= shade;
  }
}

/// What surfaces emit beside their glow, up to white.
void add_emission(const SceneView& view, const Surfaces& surfaces, Colors& colors) {
  if (!view.emits) return;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::hit) continue;
    const Color& emission = view.world.materials()[surfaces.material[i]].emission;
    if (!(emission > 0).any()) continue;
    const auto add = [&](float& color, float own) {
      color = std::min(color + own * colors.alpha[i], std::max(color, colors.alpha[i]));
    };
    add(colors.red[i], emission[0]);
    add(colors.green[i], emission[1]);
    add(colors.blue[i], emission[2]);
  }
}

/// All light that falls on surfaces in one room.
Falling fall(const SceneView& view, const RoomView& here, const LightBudget& budget,
             const PixelPlace& place, const LookedAt& seen, Tally& tally) {
  const Surfaces& surfaces = seen.surfaces;
  const Lighting& lighting = here.room.light;
  Falling falling;
  if (seen.gloss != nullptr) falling.gleam = {};
  Light& light = falling.light;
  {
    const StageScope stage(LaneKind::corners, Work::light, surfaces.size);
    add_ambient(view, here, budget, place, surfaces, light, tally);
  }
  if (lighting.sun) {
    const StageScope stage(LaneKind::sun, Work::light, surfaces.size);
    const Sun& sun = *lighting.sun;
    add_sun(view, here, budget, place, {sun_direction(sun), sun.color, sun.size, {}}, seen, falling,
            tally);
  }
  for (const Lamp& lamp : lighting.lamps) {
    const StageScope stage(LaneKind::lamps, Work::light, surfaces.size);
    add_lamp(view, here, budget, place, lamp, {}, seen, falling, tally);
  }
  for (const LightImage& image : here.images) {
    const StageScope stage(image.of_sun ? LaneKind::sun : LaneKind::lamps, Work::light,
                           surfaces.size);
    if (image.of_sun) {
      add_sun(view, here, budget, place,
              {image.toward, image.lamp.color, image.sun_size, image.way}, seen, falling, tally);
    } else {
      add_lamp(view, here, budget, place, image.lamp, image.way, seen, falling, tally);
    }
  }
  return falling;
}

/// Surfaces whose colors have their light in them.
bool any_lit(const Surfaces& surfaces) {
  if (!surfaces.any_curved) return false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (is_lit(surfaces, i)) return true;
  }
  return false;
}

/// Divides the light on surfaces whose colors have it in them by what fell there before anything
/// else was in the scene: what is left is a factor.
void take_out_light_before(const SceneView& view, const RoomView& here, const LightBudget& budget,
                           const PixelPlace& place, const LookedAt& seen, Light& light,
                           Tally& tally) {
  Surfaces lit = seen.surfaces;
  for (std::size_t i = 0; i < lit.size; ++i) {
    if (!is_lit(lit, i)) lit.ending[i] = Ending::escaped;
  }
  const SceneView& before = *view.before->view;
  const Falling fell =
      fall(before, before.rooms[here.index], budget, place, {lit, seen.rays, nullptr}, tally);
  for (std::size_t i = 0; i < lit.size; ++i) {
    if (lit.ending[i] != Ending::hit) continue;
    const auto share = [](float now, float then) {
      return then > 1e-6f ? std::clamp(now / then, 0.0f, 1.0f) : 1.0f;
    };
    light.red[i] = share(light.red[i], fell.light.red[i]);
    light.green[i] = share(light.green[i], fell.light.green[i]);
    light.blue[i] = share(light.blue[i], fell.light.blue[i]);
  }
}

}  // namespace

void illuminate(const SceneView& view, const RoomView& here, const LightBudget& budget,
                const PixelPlace& place, const LookedAt& seen, Colors& colors, Tally& tally) {
  const Surfaces& surfaces = seen.surfaces;
  const Lighting& lighting = here.room.light;
  if (!lighting.lit() && here.images.empty()) {
    if (surfaces.any_curved) shade_curved(surfaces, colors);
    add_emission(view, surfaces, colors);
    return;
  }
  Falling falling = fall(view, here, budget, place, seen, tally);
  Light& light = falling.light;
  const bool glossy = seen.gloss != nullptr;
  if (view.before != nullptr && any_lit(surfaces)) {
    take_out_light_before(view, here, budget, place, seen, light, tally);
  }
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::hit) continue;
    if (surfaces.placeless(i)) continue;
    const auto glow = static_cast<float>(view.world.materials()[surfaces.material[i]].glow);
    colors.red[i] *= std::max(light.red[i], glow);
    colors.green[i] *= std::max(light.green[i], glow);
    colors.blue[i] *= std::max(light.blue[i], glow);
    if (!glossy || !seen.gloss->glossy[i]) continue;
    colors.red[i] += falling.gleam.red[i];
    colors.green[i] += falling.gleam.green[i];
    colors.blue[i] += falling.gleam.blue[i];
  }
  add_emission(view, surfaces, colors);
}

}  // namespace photonlane
