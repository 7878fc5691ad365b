#pragma once

/// Pollen that drifts through a hall: demo data of any size, the same for the same seed.
///
///   const auto pollen = SphereSet::make(PollenSource({.count = 3000000}));

#include <cstdint>
#include <span>
#include <vector>

#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {

/// What is drifting, and where.
struct PollenRecipe {
  std::int64_t count = 1000000;
  std::int64_t seed = 1;
  Vec3d hall{40, 24, 12};  ///< meters: the hall stands on the floor, its middle at the origin
  double radius =
      0;  ///< meters, of most grains; 0: so that a lane meets as many whatever the count
  double swirl = 0.55;    ///< share that drifts in the swirl
  double flowers = 0.35;  ///< share that is close to flowers; the rest is everywhere
};
std::span<const Knob<PollenRecipe>> pollen_recipe_knobs();

/// A stream of it: grain by grain, each drawn from its own number alone.
class PollenSource final : public SphereSource {
 public:
  /// Throws Error (input) for values out of range.
  explicit PollenSource(const PollenRecipe& recipe);

  std::size_t stretches() const override;
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override;
  bool has_colors() const override { return true; }

 private:
  struct Flower {
    Vec3d place;
    double spread;
    double hue;
  };
  PollenRecipe recipe_;
  double radius_;
  std::vector<Flower> flowers_;
};

}  // namespace photonlane
