#include "trace/panels.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "photonlane/base/trigonometry.hpp"

namespace photonlane {

std::span<const Knob<Sprite>> sprite_knobs() {
  static const Knob<Sprite> table[] = {
      knob<&Sprite::foot>("foot", "meters", {-1e7, 1e7}, "the middle of its lower edge"),
      knob<&Sprite::width>("width", "meters", {0, 10000, true}, "how wide"),
      knob<&Sprite::height>("height", "meters", {0, 10000},
                            "height; 0 follows from the width and square texels"),
      knob<&Sprite::fixed>("fixed", "", {}, "stands as heading says instead of facing the camera"),
      knob<&Sprite::heading>(
          "heading", "degrees", {-36000, 36000},
          "direction the front of a fixed sprite faces, counterclockwise from east", degrees(1),
          "fixed=true"),
  };
  return table;
}

void LaneRays::toward(const Surfaces& surfaces) {
  size = surfaces.size;
  for (std::size_t i = 0; i < size; ++i) {
    const float inverse = 1 / std::max(surfaces.t[i], 1e-12f);
    x[i] = surfaces.x[i] * inverse;
    y[i] = surfaces.y[i] * inverse;
    z[i] = surfaces.z[i] * inverse;
    from_x[i] = from_y[i] = from_z[i] = 0;
  }
}

Panels::Panels(const World& world, const CompiledRoom& room, const Vec3d& eye)
    : textures_(world.textures()) {
  for (const Sprite& sprite : room.sprites) {
    const Vec3d foot = sprite.foot - eye;
    double normal_x = 1;
    double normal_y = 0;
    if (sprite.fixed) {
      const auto [sine, cosine] = sine_cosine(sprite.heading);
      normal_x = cosine;
      normal_y = sine;
    } else if (const double length = std::hypot(foot.x(), foot.y()); length > 0) {
      normal_x = -foot.x() / length;
      normal_y = -foot.y() / length;
    }
    const Material& material = world.materials()[sprite.material];
    double height = sprite.height;
    if (height == 0) {
      height = sprite.width;
      if (material.texture >= 0) {
        const int level = material.texture * TextureSet::levels;
        height *= static_cast<double>(textures_.height()[level]) / textures_.width()[level];
      }
    }
    x_.push_back(static_cast<float>(foot.x()));
    y_.push_back(static_cast<float>(foot.y()));
    z_.push_back(static_cast<float>(foot.z()));
    normal_x_.push_back(static_cast<float>(normal_x));
    normal_y_.push_back(static_cast<float>(normal_y));

    half_width_.push_back(static_cast<float>(0.5 * sprite.width));
    height_.push_back(static_cast<float>(height));
    material_.push_back(sprite.material);
    texture_.push_back(material.texture);
    turns_.push_back(!sprite.fixed);
  }
  group();
}

/// All rays of a batch: they start within `spread` of a place and lie within an angle of an axis,
/// and end no farther than `reach` from there.
struct Panels::Cone {
  float from_x = 0, from_y = 0, from_z = 0, spread = 0;
  float axis_x = 0, axis_y = 0, axis_z = 0;
  float cosine = 1, sine = 0;
  float reach = 0;

