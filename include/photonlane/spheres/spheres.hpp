#pragma once

/// Balls kept as arrays and met exactly: up to some thousands of them, each of its own material.
///
///   Spheres dew{.material = pearl};
///   dew.spheres.push_back({.center = {0, 2, 0.4}, .radius = 0.05});
///   scene.room().add(dew);

#include <cstddef>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/lane/solid.hpp"

namespace photonlane {

/// One of them, in meters.
struct Sphere {
  Vec3d center{0, 0, 0};
  double radius = 0.05;
  int material = -1;  ///< index of materials; -1: that of the set
};

std::span<const Knob<Sphere>> sphere_knobs();

/// A set of spheres, as it is described; add it to a Room.
struct Spheres final : SolidPart {
  /// Every lane looks at all of a set, 8 or 16 at a time.
  static constexpr std::size_t most = 16384;

  std::vector<Sphere> spheres;
  int material = -1;  ///< of those without their own; -1: the plain gray of what has none

  Spheres() = default;
  explicit Spheres(std::vector<Sphere> all, int of = -1) : spheres(std::move(all)), material(of) {}

  std::string_view kind() const override { return "spheres"; }
  void use_materials(const std::function<void(int)>& use) const override;
  /// Throws Error (input) for no sphere or more than `most`, a center or radius that is not finite
  /// or over 1e6 m, a radius that is not above 0, and materials that are not there.
  std::shared_ptr<const Solid> compile(const SolidContext& context) const override;
};

}  // namespace photonlane
