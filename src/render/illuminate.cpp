#include "render/illuminate.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/grid/body.hpp"
#include "photonlane/light/optics.hpp"
#include "render/lane_sight.hpp"
#include "render/shadow.hpp"
#include "room/portal_faces.hpp"

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

/// True where something stands at a place in the map that reaches above a height.
bool stands(const CellMap& map, double x, double y, double height) {
  double column = std::floor(x / map.cell_size);
  double row = std::floor(y / map.cell_size);
  if (map.repeat) {
    column -= map.width * std::floor(column / map.width);
    row -= map.height * std::floor(row / map.height);
  }
  if (!(column >= 0 && row >= 0 && column < map.width && row < map.height)) return false;
  const int cell_x = static_cast<int>(column);
  const int cell_y = static_cast<int>(row);
  if (map.at(cell_x, cell_y) == empty_cell) return false;
  const CellForm* form = map.form(cell_x, cell_y);
  if (form == nullptr) return true;
  return form->shape == CellShape::block && !form->passable &&
         (form->height == 0 || form->height > height);
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
bool leads_there(const RenderJob& job, const RoomView& here, std::span<const FaceOf> way,
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
    room = &job.rooms[crossing.room];
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

void add_sun(const RenderJob& job, const RoomView& here, const LightBudget& budget,
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
        !leads_there(job, here, sun.way, surfaces, i, direction, job.budget.far_limit)) {
      continue;
    }
    if (budget.sun_shadows == SunShadows::none) {
      shine.add(i, normal, x, y, z, square, 1, 1, 1);
    } else if (budget.sun_shadows == SunShadows::probe) {
      const double ahead = across > 0 ? budget.probe / across : 0;
      const Vec3d from = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
      const bool hidden =
          stands(here.cells().map(), from.x() + ahead * direction.x(),
                 from.y() + ahead * direction.y(), from.z() + ahead * direction.z());
      if (!hidden) shine.add(i, normal, x, y, z, square, 1, 1, 1);
    } else {
      squares[asking.lanes.size] = square;
      asking.add(job, here, surfaces, i, normal, x, y, z);
    }
  }
  if (asking.lanes.size == 0) return;
  asking.lanes.far_limit = static_cast<float>(job.budget.far_limit);
  float spread[Surfaces::capacity];
  const SineCosine half = sine_cosine(0.5 * sun.size);
  std::fill_n(spread, asking.lanes.size, static_cast<float>(half.sine / half.cosine));
  Light through;
  come_through(job, here, budget, place, asking, nullptr, spread, sun.way, through, tally);
  for (std::size_t k = 0; k < asking.lanes.size; ++k) {
    const std::size_t i = asking.of[k];
    shine.add(i, normal_of(surfaces, i), x, y, z, squares[k], through.red[k], through.green[k],
              through.blue[k]);
  }
}

void add_lamp(const RenderJob& job, const RoomView& here, const LightBudget& budget,
              const PixelPlace& place, const Lamp& lamp, std::span<const FaceOf> way,
              const LookedAt& seen, Falling& falling, Tally& tally) {
  const Surfaces& surfaces = seen.surfaces;
  const Vec3d from_eye = lamp.place - here.origin;
  const auto range = static_cast<float>(lamp.range);
  Asking asking;
  float strength[Surfaces::capacity];
  float distance[Surfaces::capacity];
  float spread[Surfaces::capacity];
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
        !leads_there(job, here, way, surfaces, i, Vec3d(x, y, z), static_cast<double>(length))) {
      continue;
    }
    if (budget.lamp_shadows == LampShadows::none) {
      shine.add(i, normal, x, y, z, amount, 1, 1, 1);
      continue;
    }
    strength[asking.lanes.size] = amount;
    distance[asking.lanes.size] = length;
    spread[asking.lanes.size] = static_cast<float>(lamp.radius) / length;
    asking.add(job, here, surfaces, i, normal, x, y, z);
  }
  if (asking.lanes.size == 0) return;
  asking.lanes.far_limit = range;
  asking.lanes.any_limit = true;
  std::copy_n(distance, asking.lanes.size, asking.lanes.limit);
  std::fill(asking.lanes.limit + asking.lanes.size, std::end(asking.lanes.limit), 0.0f);
  Light through;
  come_through(job, here, budget, place, asking, distance, spread, way, through, tally);
  for (std::size_t k = 0; k < asking.lanes.size; ++k) {
    const std::size_t i = asking.of[k];
    shine.add(i, normal_of(surfaces, i), asking.lanes.direction_x[k], asking.lanes.direction_y[k],
              asking.lanes.direction_z[k], strength[k], through.red[k], through.green[k],
              through.blue[k]);
  }
}

/// What is left of the light from everywhere near the walls around a place, guessed from which
/// neighboring cells have something standing: half of it at the foot of a wall, a quarter less at a
/// single corner, as the half space above would be hidden, falling off with the square of the
/// distance within `reach`.
class CornerGuess {
 public:
  CornerGuess(const CellMap& map, bool has_ceiling, double reach)
      : map_(map), has_ceiling_(has_ceiling), reach_(std::min(reach, map.cell_size)) {}

