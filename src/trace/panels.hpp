#pragma once

#include <vector>

#include "lane/surfaces.hpp"
#include "light/texture_set.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// Directions of the lanes of a batch, unit length, and where they start, in meters from the eye.
struct LaneRays {
  std::size_t size = 0;
  alignas(64) float x[Surfaces::capacity];
  alignas(64) float y[Surfaces::capacity];
  alignas(64) float z[Surfaces::capacity];
  alignas(64) float from_x[Surfaces::capacity];
  alignas(64) float from_y[Surfaces::capacity];
  alignas(64) float from_z[Surfaces::capacity];
  bool many_eyes = false;  ///< each looks from an eye of its own, which sprites turn to
  alignas(64) float eye_x[Surfaces::capacity];
  alignas(64) float eye_y[Surfaces::capacity];

  /// Of lanes from the eye that see these surfaces.
  void toward(const Surfaces& surfaces);
};

/// From where on a lane looks for panels: beyond t, or at t for panels of a higher index.
struct PanelStarts {
  alignas(64) float t[Surfaces::capacity];
  std::int32_t panel[Surfaces::capacity];
};

/// The sprites of a room as one camera sees them, turned toward it.
class Panels {
 public:
  Panels(const World& world, const CompiledRoom& room, const Vec3d& eye);

  bool empty() const { return x_.empty(); }

  /// Puts panels before the surfaces that are farther away: for each lane the nearest one past its
  /// start that is not clear where it is met. `nearest` gets which, or -1.
  void cover(const LaneRays& rays, const PanelStarts& starts, Surfaces& surfaces,
             std::int32_t* nearest) const;

 private:
  struct Cone;
  static constexpr std::size_t group_size = 4;
  /// Neighbors, and what holds them.
  struct Group {
    float low[3] = {1e30f, 1e30f, 1e30f};
    float high[3] = {-1e30f, -1e30f, -1e30f};
    std::uint32_t count = 0;
    std::uint32_t panels[group_size];
  };

  void group();
  bool may_meet(std::size_t i, const Cone& cone) const;
  void cover_spread(const LaneRays& rays, const PanelStarts& starts, Surfaces& surfaces,
                    std::int32_t* nearest) const;
  void put(const LaneRays& rays, std::size_t p, std::size_t i, float t, float u, float v,
           float normal_x, float normal_y, Surfaces& surfaces) const;

  const TextureSet& textures_;
  // Meters from the eye: the foot's middle; then the panel's normal.
  std::vector<float> x_, y_, z_, normal_x_, normal_y_, half_width_, height_;
  std::vector<std::uint32_t> material_;
  std::vector<int> texture_;
  std::vector<bool> turns_;    ///< to the eye
  std::vector<Group> groups_;  ///< as they are turned without eyes of the lanes' own
};

}  // namespace photonlane
