#include "shade/corners.hpp"

#include <algorithm>
#include <cmath>

#include "base/stage_clock.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/grid/body.hpp"
#include "room/portal_faces.hpp"
#include "trace/crossing.hpp"
#include "trace/lane_sight.hpp"

namespace photonlane {

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

namespace {

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

}  // namespace

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

}  // namespace photonlane