  float at(const Vec3d& place, Face face) const {
    switch (face) {
      case Face::floor:
        return level(place, place.z() + 1e-3);
      case Face::ceiling:
        return level(place, place.z() - 1e-3);
      case Face::east:
        return wall(place, {1, 0});
      case Face::west:
        return wall(place, {-1, 0});
      case Face::north:
        return wall(place, {0, 1});
      case Face::south:
        return wall(place, {0, -1});
      default:
        return 1;
    }
  }

 private:
  double near(double distance) const { return std::max(0.0, 1 - distance / reach_); }
  bool stands_at(double column, double row, double height) const {
    return stands(map_, (column + 0.5) * map_.cell_size, (row + 0.5) * map_.cell_size, height);
  }

  float level(const Vec3d& place, double height) const {
    const double size = map_.cell_size;
    const double column = std::floor(place.x() / size);
    const double row = std::floor(place.y() / size);
    const double x = place.x() - column * size;
    const double y = place.y() - row * size;
    double left = 1;
    bool side[4];
    const double distance[4] = {size - x, x, size - y, y};
    constexpr int dx[4] = {1, -1, 0, 0};
    constexpr int dy[4] = {0, 0, 1, -1};
    for (int i = 0; i < 4; ++i) {
      side[i] = stands_at(column + dx[i], row + dy[i], height);
      if (side[i]) left *= 1 - 0.5 * near(distance[i]) * near(distance[i]);
    }
    for (int i = 0; i < 2; ++i) {
      for (int j = 2; j < 4; ++j) {
        if (side[i] || side[j] || !stands_at(column + dx[i], row + dy[j], height)) continue;
        const double w = near(std::hypot(distance[i], distance[j]));
        left *= 1 - 0.25 * w * w;
      }
    }
    return static_cast<float>(left);
  }

  float wall(const Vec3d& place, const Vec2d& normal) const {
    const double size = map_.cell_size;
    const Vec2d front = Vec2d(place.x(), place.y()) + 1e-3 * normal;
    const double column = std::floor(front.x() / size);
    const double row = std::floor(front.y() / size);
    const Vec2d along(-normal.y(), normal.x());
    double left = 1;
    for (const int sign : {-1, 1}) {
      if (!stands_at(column + sign * along.x(), row + sign * along.y(), place.z())) continue;
      const double x = std::abs(along.x()) > 0 ? front.x() - column * size : front.y() - row * size;
      const bool upward = sign * (along.x() + along.y()) > 0;
      const double w = near(upward ? size - x : x);
      left *= 1 - 0.5 * w * w;
    }
    const double foot = standing_level(map_, front);
    const double low = near(place.z() - foot);
    left *= 1 - 0.5 * low * low;
    if (has_ceiling_) {
      const double high = near(map_.wall_height - place.z());
      left *= 1 - 0.5 * high * high;
    }
    return static_cast<float>(left);
  }

  const CellMap& map_;
  bool has_ceiling_;
  double reach_;
};

/// The share of the directions above each surface, weighed by their cosine, that run free for the
/// reach of corners: rays along a spiral (Vogel, "A Better Way to Construct the Sunflower Head",
/// 1979), turned by chance for each pixel.
void sample_corners(const RenderJob& job, const RoomView& here, int samples,
                    const PixelPlace& place, const Surfaces& surfaces, float* open, Tally& tally) {
  const auto reach = static_cast<float>(here.room.light.corner_reach);
  float turn[Surfaces::capacity];
  int hidden[Surfaces::capacity] = {};
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const RandomKey key{.pixel = place.pixel(i), .sample = place.sample(i)};
    turn[i] = random_uniform(key, 7);
  }
  for (int s = 0; s < samples; ++s) {
    Asking asking;
    asking.lanes.far_limit = reach;
    const double radius = std::sqrt((s + 0.5) / samples);
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (surfaces.ending[i] != Ending::hit) continue;
      const Normal n = normal_of(surfaces, i);
      const auto [sine, cosine] = sine_cosine(2 * pi * (0.38196601125 * s + turn[i]));
      const auto a = static_cast<float>(radius * cosine);
      const auto b = static_cast<float>(radius * sine);
      const auto c = static_cast<float>(std::sqrt(1 - radius * radius));
      const auto [one, two] = Across(n);
      asking.add(job, here, surfaces, i, n, n.x * c + one.x * a + two.x * b,
                 n.y * c + one.y * a + two.y * b, n.z * c + one.z * a + two.z * b);
    }
    tally.shadow_lanes += asking.lanes.size;
    const HitBatch<float> hits = trace_room(here.room, asking.lanes, job.budget, tally);
    for (std::size_t k = 0; k < asking.lanes.size; ++k) {
      tally.secondary_steps += hits.steps[k];
      hidden[asking.of[k]] += hits.ending[k] == Ending::hit;
    }
  }
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    open[i] = 1 - static_cast<float>(hidden[i]) / static_cast<float>(samples);
  }
}

