#include "paths/light_ways.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stage_clock.hpp"
#include "paths/path_surface.hpp"
#include "shade/surface_colors.hpp"
#include "trace/crossing.hpp"
#include "trace/lane_sight.hpp"
#include "trace/surface_path.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

/// Lanes toward lights in one of the rooms on their way.
struct Leg {
  LaneBatch<float> lanes;
  float distance[Surfaces::capacity];  ///< of the light, from here
  LightQuery* of[Surfaces::capacity];
};

/// What a surface lets straight through of light.
Color let_through(const SceneView& view, const Surfaces& surfaces, std::size_t i,
                  const Colors& colors, const LaneBatch<float>& lanes) {
  const std::vector<Material>& materials = view.world.materials();
  const Material& material = materials[surfaces.material[i]];
  // Light that is bent comes from elsewhere.
  if (material.bends() && surfaces.face[i] == Face::curved) return {0, 0, 0};
  if (colors.alpha[i] >= 1) return {0, 0, 0};
  const ScatterSurface surface = scatter_surface(materials, surfaces, i, colors, false);
  if (!material.glossy() && surface.specular == 0) {
    return surface.tint * (1 - surface.opacity);
  }
  const SurfaceFrame frame(normal_of(surfaces, i));
  return Scattering(surface).straight(
      toward_lane(frame, lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]));
}

/// One room; lanes that go through the next portal of their way are put `on`.
void look_leg(const SceneView& view, const RoomView& here, std::span<const FaceOf> through,
              Leg& leg, Leg& on, Tally& tally) {
  const LaneBatch<float>& lanes = leg.lanes;
  const auto extinction = static_cast<float>(fog_extinction(here.room.fog));
  LaneSight<float> sight(view, here, lanes, tally);
  SurfacePath path(here, sight, false, nullptr);
  bool wanted[Surfaces::capacity];
  std::fill_n(wanted, lanes.size, true);
  const bool clear = here.paint.clear || !here.paint.density.empty();
  for (int pass = 0; pass <= view.budget.passes.limit; ++pass) {
    Surfaces& surfaces = path.seen();
    surfaces.pad();
    Colors colors;
    if (clear) {
      paint_all(view, here, surfaces, {surfaces.t}, colors);
      if (!here.paint.density.empty()) soften(here.paint, surfaces, colors);
    }
    bool any = false;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (!wanted[i]) continue;
      wanted[i] = false;
      Color& light = leg.of[i]->light;
      const auto fade = [&](float meters) {
        if (extinction > 0) light *= std::exp(-extinction * meters);
      };
      if (surfaces.ending[i] == Ending::crossed && surfaces.t[i] < leg.distance[i]) {
        // What is behind a portal is somewhere else, unless the light is there.
        const auto face = static_cast<std::int32_t>(surfaces.item[i]);
        if (through.empty() || through.front().face != face) {
          light = Color(0, 0, 0);
          continue;
        }
        fade(surfaces.t[i]);
        const Vec3d at = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
        const Vec3d along(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
        const Beyond beyond =
            go_beyond(here, face, at, along, static_cast<double>(lanes.scale_of(i)));
        const std::size_t to = put_beyond(beyond, on.lanes);
        on.of[to] = leg.of[i];
        on.distance[to] = (leg.distance[i] - surfaces.t[i]) * static_cast<float>(beyond.scale);
        continue;
      }
      const bool met = surfaces.ending[i] == Ending::hit && surfaces.t[i] < leg.distance[i];
      if (!met) {
        // Lights that are near are not out in the open, and those far away are nowhere else.
        const bool open = surfaces.ending[i] == Ending::escaped || leg.distance[i] < infinite;
        const bool spent = surfaces.ending[i] == Ending::spent;
        if (!through.empty() || spent || !open) {
          light = Color(0, 0, 0);
        } else if (leg.distance[i] < infinite) {
          fade(leg.distance[i]);
        }
        continue;
      }
      light *= clear ? let_through(view, surfaces, i, colors, lanes) : Color(0, 0, 0);
      wanted[i] = (light > 0).any();
      any = any || wanted[i];
    }
    if (!any) return;
    path.go_on(wanted);
  }
  // What is left has more to go through than the budget allows.
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (wanted[i]) leg.of[i]->light = Color(0, 0, 0);
  }
}

/// Up to a batch of queries that go one way.
void look_batch(const SceneView& view, const RoomView& here, std::span<LightQuery*> queries,
                Tally& tally) {
  tally.shadow_lanes += queries.size();
  Leg leg;
  LaneBatch<float>& lanes = leg.lanes;
  lanes.far_limit = static_cast<float>(view.budget.far_limit);
  // Panes throw light back by how they face.
  lanes.ending_only = !(here.paint.clear && view.glossy);
  lanes.any_limit = true;
  std::fill_n(lanes.limit, Surfaces::capacity, 0.0f);
  std::fill_n(lanes.scale, Surfaces::capacity, 1.0f);
  for (LightQuery* query : queries) {
    const std::size_t k = lanes.size++;
    lanes.x[k] = static_cast<float>(query->from.x());
    lanes.y[k] = static_cast<float>(query->from.y());
    lanes.z[k] = static_cast<float>(query->from.z());
    lanes.direction_x[k] = query->way.x();
    lanes.direction_y[k] = query->way.y();
    lanes.direction_z[k] = query->way.z();
    lanes.limit[k] = std::min(query->distance, lanes.far_limit);
    lanes.scale[k] = query->scale;
    lanes.any_scale = lanes.any_scale || query->scale < 1;
    leg.distance[k] = query->distance;
    leg.of[k] = query;
  }
  const RoomView* room = &here;
  std::span<const FaceOf> through = queries.front()->through;
  for (;;) {
    Leg on;
    begin_beyond(on.lanes);
    on.lanes.far_limit = lanes.far_limit;
    look_leg(view, *room, through, leg, on, tally);
    if (on.lanes.size == 0) return;
    room = &view.rooms[room->face(static_cast<std::uint32_t>(through.front().face)).room];
    through = through.subspan(1);
    leg = on;
  }
}

}  // namespace

void look_for_lights(const SceneView& view, const RoomView& here, std::span<LightQuery> queries,
                     Tally& tally) {
  std::vector<LightQuery*> rest;
  rest.reserve(queries.size());
  for (LightQuery& query : queries) rest.push_back(&query);
  std::vector<LightQuery*> batch, later;
  while (!rest.empty()) {
    const FaceOf* way = rest.front()->through.data();
    batch.clear();
    later.clear();
    for (LightQuery* query : rest) {
      const bool fits = query->through.data() == way && batch.size() < Surfaces::capacity;
      (fits ? batch : later).push_back(query);
    }
    const StageScope stage(LaneKind::lamps, Work::light, batch.size());
    look_batch(view, here, batch, tally);
    std::swap(rest, later);
  }
}

}  // namespace photonlane
