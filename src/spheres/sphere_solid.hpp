#pragma once

#include <cstdint>
#include <vector>

#include "photonlane/spheres/spheres.hpp"

namespace photonlane {

/// Spheres as kernels read them: for each coordinate an array of floats, counted from the middle of
/// them all and padded to a whole vector, to find which may be met, and the doubles to decide.
struct SphereArrays {
  SphereArrays() = default;
  explicit SphereArrays(const std::vector<Sphere>& spheres);

  std::size_t count = 0;
  Vec3d middle{0, 0, 0};  ///< of their bounds
  double reach = 0;       ///< from there to the end of the farthest
  std::vector<float> x, y, z, radius;
  std::vector<double> center_x, center_y, center_z, exact_radius;
};

/// Which sphere a lane meets first, and where; -1: none.
struct SphereHit {
  std::int32_t sphere = -1;
  double t = 0;
};

/// A lane as the kernels take it: what it meets lies beyond `start` and before `limit`.
struct SphereLane {
  Vec3d from{0, 0, 0};
  Vec3d way{1, 0, 0};
  double start = 0;
  double limit = 0;
  bool single = true;  ///< distances are compared as floats, as the lane will be told them
};

/// The nearest sphere on a lane; with `any`, the first that is found.
SphereHit meet_spheres(const SphereArrays& arrays, const SphereLane& lane, bool any);

/// The sphere whose surface is nearest to a place, or that it is deepest in.
std::int32_t nearest_sphere(const SphereArrays& arrays, const Vec3d& place, double* distance);

/// Spheres compiled for tracing. Memory: 48 bytes a sphere and its material.
class SphereSolid final : public Solid {
 public:
  SphereSolid(const Spheres& spheres, const SolidContext& context);

  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;
  std::uint64_t hide(const LaneBatch<float>& lanes, const Budget& budget,
                     bool* hidden) const override;
  bool knows_distances() const override { return true; }
  void measure(const DistanceBatch& batch) const override;
  std::optional<ClosestSurface> closest(const Vec3d& place) const override;
  std::vector<Emitter> emitters(const std::vector<bool>& emitting) const override;
  Bounds bounds() const override { return bounds_; }
  std::string summary() const override;
  std::size_t memory_bytes() const override;

 private:
  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes) const;

  SphereArrays arrays_;
  SphereArrays opaque_;  ///< those that do not bend light, where some do; else empty
  std::vector<std::uint32_t> material_;
  std::vector<std::uint32_t> opaque_material_;
  Bounds bounds_;
  double smallest_ = 0;
  double largest_ = 0;
};

}  // namespace photonlane