/// What is left of the light from everywhere at each surface, guessed from how far the fields are
/// at a few places along its normal (Evans, "Fast Approximations for Global Illumination on Dynamic
/// Scenes", 2006): in the open they are as far as the place is high.
void guess_by_distance(const RoomView& here, const Surfaces& surfaces, float* open) {
  const CompiledRoom& room = here.room;
  const auto reach = static_cast<float>(room.light.corner_reach);
  const Vec3d& eye = here.origin;
  float x[Surfaces::capacity];
  float y[Surfaces::capacity];
  float z[Surfaces::capacity];
  float distance[Surfaces::capacity];
  float hidden[Surfaces::capacity] = {};
  constexpr int places = 5;
  for (int k = 1; k <= places; ++k) {
    // Nearer ones weigh more, and all together 1.
    const float height = reach * static_cast<float>(k * k) / (places * places);
    const float weight = 2.0f * static_cast<float>(places + 1 - k) / (places * (places + 1));
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      const Normal n = normal_of(surfaces, i);
      x[i] = static_cast<float>(eye.x()) + surfaces.x[i] + height * n.x;
      y[i] = static_cast<float>(eye.y()) + surfaces.y[i] + height * n.y;
      z[i] = static_cast<float>(eye.z()) + surfaces.z[i] + height * n.z;
    }
    float nearest[Surfaces::capacity];
    std::fill_n(nearest, surfaces.size, height);
    room.near_field->distances(x, y, z, surfaces.size, distance);
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      nearest[i] = std::min(nearest[i], std::max(distance[i], 0.0f));
    }
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      hidden[i] += weight * (1 - nearest[i] / height);
    }
  }
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] == Ending::hit) open[i] *= 1 - std::min(hidden[i], 1.0f);
  }
}

void add_ambient(const RenderJob& job, const RoomView& here, const LightBudget& budget,
                 const PixelPlace& place, const Surfaces& surfaces, Light& light, Tally& tally) {
  const CompiledRoom& room = here.room;
  float open[Surfaces::capacity];
  std::fill_n(open, surfaces.size, 1.0f);
  if (budget.corners == Corners::sampled) {
    sample_corners(job, here, budget.corner_samples, place, surfaces, open, tally);
  } else if (budget.corners == Corners::neighbors) {
    const CornerGuess guess(here.cells().map(), room.has_ceiling, room.light.corner_reach);
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (surfaces.ending[i] != Ending::hit) continue;
      open[i] = guess.at(here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]),
                         surfaces.face[i]);
    }
    if (room.near_field) guess_by_distance(here, surfaces, open);
  }
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    light.red[i] = room.light.ambient[0] * open[i];
    light.green[i] = room.light.ambient[1] * open[i];
    light.blue[i] = room.light.ambient[2] * open[i];
  }
}

/// Without light of its own a room shows the form of what is curved by how it faces.
void shade_curved(const Surfaces& surfaces, Colors& colors) {
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.face[i] != Face::curved || surfaces.ending[i] != Ending::hit) continue;
    const float facing =
        0.36f * surfaces.normal_x[i] - 0.48f * surfaces.normal_y[i] + 0.8f * surfaces.normal_z[i];
    const float shade = 0.65f + 0.35f * facing;
    colors.red[i] *= shade;
    colors.green[i] *= shade;
    colors.blue[i] *= shade;
  }
}

}  // namespace

void illuminate(const RenderJob& job, const RoomView& here, const LightBudget& budget,
                const PixelPlace& place, const LookedAt& seen, Colors& colors, Tally& tally) {
  const Surfaces& surfaces = seen.surfaces;
  const Lighting& lighting = here.room.light;
  if (!lighting.lit() && here.images.empty()) {
    if (surfaces.any_curved) shade_curved(surfaces, colors);
    return;
  }
  Falling falling;
  const bool glossy = seen.gloss != nullptr;
  if (glossy) falling.gleam = {};
  Light& light = falling.light;
  add_ambient(job, here, budget, place, surfaces, light, tally);
  if (lighting.sun) {
    const Sun& sun = *lighting.sun;
    add_sun(job, here, budget, place, {sun_direction(sun), sun.color, sun.size, {}}, seen, falling,
            tally);
  }
  for (const Lamp& lamp : lighting.lamps) {
    add_lamp(job, here, budget, place, lamp, {}, seen, falling, tally);
  }
  for (const LightImage& image : here.images) {
    if (image.of_sun) {
      add_sun(job, here, budget, place, {image.toward, image.lamp.color, image.sun_size, image.way},
              seen, falling, tally);
    } else {
      add_lamp(job, here, budget, place, image.lamp, image.way, seen, falling, tally);
    }
  }

  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::hit) continue;
    const auto glow = static_cast<float>(job.world.materials()[surfaces.material[i]].glow);
    colors.red[i] *= std::max(light.red[i], glow);
    colors.green[i] *= std::max(light.green[i], glow);
    colors.blue[i] *= std::max(light.blue[i], glow);
    if (!glossy || !seen.gloss->glossy[i]) continue;
    colors.red[i] += falling.gleam.red[i];
    colors.green[i] += falling.gleam.green[i];
    colors.blue[i] += falling.gleam.blue[i];
  }
}

}  // namespace photonlane
