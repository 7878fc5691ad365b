#include "shade/illuminate.hpp"

#include <algorithm>
#include <cmath>

#include "base/stage_clock.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/grid/body.hpp"
#include "photonlane/light/optics.hpp"
#include "room/portal_faces.hpp"
#include "shade/shadow.hpp"
#include "trace/crossing.hpp"
#include "trace/lane_sight.hpp"

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

bool is_lit(const Surfaces& surfaces, std::size_t i) {
  return surfaces.face[i] == Face::curved && is_lit_color(surfaces.share[i]) &&
         surfaces.ending[i] == Ending::hit;
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

/// Counts, for each lane, whether something stands in its way, also behind a number of portals.
void count_hidden(const SceneView& view, const RoomView& here, const LaneBatch<float>& lanes,
                  const std::size_t* of, int* hidden, int crossings, Tally& tally) {
  const HitBatch<float> hits = trace_room(here.room, lanes, view.budget, tally);
  std::size_t crossed = 0;
  for (std::size_t k = 0; k < lanes.size; ++k) {
    tally.secondary_steps += hits.steps[k];
    hidden[of[k]] += hits.ending[k] == Ending::hit;
    crossed += hits.ending[k] == Ending::crossed;
  }
  if (crossed == 0 || crossings == 0) return;
  // Those that go through one face go on together.
  const auto faces = here.room.portals->faces();
  for (std::size_t face = 0; face < faces.size(); ++face) {
    if (faces[face].swell >= 0) continue;
    LaneBatch<float> on;
    std::size_t of_on[Surfaces::capacity];
    begin_beyond(on);
    on.any_limit = true;
    std::fill_n(on.limit, Surfaces::capacity, 0.0f);
    for (std::size_t k = 0; k < lanes.size; ++k) {
      if (hits.ending[k] != Ending::crossed || hits.item[k] != face) continue;
      const Vec3d way(lanes.direction_x[k], lanes.direction_y[k], lanes.direction_z[k]);
      const Vec3d at = Vec3d(lanes.x[k], lanes.y[k], lanes.z[k]) + double{hits.t[k]} * way;
      const Beyond beyond = go_beyond(here, static_cast<std::int32_t>(face), at, way,
                                      static_cast<double>(lanes.scale_of(k)));
      if (beyond.turned_back) continue;
      const float reach =
          lanes.any_limit ? std::min(lanes.limit[k], lanes.far_limit) : lanes.far_limit;
      const std::size_t to = put_beyond(beyond, on);
      of_on[to] = of[k];
      on.limit[to] = (reach - hits.t[k]) * static_cast<float>(beyond.scale);
      on.far_limit = std::max(on.far_limit, on.limit[to]);
    }
    if (on.size == 0) continue;
    count_hidden(view, view.rooms[faces[face].room], on, of_on, hidden, crossings - 1, tally);
  }
}

/// The share of the directions above each surface, weighed by their cosine, that run free for the
/// reach of corners: rays along a spiral (Vogel, "A Better Way to Construct the Sunflower Head",
/// 1979), turned by chance for each pixel.
void sample_corners(const SceneView& view, const RoomView& here, int samples,
                    const PixelPlace& place, const Surfaces& surfaces, float* open, Tally& tally) {
  const auto reach = static_cast<float>(here.room.light.corner_reach);
  float turn[Surfaces::capacity];
  int hidden[Surfaces::capacity] = {};
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    turn[i] = drawn(place, i, Chance::corner_turn);
  }
  for (int s = 0; s < samples; ++s) {
    // Each round is arithmetic for as many rays.
    const StageScope stage(Work::light, surfaces.size);
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
      asking.add(view, here, surfaces, i, n, n.x * c + one.x * a + two.x * b,
                 n.y * c + one.y * a + two.y * b, n.z * c + one.z * a + two.z * b);
    }
    tally.shadow_lanes += asking.lanes.size;
    count_hidden(view, here, asking.lanes, asking.of, hidden, view.budget.light.crossings, tally);
  }
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    open[i] = 1 - static_cast<float>(hidden[i]) / static_cast<float>(samples);
  }
}

