#pragma once

#include <cstddef>
#include <cstdint>

#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// What the lanes of a batch see, found by columns, rays at every pixel or bounces. Places
/// are meters from where the lanes start. Lanes that met nothing have their direction as place and
/// 1 as t.
struct Surfaces {
  static constexpr std::size_t capacity = LaneBatch<float>::capacity;
  std::size_t size = 0;
  bool wants_data = true;         ///< item and steps are asked for
  bool any_panel = false;         ///< some face is a panel
  bool all_hit = true;            ///< every ending is a hit
  bool any_curved = false;        ///< some face is curved
  bool any_scale = false;         ///< as LaneBatch
  alignas(64) float t[capacity];  ///< along the lane
  alignas(64) float x[capacity];
  alignas(64) float y[capacity];
  alignas(64) float z[capacity];
  alignas(64) float thickness[capacity];  ///< meters the lane runs inside what it met
  alignas(64) float u[capacity];  ///< place on a texture, for panels alone: 0 to 1 from the left
  alignas(64) float v[capacity];  ///< 0 to 1 from below
  alignas(64) float normal_x[capacity];  ///< of panels and curved faces, toward the lane
  alignas(64) float normal_y[capacity];
  alignas(64) float normal_z[capacity];       ///< of curved faces
  alignas(64) std::uint32_t other[capacity];  ///< of curved faces: a material mixed in
  alignas(64) float share[capacity];          ///< how much of it
  alignas(64) Face face[capacity];
  alignas(64) Ending ending[capacity];
  alignas(64) std::uint32_t material[capacity];
  alignas(64) std::uint32_t item[capacity];
  alignas(64) std::uint32_t steps[capacity];
  // Of rooms with fields, as HitBatch.
  alignas(64) std::uint32_t evaluations[capacity];
  alignas(64) float nearest[capacity];
  alignas(64) std::uint32_t overstretched[capacity];
  alignas(64) float scale[capacity];
  // Of lanes that have ended, as they are kept for layers.
  alignas(64) std::uint32_t room[capacity];
  alignas(64) std::uint32_t crossings[capacity];

  /// Whether a picture was met: it has its light, and the fog before it, in its colors.
  bool picture(std::size_t i) const {
    return ending[i] == Ending::hit && face[i] == Face::curved && share[i] < own_color;
  }
  /// Whether that is what a picture shows behind all that has a place.
  bool placeless(std::size_t i) const { return picture(i) && share[i] == shown_color; }
  float scale_of(std::size_t i) const { return any_scale ? scale[i] : 1.0f; }

  /// Repeats the last one up to a whole vector: kernels may look there.
  void pad() {
    for (std::size_t i = size; i < capacity && i % 16 != 0; ++i) copy(*this, size - 1, i);
  }
  void copy(const Surfaces& from, std::size_t source, std::size_t to) {
    t[to] = from.t[source];
    x[to] = from.x[source];
    y[to] = from.y[source];
    z[to] = from.z[source];
    thickness[to] = from.thickness[source];
    u[to] = from.u[source];
    v[to] = from.v[source];
    normal_x[to] = from.normal_x[source];
    normal_y[to] = from.normal_y[source];
    normal_z[to] = from.normal_z[source];
    other[to] = from.other[source];
    share[to] = from.share[source];
    face[to] = from.face[source];
    ending[to] = from.ending[source];
    material[to] = from.material[source];
    item[to] = from.item[source];
    steps[to] = from.steps[source];
    evaluations[to] = from.evaluations[source];
    nearest[to] = from.nearest[source];
    overstretched[to] = from.overstretched[source];
  }
};

/// The outward normal of what a lane met.
struct Normal {
  float x = 0, y = 0, z = 0;
};
Normal normal_of(const Surfaces& surfaces, std::size_t i);

}  // namespace photonlane
