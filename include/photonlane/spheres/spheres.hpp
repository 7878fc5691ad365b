#pragma once

/// Balls of a room, each met exactly: a list of them, or a set of any number.
///
///   Spheres dew;
///   dew.material = pearl;
///   dew.spheres.push_back({.center = {0, 2, 0.4}, .radius = 0.05});
///   scene.room().add(dew);

#include <cstddef>
#include <memory>
#include <string>
#include <vector>

#include "photonlane/lane/solid.hpp"
#include "photonlane/spheres/sphere_parts.hpp"
#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {

/// Spheres of a room, as they are described; add them to a Room.
struct Spheres final : SolidPart {
  std::vector<Sphere> spheres;
  /// Where not null, these instead of the list.
  std::shared_ptr<const SphereSet> set;
  /// Where not null, these instead of both, and which of them are held by this process.
  std::shared_ptr<const SphereParts> parts;
  HeldParts held;
  int material = -1;  ///< of those without their own; -1: the plain gray of what has none
  /// Which materials of the scene those numbers are that a set's spheres have; without one, the
  /// numbers are the scene's.
  std::vector<int> materials;
  /// Where a scene file has the set from, as it stands there; written back as it is.
  std::string source_text;

  Spheres() = default;
  explicit Spheres(std::vector<Sphere> all, int of = -1) : spheres(std::move(all)), material(of) {}
  explicit Spheres(std::shared_ptr<const SphereSet> all, int of = -1)
      : set(std::move(all)), material(of) {}
  explicit Spheres(std::shared_ptr<const SphereParts> all, int of = -1)
      : parts(std::move(all)), material(of) {}

  std::string_view kind() const override { return "spheres"; }
  void use_materials(const std::function<void(int)>& use) const override;
  /// Throws Error (input) for no sphere, a center or radius that is not finite or over 1e6 m, in
  /// lists a radius that is not above 0, and materials that are not there.
  std::shared_ptr<const Solid> compile(const SolidContext& context) const override;
};

}  // namespace photonlane
