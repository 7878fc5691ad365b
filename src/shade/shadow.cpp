#include "shade/shadow.hpp"

#include <algorithm>
#include <cmath>

#include "base/stage_clock.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "room/portal_faces.hpp"
#include "shade/surface_colors.hpp"
#include "trace/crossing.hpp"
#include "trace/lane_sight.hpp"

namespace photonlane {
namespace {

void let_all_through(std::size_t size, Light& light) {
  std::fill_n(light.red, size, 1.0f);
  std::fill_n(light.green, size, 1.0f);
  std::fill_n(light.blue, size, 1.0f);
}

/// Lanes toward a light, in one of the rooms on their way.
struct TowardLight {
  LaneBatch<float> lanes;
  float limit[Surfaces::capacity];  ///< how far the light is from here
  std::size_t of[Surfaces::capacity];
};

/// What comes through in one room; those that go through the next face of the way are sent `on`.
void trace_leg(const SceneView& view, const RoomView& here, std::span<const FaceOf> way,
               TowardLight& leg, TowardLight& on, Light& light, Tally& tally) {
  const LaneBatch<float>& lanes = leg.lanes;
  LaneSight<float> sight(view, here, lanes, tally);
  Surfaces surfaces;
  sight.nearest(surfaces);
  bool wanted[Surfaces::capacity];
  std::fill_n(wanted, lanes.size, true);
  for (int pass = 0; pass <= view.budget.passes.limit; ++pass) {
    surfaces.pad();
    Colors colors;
    const bool clear = here.paint.clear;
    if (clear) {
      paint_surfaces(surfaces, here.shadow_paint, {surfaces.t}, colors);
      if (!here.paint.density.empty()) soften(here.paint, surfaces, colors);
    }
    bool any = false;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (!wanted[i]) continue;
      wanted[i] = false;
      const std::size_t k = leg.of[i];
      const auto darken = [&] { light.red[k] = light.green[k] = light.blue[k] = 0; };
      if (surfaces.ending[i] == Ending::crossed && surfaces.t[i] < leg.limit[i]) {
        // What is behind a portal is somewhere else, unless the light is there.
        const auto face = static_cast<std::int32_t>(surfaces.item[i]);
        if (way.empty() || way.front().face != face) {
          darken();
          continue;
        }
        const Vec3d at = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
        const Vec3d along(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
        const Beyond beyond =
            go_beyond(here, face, at, along, static_cast<double>(lanes.scale_of(i)));
        const std::size_t to = put_beyond(beyond, on.lanes);
        on.of[to] = k;
        on.limit[to] = (leg.limit[i] - surfaces.t[i]) * static_cast<float>(beyond.scale);
        continue;
      }
      const bool free = surfaces.ending[i] != Ending::hit || surfaces.t[i] >= leg.limit[i];
      if (free) {
        if (!way.empty()) darken();
        continue;
      }
      const float left = clear ? std::max(0.0f, 1 - colors.alpha[i]) : 0;
      const Color& tint = view.world.materials()[surfaces.material[i]].tint;
      light.red[k] *= left * tint[0];
      light.green[k] *= left * tint[1];
      light.blue[k] *= left * tint[2];
      wanted[i] = left > 1.0f / 256;
      any = any || wanted[i];
    }
    if (!any) break;
    sight.behind(wanted, surfaces);
  }
}

/// Along single rays, through the portals between.
void trace(const SceneView& view, const RoomView& here, const LaneBatch<float>& lanes,
           const float* limit, std::span<const FaceOf> way, Light& light, Tally& tally) {
  tally.shadow_lanes += lanes.size;
  let_all_through(lanes.size, light);
  TowardLight leg;
  leg.lanes = lanes;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    leg.limit[i] = limit != nullptr ? limit[i] : lanes.far_limit;
    leg.of[i] = i;
  }
  const RoomView* room = &here;
  for (;;) {
    TowardLight on;
    begin_beyond(on.lanes);
    on.lanes.far_limit = lanes.far_limit;
    trace_leg(view, *room, way, leg, on, light, tally);
    if (on.lanes.size == 0) return;
    room = &view.rooms[room->face(static_cast<std::uint32_t>(way.front().face)).room];
    way = way.subspan(1);
    leg = on;
  }
}

/// Along rays to places spread evenly over each light's disk (Vogel, "A Better Way to Construct the
/// Sunflower Head", 1979), turned by chance for each pixel.
void sample(const SceneView& view, const RoomView& here, int samples, const PixelPlace& place,
            const Asking& asking, const float* limit, const float* spread,
            std::span<const FaceOf> way, Light& light, Tally& tally) {
  const std::size_t size = asking.lanes.size;
  std::fill_n(light.red, size, 0.0f);
  std::fill_n(light.green, size, 0.0f);
  std::fill_n(light.blue, size, 0.0f);
  const float share = 1 / static_cast<float>(samples);
  LaneBatch<float> lanes = asking.lanes;
  for (int s = 0; s < samples; ++s) {
    // Each round is arithmetic for as many rays.
    const StageScope stage(Work::light, size);
    const double radius = std::sqrt((s + 0.5) / samples);
    for (std::size_t k = 0; k < size; ++k) {
      const auto [sine, cosine] = sine_cosine(
          2 * pi * (0.38196601125 * s + drawn(place, asking.of[k], Chance::light_turn)));
      const Normal toward{asking.lanes.direction_x[k], asking.lanes.direction_y[k],
                          asking.lanes.direction_z[k]};
      const Across across(toward);
      const float a = spread[k] * static_cast<float>(radius * cosine);
      const float b = spread[k] * static_cast<float>(radius * sine);
      const float length = 1 / std::sqrt(1 + a * a + b * b);
      lanes.direction_x[k] = (toward.x + a * across.one.x + b * across.two.x) * length;
      lanes.direction_y[k] = (toward.y + a * across.one.y + b * across.two.y) * length;
      lanes.direction_z[k] = (toward.z + a * across.one.z + b * across.two.z) * length;
    }
    Light one;
    trace(view, here, lanes, limit, way, one, tally);
    for (std::size_t k = 0; k < size; ++k) {
      light.red[k] += share * one.red[k];
      light.green[k] += share * one.green[k];
      light.blue[k] += share * one.blue[k];
    }
  }
}

/// The share of a disk of radius 1 that an edge at `offset` from its middle leaves free.
float free_share(float offset) {
  if (offset >= 1) return 1;
  if (offset <= -1) return 0;
  return 1 - (std::acos(offset) - offset * std::sqrt(1 - offset * offset)) / static_cast<float>(pi);
}

/// By the edge that comes nearest before a light's disk: at distance t from the start a field whose
/// value is h has its edge about h / t from the disk's middle. Rays go on through what hides them
/// until it hides all of the disk. How deep they are within tells where its edge is as well, unless
/// they go straight through something thin: that hides all.
void guess(const SceneView& view, const RoomView& here, const LaneBatch<float>& lanes,
           const float* limit, const float* spread, Light& light, Tally& tally) {
  const CompiledRoom& room = here.room;
  let_all_through(lanes.size, light);
  if (room.portals) {
    float at[Surfaces::capacity];
    std::int32_t face[Surfaces::capacity];
    bool rim[Surfaces::capacity];
    for (std::size_t i = 0; i < lanes.size; ++i) at[i] = limit ? limit[i] : lanes.far_limit;
    room.portals->nearest(lanes, at, face, rim);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (face[i] >= 0) light.red[i] = 0;
    }
  }
  // What has no distances is in the way or not.
  for (const std::shared_ptr<const Solid>& solid : room.solids) {
    if (solid->knows_distances()) continue;
    LaneBatch<float> asked = lanes;
    if (limit != nullptr) {
      asked.any_limit = true;
      std::copy_n(limit, lanes.size, asked.limit);
    }
    bool hidden[Surfaces::capacity] = {};
    tally.shadow_lanes += lanes.size;
    tally.secondary_steps += solid->hide(asked, view.budget, hidden);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (hidden[i]) light.red[i] = 0;
    }
  }
  float t[Surfaces::capacity];
  float entered[Surfaces::capacity];
  float depth[Surfaces::capacity];
  float farthest[Surfaces::capacity];
  std::size_t going[Surfaces::capacity];
  std::size_t count = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    t[i] = 0;
    entered[i] = -1;
    if (light.red[i] > 0) going[count++] = i;
  }
  if (room.near_field) {
    const auto stretch = static_cast<float>(1 / room.near_field->field().stretch());
    constexpr int most_steps = 200;
    for (int step = 0; step < most_steps && count > 0; ++step) {
      float x[Surfaces::capacity];
      float y[Surfaces::capacity];
      float z[Surfaces::capacity];
      float value[Surfaces::capacity];
      for (std::size_t k = 0; k < count; ++k) {
        const std::size_t i = going[k];
        x[k] = lanes.x[i] + t[i] * lanes.direction_x[i];
        y[k] = lanes.y[i] + t[i] * lanes.direction_y[i];
        z[k] = lanes.z[i] + t[i] * lanes.direction_z[i];
      }
      tally.evaluations += room.near_field->distances(x, y, z, count, value, view.budget.field);
      tally.secondary_steps += count;
      std::size_t left = 0;
      for (std::size_t k = 0; k < count; ++k) {
        const std::size_t i = going[k];
        const float scale = lanes.scale_of(i);
        const float radius = spread[i] * t[i] + 1e-4f * scale;
        if (value[k] >= 0) {
          light.red[i] = std::min(light.red[i], free_share(value[k] / radius));
          if (entered[i] >= 0) {
            const float straight = std::min(2 * depth[i] / (t[i] - entered[i]), 1.0f);
            light.red[i] = std::min(light.red[i], free_share(-farthest[i]) * (1 - straight));
            entered[i] = -1;
          }
        } else {
          if (entered[i] < 0) {
            entered[i] = t[i];
            depth[i] = farthest[i] = 0;
          }
          depth[i] = std::max(depth[i], -value[k]);
          farthest[i] = std::max(farthest[i], -value[k] / radius);
          light.red[i] = std::min(light.red[i], free_share(-farthest[i]));
        }
        if (light.red[i] < 1.0f / 512) {
          light.red[i] = 0;
          continue;
        }
        // Not past where the edge may be nearest, and always on.
        const float far = limit != nullptr ? limit[i] : lanes.far_limit;
        t[i] += std::max(0.8f * std::abs(value[k]) * stretch, 0.2f * radius + 1e-3f * scale);
        if (t[i] < far) going[left++] = i;
      }
      count = left;
    }
  }
  std::copy_n(light.red, lanes.size, light.green);
  std::copy_n(light.red, lanes.size, light.blue);
}

}  // namespace