/// Places above surfaces at which it is asked how far everything is.
struct PlacesAbove {
  static constexpr int each = 5;  ///< for a surface
  std::size_t count = 0;
  std::size_t of[Surfaces::capacity];  ///< which surface the first, the second ... `each` are of
  float x[each * Surfaces::capacity];
  float y[each * Surfaces::capacity];
  float z[each * Surfaces::capacity];
  float nearest[each * Surfaces::capacity];

  static float height(int k, float reach) {
    return reach * static_cast<float>((k + 1) * (k + 1)) / (each * each);
  }
  Vec3d at(std::size_t i) const { return {x[i], y[i], z[i]}; }
};

/// Surfaces of a batch in an order in which neighbors are near one another, so that of large fields
/// little matters to each: in halves along the longest side.
void order_by_place(const Surfaces& surfaces, std::size_t* first, std::size_t count) {
  if (count <= 8) return;
  const float* rows[3] = {surfaces.x, surfaces.y, surfaces.z};
  const float* longest = rows[0];
  float most = -1;
  for (const float* row : rows) {
    const auto [low, high] = std::minmax_element(
        first, first + count, [&](std::size_t a, std::size_t b) { return row[a] < row[b]; });
    if (row[*high] - row[*low] <= most) continue;
    most = row[*high] - row[*low];
    longest = row;
  }
  const std::size_t half = count / 2;
  std::nth_element(first, first + half, first + count, [&](std::size_t a, std::size_t b) {
    return longest[a] != longest[b] ? longest[a] < longest[b] : a < b;
  });
  order_by_place(surfaces, first, half);
  order_by_place(surfaces, first + half, count - half);
}

/// How far what is beyond a face is from places just before it, as far as that is seen through the
/// opening: the nearest place there has to lie on the other side, and in a line through the
/// opening.
void look_beyond(const SceneView& view, const PortalFace& face, PlacesAbove& places, Tally& tally) {
  const CompiledRoom& there = view.rooms[face.room].room;
  if (!there.near_field || face.swell >= 0 || face.stretched() || face.fallback ||
      face.shape == OpeningShape::sphere) {
    return;
  }
  std::vector<std::size_t> which;
  std::vector<Vec3d> asked;
  std::vector<double> before;
  for (std::size_t i = 0; i < places.count; ++i) {
    const Vec3d off = places.at(i) - face.middle;
    const double away = off.dot(face.normal);
    if (!(away > 0 ? face.front : face.back)) continue;
    const auto near = static_cast<double>(places.nearest[i]);
    if (std::abs(away) >= near || face.border(off.dot(face.across), off.dot(face.up)) <= -near) {
      continue;
    }
    which.push_back(i);
    before.push_back(away);
    asked.push_back(face.map.place(places.at(i)));
  }
  if (which.empty()) return;
  const Similarity back = face.map.inverse();
  const auto take = [&](std::size_t k, const Vec3d& from, const FieldSlope& slope) {
    const double steep = slope.gradient.norm();
    if (!(slope.value > 0) || !(steep > 1e-3)) return false;
    const Vec3d met = back.place(from - slope.value / (steep * steep) * slope.gradient);
    const double beyond = (met - face.middle).dot(face.normal);
    // Not before the face, and through the opening.
    if (beyond * before[k] > -1e-6 * std::abs(before[k])) return false;
    const Vec3d start = places.at(which[k]);
    const Vec3d through = start + before[k] / (before[k] - beyond) * (met - start) - face.middle;
    if (face.border(through.dot(face.across), through.dot(face.up)) < face.rim) return false;
    const auto distance = static_cast<float>((met - start).norm());
    places.nearest[which[k]] = std::min(places.nearest[which[k]], distance);
    return true;
  };
  const std::vector<FieldSlope> slopes = there.near_field->slopes(asked);
  tally.evaluations += asked.size();
  // Where what stands on this side there is nearer, from the plane of the opening on.
  std::vector<std::size_t> again;
  std::vector<Vec3d> on_plane;
  for (std::size_t k = 0; k < asked.size(); ++k) {
    if (take(k, asked[k], slopes[k])) continue;
    again.push_back(k);
    on_plane.push_back(face.map.place(places.at(which[k]) - 1.001 * before[k] * face.normal));
  }
  if (again.empty()) return;
  const std::vector<FieldSlope> from_plane = there.near_field->slopes(on_plane);
  tally.evaluations += on_plane.size();
  for (std::size_t n = 0; n < again.size(); ++n) take(again[n], on_plane[n], from_plane[n]);
}

