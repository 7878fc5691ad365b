#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <vector>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// A step of marching: where along the lane, in meters, and the field's value there.
struct MarchStep {
  double t;
  double value;
};

/// Keeps the steps of some lanes of a batch, for logs of what a lane did.
class StepWatch {
 public:
  /// From now on steps of lane i of the next batch are kept in a list of their own.
  void follow(std::size_t i) { kept_.push_back({i, {}}); }
  void note(std::size_t i, double t, double value);
  const std::vector<MarchStep>& steps(std::size_t i) const;

 private:
  struct Kept {
    std::size_t lane;
    std::vector<MarchStep> steps;
  };
  std::vector<Kept> kept_;
};

/// Up to `capacity` lanes that start a leg together, one array a coordinate. Directions are unit
/// length, so that t is a distance in meters. Kernels may read, never use, the entries past
/// `size`; they must hold some number.
template <class Number>
struct LaneBatch {
  static constexpr std::size_t capacity = 128;
  std::size_t size = 0;
  Number far_limit = 0;
  alignas(64) Number x[capacity]{};
  alignas(64) Number y[capacity]{};
  alignas(64) Number z[capacity]{};
  alignas(64) Number direction_x[capacity]{};
  alignas(64) Number direction_y[capacity]{};
  alignas(64) Number direction_z[capacity]{};
  bool any_start = false;
  alignas(64) Number start[capacity];  ///< with any_start: only surfaces beyond this t are met
  bool any_limit = false;
  alignas(64) Number limit[capacity];  ///< with any_limit: only surfaces before this t matter

  bool any_face = false;
  alignas(
      64) std::int32_t face[capacity];  ///< with any_face: of the portals, that each comes out of

  /// With any_scale: meters here for a meter at the eye, where those are fewer than 1. What is
  /// close (the tolerance of fields, a little way off a surface) is as close as it looks from
  /// there.
  bool any_scale = false;
  alignas(64) Number scale[capacity];

  /// Where not null: the face of the swell that bends each lane, or -1; such a lane has crossed at
  /// its limit.
  const std::int32_t* bent = nullptr;

  StepWatch* watch = nullptr;                ///< told of every step of marching
  const std::size_t* watch_order = nullptr;  ///< which lane of the watched batch each is

  double spread = 0;         ///< meters a meter: how much wider a pixel's lanes get; 0: not at all
  bool together = false;     ///< neighbors go the same way, as they come from the eye
  bool ending_only = false;  ///< how lanes end matters and where, but not the surface's normal

  Number scale_of(std::size_t i) const { return any_scale ? scale[i] : Number(1); }

  /// Adds lane i of another batch.
  void take(const LaneBatch& from, std::size_t i) {
    x[size] = from.x[i];
    y[size] = from.y[i];
    z[size] = from.z[i];
    direction_x[size] = from.direction_x[i];
    direction_y[size] = from.direction_y[i];
    direction_z[size] = from.direction_z[i];
    start[size] = from.any_start ? from.start[i] : Number(0);
    if (from.any_limit) limit[size] = from.limit[i];
    if (from.any_face) face[size] = from.face[i];
    if (from.any_scale) scale[size] = from.scale[i];
    ++size;
  }
};

/// Which side of something a lane met, by the outward normal: east is +x, north is +y, floor is up.
/// A panel is an upright surface turned any way, a curved face has a normal of its own everywhere.
enum class Face : std::uint32_t {
  none,
  east,
  west,
  north,
  south,
  floor,
  ceiling,
  inside,
  panel,
  curved
};
template <>
inline constexpr std::array<std::string_view, 10> choice_names<Face>{
    "none", "east", "west", "north", "south", "floor", "ceiling", "inside", "panel", "curved"};

/// How a leg ended.
/// A leg that ended at a portal goes on behind it; a lane never ends so.
enum class Ending : std::uint32_t { hit, escaped, spent, crossed };
template <>
inline constexpr std::array<std::string_view, 4> choice_names<Ending>{"hit", "escaped", "spent",
                                                                      "crossed"};