float lift(const SceneView& view, float coordinate, float scale) {
  const auto near = static_cast<float>(view.budget.field.tolerance);
  return scale * std::max(2e-3f, 3 * near) + 1e-6f * std::abs(coordinate);
}

Across::Across(const Normal& n) {
  const float sign = n.z < 0 ? -1.0f : 1.0f;
  const float p = -1 / (sign + n.z);
  const float q = n.x * n.y * p;
  one = {1 + sign * n.x * n.x * p, sign * q, -sign * n.x};
  two = {q, sign + n.y * n.y * p, -n.y};
}

void Asking::add(const SceneView& view, const RoomView& here, const Surfaces& surfaces,
                 std::size_t i, const Normal& normal, float direction_x, float direction_y,
                 float direction_z) {
  const std::size_t k = lanes.size++;
  const Vec3d& eye = here.origin;
  const auto x = static_cast<float>(eye.x() + surfaces.x[i]);
  const auto y = static_cast<float>(eye.y() + surfaces.y[i]);
  const auto z = static_cast<float>(eye.z() + surfaces.z[i]);
  const float scale = surfaces.scale_of(i);
  lanes.x[k] = x + normal.x * lift(view, x, scale);
  lanes.y[k] = y + normal.y * lift(view, y, scale);
  lanes.z[k] = z + normal.z * lift(view, 0, scale);
  lanes.any_scale = surfaces.any_scale;
  lanes.scale[k] = scale;
  lanes.direction_x[k] = direction_x;
  lanes.direction_y[k] = direction_y;
  lanes.direction_z[k] = direction_z;
  of[k] = i;
}

void come_through(const SceneView& view, const RoomView& here, const LightBudget& budget,
                  const PixelPlace& place, const Asking& asking, const float* limit,
                  const float* spread, std::span<const FaceOf> way, Light& light, Tally& tally) {
  if (budget.softness == Softness::sampled) {
    sample(view, here, budget.soft_samples, place, asking, limit, spread, way, light, tally);
  } else if (budget.softness == Softness::quick && !here.room.others().empty() && way.empty()) {
    guess(view, here, asking.lanes, limit, spread, light, tally);
  } else {
    trace(view, here, asking.lanes, limit, way, light, tally);
  }
}

}  // namespace photonlane
