#pragma once

#include <cstdint>
#include <vector>

#include "photonlane/spheres/spheres.hpp"
#include "spheres/sphere_lanes.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane {

/// Spheres compiled for tracing: a set, and which materials it is made of.
class SphereSolid final : public Solid {
 public:
  SphereSolid(std::shared_ptr<const SphereSet> set, int material, const std::vector<int>& materials,
              const SolidContext& context);

  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;
  std::uint64_t hide(const LaneBatch<float>& lanes, const Budget& budget,
                     bool* hidden) const override;
  bool knows_distances() const override { return true; }
  void measure(const DistanceBatch& batch) const override;
  std::optional<ClosestSurface> closest(const Vec3d& place) const override;
  std::vector<Emitter> emitters(const std::vector<bool>& emitting) const override;
  std::optional<Ball> ball(std::uint32_t item) const override;
  std::string_view knob_group() const override { return "spheres"; }
  Bounds bounds() const override { return set_->bounds(); }
  std::string summary() const override;
  std::size_t memory_bytes() const override;

  /// What a look through all of them finds.
  struct Findings {
    /// What would look wrong or is of no use, a line each: radii of 0, spheres that are there
    /// twice, and those outside of bounds or farther from the eye than lanes go.
    std::vector<std::string> faults;
    double within = 0;  ///< share of them that lie in another, by some that were looked at
  };
  Findings look_through(const Bounds& room, const Vec3d& eye, double far_limit) const;

 private:
  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes, const Budget& budget) const;
  std::uint32_t material_numbered(std::uint32_t number) const;
  /// Of the sphere in a slot, as an index of the scene's.
  std::uint32_t material_of(std::uint64_t slot) const;

  std::shared_ptr<const SphereSet> set_;
  const SphereStore& store_;
  std::uint32_t material_;                ///< of those without their own
  std::vector<std::uint32_t> materials_;  ///< by number, where numbers are not the scene's
  std::vector<bool> bends_;               ///< by material of the scene
  bool some_bend_ = false;                ///< but not all
};

}  // namespace photonlane