/// The item layer's value where a lane met no cell.
inline constexpr std::uint32_t no_item = 0xffffffffu;
/// The material layer's value where a lane met nothing.
inline constexpr std::uint32_t no_material = 0xffffffffu;

/// A share of another material, in hits: `other` is no material but the color that what was met has
/// instead of its material's, 0xRRGGBB in sRGB.
inline constexpr float own_color = -1;
/// The same for a picture's light, as shared_exponent_code() makes it: it is seen as it is, less
/// what others keep of the light that falls there. Shares from here to shown_color say how much of
/// its pixel it covers: share_of_lit(), alpha_of_lit().
inline constexpr float lit_color = -2;
/// The same, just as it is.
inline constexpr float shown_color = -3;
constexpr float share_of_lit(float alpha) { return lit_color - (1 - alpha); }
constexpr bool is_lit_color(float share) { return share <= lit_color && share > shown_color; }
constexpr float alpha_of_lit(float share) { return 1 - (lit_color - share); }

/// Where the lanes of a batch ended, in the batch's order.
template <class Number>
struct HitBatch {
  static constexpr std::size_t capacity = LaneBatch<Number>::capacity;

  HitBatch() = default;
  HitBatch(const HitBatch&) = default;
  /// Of one's own: where it is the compiler's, GCC 12 assigns what a call returns by way of an
  /// address that is not aligned.
  HitBatch& operator=(const HitBatch& from) {
    std::memcpy(static_cast<void*>(this), &from, sizeof(*this));
    return *this;
  }

  alignas(64) Number t[capacity];  ///< meters: to the hit, the far limit, or where budget ran out
  alignas(64) Ending ending[capacity];
  alignas(64) Face face[capacity];
  alignas(64) std::uint32_t item[capacity];      ///< which part of the solid, e.g. the cell's id
  alignas(64) std::uint32_t material[capacity];  ///< index into the scene's materials, at hits
  alignas(64) std::uint32_t steps[capacity];
  alignas(64) Number exit[capacity];  ///< t where the lane leaves what it met, of blocks
  /// Of panels alone: place on the panel, 0 to 1 from the left and from below.
  alignas(64) float panel_u[capacity];
  alignas(64) float panel_v[capacity];
  /// Of panels and curved faces.
  alignas(64) float normal_x[capacity];
  alignas(64) float normal_y[capacity];
  alignas(64) float normal_z[capacity];
  /// Of curved faces: `share` of another material is mixed in.
  alignas(64) std::uint32_t other[capacity];
  alignas(64) float share[capacity];
  /// Of fields: how often they were evaluated for the lane alone, and for several together.
  alignas(64) std::uint32_t evaluations[capacity];
  /// Of fields, unless only endings are asked for: the least value met, in meters, and 1 where it
  /// changed by more from step to step than the field says it can.
  alignas(64) float nearest[capacity];
  alignas(64) std::uint32_t overstretched[capacity];
  std::uint64_t shared_evaluations;

  /// Takes over where lane i of another batch ended and what it met, a curved face or nothing, as
  /// lane k.
  void take_curved(const HitBatch& from, std::size_t i, std::size_t k) {
    t[k] = exit[k] = from.t[i];
    ending[k] = from.ending[i];
    face[k] = from.face[i];
    item[k] = from.item[i];
    material[k] = from.material[i];
    normal_x[k] = from.normal_x[i];
    normal_y[k] = from.normal_y[i];
    normal_z[k] = from.normal_z[i];
    other[k] = from.other[i];
    share[k] = from.share[i];
  }
  /// Takes over all of lane i of another batch, as lane k.
  void take(const HitBatch& from, std::size_t i, std::size_t k) {
    take_curved(from, i, k);
    exit[k] = from.exit[i];
    steps[k] = from.steps[i];
    panel_u[k] = from.panel_u[i];
    panel_v[k] = from.panel_v[i];
    evaluations[k] = from.evaluations[i];
    nearest[k] = from.nearest[i];
    overstretched[k] = from.overstretched[i];
  }
};

}  // namespace photonlane