  Cone(const LaneRays& rays, const Surfaces& surfaces) {
    const auto count = static_cast<float>(rays.size);
    for (std::size_t i = 0; i < rays.size; ++i) {
      from_x += rays.from_x[i] / count;
      from_y += rays.from_y[i] / count;
      from_z += rays.from_z[i] / count;
      axis_x += rays.x[i];
      axis_y += rays.y[i];
      axis_z += rays.z[i];
    }
    const float length = std::sqrt(axis_x * axis_x + axis_y * axis_y + axis_z * axis_z);
    const float inverse = length > 0 ? 1 / length : 0;
    axis_x *= inverse;
    axis_y *= inverse;
    axis_z *= inverse;
    for (std::size_t i = 0; i < rays.size; ++i) {
      cosine = std::min(cosine, axis_x * rays.x[i] + axis_y * rays.y[i] + axis_z * rays.z[i]);
      const float dx = rays.from_x[i] - from_x;
      const float dy = rays.from_y[i] - from_y;
      const float dz = rays.from_z[i] - from_z;
      spread = std::max(spread, dx * dx + dy * dy + dz * dz);
      const bool open = surfaces.ending[i] == Ending::escaped;
      reach = std::max(reach, open ? std::numeric_limits<float>::infinity() : surfaces.t[i]);
    }
    cosine -= 1e-5f;
    sine = std::sqrt(std::max(0.0f, 1 - cosine * cosine));
    spread = std::sqrt(spread);
  }
};

bool Panels::may_meet(std::size_t i, const Cone& cone) const {
  const float half_height = 0.5f * height_[i];
  const float dx = x_[i] - cone.from_x;
  const float dy = y_[i] - cone.from_y;
  const float dz = z_[i] + half_height - cone.from_z;
  const float radius =
      std::sqrt(half_width_[i] * half_width_[i] + half_height * half_height) + cone.spread;
  const float square = dx * dx + dy * dy + dz * dz;
  const float length = std::sqrt(square);
  if (length <= radius) return true;
  if (length - radius > cone.reach) return false;
  // Wider than half a turn: everything may be.
  if (cone.cosine < 0) return true;
  const float off_sine = radius / length;
  const float off_cosine = std::sqrt(1 - off_sine * off_sine);
  const float along = (dx * cone.axis_x + dy * cone.axis_y + dz * cone.axis_z) / length;
  return along >= cone.cosine * off_cosine - cone.sine * off_sine;
}

void Panels::put(const LaneRays& rays, std::size_t p, std::size_t i, float t, float u, float v,
                 float normal_x, float normal_y, Surfaces& surfaces) const {
  const bool front = rays.x[i] * normal_x + rays.y[i] * normal_y < 0;
  surfaces.t[i] = t;
  surfaces.x[i] = rays.from_x[i] + rays.x[i] * t;
  surfaces.y[i] = rays.from_y[i] + rays.y[i] * t;
  surfaces.z[i] = rays.from_z[i] + rays.z[i] * t;
  surfaces.thickness[i] = 0;
  surfaces.u[i] = u;
  surfaces.v[i] = v;
  surfaces.normal_x[i] = front ? normal_x : -normal_x;
  surfaces.normal_y[i] = front ? normal_y : -normal_y;
  surfaces.face[i] = Face::panel;
  surfaces.ending[i] = Ending::hit;
  surfaces.material[i] = material_[p];
  surfaces.item[i] = no_item;
  surfaces.any_panel = true;
}

/// Sorts panels into groups of neighbors.
void Panels::group() {
  std::vector<std::uint32_t> order(x_.size());
  std::iota(order.begin(), order.end(), 0u);
  // Along a curve that keeps neighbors together (Morton, "A Computer Oriented Geodetic Data Base",
  // 1966).
  float low_x = 0, low_y = 0, side = 1;
  if (!order.empty()) {
    low_x = *std::ranges::min_element(x_);
    low_y = *std::ranges::min_element(y_);
    side = std::max(
        {*std::ranges::max_element(x_) - low_x, *std::ranges::max_element(y_) - low_y, 1e-3f});
  }
  const auto code = [&](std::uint32_t p) {
    const auto x = static_cast<std::uint32_t>((x_[p] - low_x) / side * 1023);
    const auto y = static_cast<std::uint32_t>((y_[p] - low_y) / side * 1023);
    std::uint32_t result = 0;
    for (std::uint32_t bit = 0; bit < 10; ++bit) {
      result |= (x >> bit & 1) << (2 * bit) | (y >> bit & 1) << (2 * bit + 1);
    }
    return result;
  };
  std::ranges::stable_sort(order, {}, code);
  for (std::size_t first = 0; first < order.size(); first += group_size) {
    Group group;
    for (std::size_t k = first; k < std::min(first + group_size, order.size()); ++k) {
      const std::uint32_t p = order[k];
      group.panels[group.count++] = p;
      const float along_x = half_width_[p] * std::abs(normal_y_[p]) + 1e-4f;
      const float along_y = half_width_[p] * std::abs(normal_x_[p]) + 1e-4f;
      const float least[3] = {x_[p] - along_x, y_[p] - along_y, z_[p] - 1e-4f};
      const float most[3] = {x_[p] + along_x, y_[p] + along_y, z_[p] + height_[p] + 1e-4f};
      for (int axis = 0; axis < 3; ++axis) {
        group.low[axis] = std::min(group.low[axis], least[axis]);
        group.high[axis] = std::max(group.high[axis], most[axis]);
      }
    }
    groups_.push_back(group);
  }
}

/// The same for lanes that go all ways: each looks into the groups that it passes.
void Panels::cover_spread(const LaneRays& rays, const PanelStarts& starts, Surfaces& surfaces,
                          std::int32_t* nearest) const {
  for (std::size_t i = 0; i < rays.size; ++i) {
    const float from[3] = {rays.from_x[i], rays.from_y[i], rays.from_z[i]};
    const float way[3] = {rays.x[i], rays.y[i], rays.z[i]};
    const float inverse[3] = {1 / way[0], 1 / way[1], 1 / way[2]};
    float far = surfaces.ending[i] == Ending::escaped ? std::numeric_limits<float>::infinity()
                                                      : surfaces.t[i];
    nearest[i] = -1;
    for (const Group& group : groups_) {
      float enters = starts.t[i];
      float leaves = far;
      for (int axis = 0; axis < 3; ++axis) {
        const float one = (group.low[axis] - from[axis]) * inverse[axis];
        const float two = (group.high[axis] - from[axis]) * inverse[axis];
        // Of a lane along a side, which gives no number, nothing is ruled out.
        enters = std::max(enters, std::min(one, two));
        leaves = std::min(leaves, std::max(one, two));
      }
      if (enters > leaves) continue;
      for (std::uint32_t k = 0; k < group.count; ++k) {
        const std::size_t p = group.panels[k];
        const auto index = static_cast<std::int32_t>(p);
        const float px = x_[p] - from[0];
        const float py = y_[p] - from[1];
        const float toward = way[0] * normal_x_[p] + way[1] * normal_y_[p];
        const float t = (px * normal_x_[p] + py * normal_y_[p]) / toward;
        const bool past = t > starts.t[i] || (t == starts.t[i] && index > starts.panel[i]);
        // Of two at one place the first is met.
        if (!past || !(t < far || (t == far && nearest[i] > index))) continue;
        const float side = (way[1] * t - py) * normal_x_[p] - (way[0] * t - px) * normal_y_[p];
        const float u = 0.5f + (toward < 0 ? side : -side) * (0.5f / half_width_[p]);
        const float v = (from[2] + way[2] * t - z_[p]) * (1 / height_[p]);
        if (!(u >= 0 && u < 1 && v >= 0 && v < 1)) continue;
        if (texture_[p] >= 0 &&
            textures_.covered(static_cast<std::size_t>(texture_[p]), u, v) == 0) {
          continue;
        }
        far = t;
        nearest[i] = index;
        put(rays, p, i, t, u, v, normal_x_[p], normal_y_[p], surfaces);
      }
    }
  }
}

void Panels::cover(const LaneRays& rays, const PanelStarts& starts, Surfaces& surfaces,
                   std::int32_t* nearest) const {
  std::fill_n(nearest, rays.size, -1);
  const Cone cone(rays, surfaces);
  if (!rays.many_eyes) {
    std::size_t likely = 0;
    for (std::size_t p = 0; p < x_.size(); ++p) likely += may_meet(p, cone) ? 1 : 0;
    if (likely > 4 && 4 * likely > x_.size()) {
      cover_spread(rays, starts, surfaces, nearest);
      return;
    }
  }
  alignas(64) float far[Surfaces::capacity];
  for (std::size_t i = 0; i < rays.size; ++i) {
    far[i] = surfaces.ending[i] == Ending::escaped ? std::numeric_limits<float>::infinity()
                                                   : surfaces.t[i];
  }
  for (std::size_t p = 0; p < x_.size(); ++p) {
    if (!may_meet(p, cone)) continue;
    const auto index = static_cast<std::int32_t>(p);
    alignas(64) float t_of[Surfaces::capacity];
    alignas(64) float u_of[Surfaces::capacity];
    alignas(64) float v_of[Surfaces::capacity];
    const float inverse_width = 0.5f / half_width_[p];
    const float inverse_height = 1 / height_[p];
    alignas(64) float normal_x[Surfaces::capacity];
    alignas(64) float normal_y[Surfaces::capacity];
    std::fill_n(normal_x, rays.size, normal_x_[p]);
    std::fill_n(normal_y, rays.size, normal_y_[p]);
    for (std::size_t i = 0; rays.many_eyes && turns_[p] && i < rays.size; ++i) {
      const float dx = rays.eye_x[i] - x_[p];
      const float dy = rays.eye_y[i] - y_[p];
      const float length = std::sqrt(dx * dx + dy * dy);
      if (!(length > 0)) continue;
      normal_x[i] = dx / length;
      normal_y[i] = dy / length;
    }
    for (std::size_t i = 0; i < rays.size; ++i) {
      const float px = x_[p] - rays.from_x[i];
      const float py = y_[p] - rays.from_y[i];
      const float toward = rays.x[i] * normal_x[i] + rays.y[i] * normal_y[i];
      const float t = (px * normal_x[i] + py * normal_y[i]) / toward;
      // Right as one stands before the front.
      const float side = (rays.y[i] * t - py) * normal_x[i] - (rays.x[i] * t - px) * normal_y[i];

      // From behind it is turned round, so that a sign reads right from both sides.
      t_of[i] = t;
      u_of[i] = 0.5f + (toward < 0 ? side : -side) * inverse_width;
      v_of[i] = (rays.from_z[i] + rays.z[i] * t - z_[p]) * inverse_height;
    }
    for (std::size_t i = 0; i < rays.size; ++i) {
      const float t = t_of[i];
      const float v = v_of[i];
      const bool past = t > starts.t[i] || (t == starts.t[i] && index > starts.panel[i]);
      if (!past || !(t < far[i]) || !(u_of[i] >= 0 && u_of[i] < 1 && v >= 0 && v < 1)) continue;
      if (texture_[p] >= 0 &&
          textures_.covered(static_cast<std::size_t>(texture_[p]), u_of[i], v) == 0) {
        continue;
      }
      far[i] = t;
      nearest[i] = index;
      put(rays, p, i, t, u_of[i], v, normal_x[i], normal_y[i], surfaces);
    }
  }
}

}  // namespace photonlane