/// What is left of the light from everywhere at each surface, guessed from how far the fields are
/// at a few places along its normal (Evans, "Fast Approximations for Global Illumination on Dynamic
/// Scenes", 2006): in the open they are as far as the place is high.
void guess_by_distance(const SceneView& view, const RoomView& here, const Surfaces& surfaces,
                       float* open, Tally& tally) {
  const CompiledRoom& room = here.room;
  const auto reach = static_cast<float>(room.light.corner_reach);
  const Vec3d& eye = here.origin;
  PlacesAbove places;
  std::size_t some = 0;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] == Ending::hit) places.of[some++] = i;
  }
  order_by_place(surfaces, places.of, some);
  for (std::size_t n = 0; n < some; ++n) {
    const std::size_t i = places.of[n];
    const Normal normal = normal_of(surfaces, i);
    for (int k = 0; k < PlacesAbove::each; ++k) {
      const float height = PlacesAbove::height(k, reach);
      const std::size_t at = places.count++;
      places.x[at] = static_cast<float>(eye.x()) + surfaces.x[i] + height * normal.x;
      places.y[at] = static_cast<float>(eye.y()) + surfaces.y[i] + height * normal.y;
      places.z[at] = static_cast<float>(eye.z()) + surfaces.z[i] + height * normal.z;
      places.nearest[at] = height;
    }
  }
  if (room.near_field && places.count > 0) {
    float distance[PlacesAbove::each * Surfaces::capacity];
    tally.evaluations += room.near_field->distances(places.x, places.y, places.z, places.count,
                                                    distance, view.budget.field);
    for (std::size_t i = 0; i < places.count; ++i) {
      places.nearest[i] = std::min(places.nearest[i], std::max(distance[i], 0.0f));
    }
  }
  if (room.portals) {
    for (const PortalFace& face : room.portals->faces()) look_beyond(view, face, places, tally);
  }
  for (std::size_t n = 0; n < some; ++n) {
    float hidden = 0;
    for (int k = 0; k < PlacesAbove::each; ++k) {
      // Nearer ones weigh more, and all together 1.
      const float weight = 2.0f * static_cast<float>(PlacesAbove::each - k) /
                           (PlacesAbove::each * (PlacesAbove::each + 1));
      const float height = PlacesAbove::height(k, reach);
      hidden += weight * (1 - places.nearest[PlacesAbove::each * n + k] / height);
    }
    open[places.of[n]] *= 1 - std::min(hidden, 1.0f);
  }
}

void add_ambient(const SceneView& view, const RoomView& here, const LightBudget& budget,
                 const PixelPlace& place, const Surfaces& surfaces, Light& light, Tally& tally) {
  const CompiledRoom& room = here.room;
  float open[Surfaces::capacity];
  std::fill_n(open, surfaces.size, 1.0f);
  if (budget.corners == Corners::sampled) {
    sample_corners(view, here, budget.corner_samples, place, surfaces, open, tally);
  } else if (budget.corners == Corners::neighbors) {
    if (room.has_cells) {
      const CornerGuess guess(here.cells().map(), room.has_ceiling, room.light.corner_reach);
      for (std::size_t i = 0; i < surfaces.size; ++i) {
        if (surfaces.ending[i] != Ending::hit) continue;
        open[i] = guess.at(here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]),
                           surfaces.face[i]);
      }
    }
    if (room.near_field || room.portals) guess_by_distance(view, here, surfaces, open, tally);
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
    if (surfaces.share[i] < own_color) continue;
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
    if (surfaces.face[i] == Face::curved && surfaces.share[i] == shown_color) continue;
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
