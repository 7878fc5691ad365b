#pragma once

/// Spheres that move from frame to frame:
///
///   MovingSpheres bubbles(all);
///   for (;;) {
///     const SphereUpdate update = bubbles.move(centers_now);
///     part->set = bubbles.set();  // of the scene's Spheres
///     world = compile(scene, world);
///     frame = render(world, camera, budget);
///   }

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {

/// What was done to a set whose spheres moved, from the cheapest on.
enum class SphereUpdateKind {
  refit,  ///< boxes hold their spheres again, the order is as before
  parts,  ///< some parts were put in order anew, where boxes had grown much
  whole,  ///< all of it was, since parts had come to lie in one another
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<SphereUpdateKind>{"refit", "parts",
                                                                                "whole"};

struct SphereUpdate {
  SphereUpdateKind kind = SphereUpdateKind::refit;
  std::uint64_t parts = 0;  ///< that were put in order anew
  /// How much larger boxes are than when they were put in order: the sum of their surfaces, which
  /// a lane's price goes by (Goldsmith and Salmon, "Automatic Creation of Object Hierarchies for
  /// Ray Tracing", 1987).
  double grown = 1;
  double seconds = 0;
};

/// An exact set that is changed in place. Not for use by several threads at once, nor while a frame
/// is made of it: what was made of earlier sets sees the moved spheres, in boxes that may not hold
/// them, and must be compiled anew.
class MovingSpheres {
 public:
  /// Boxes may grow so much before they are made anew.
  static constexpr double most_grown = 1.6;

  /// Throws as SphereSet::make.
  explicit MovingSpheres(const std::vector<Sphere>& spheres, int threads = 0);
  ~MovingSpheres();

  /// Moves all, in the order in which they were given. Throws Error (usage) for another number of
  /// them, and Error (input), having moved none, for places that cannot be.
  SphereUpdate move(std::span<const Vec3d> centers);
  /// Moves those of some indices.
  SphereUpdate move(std::span<const std::uint32_t> which, std::span<const Vec3d> centers);

  /// The set as it is now: another one after each move.
  std::shared_ptr<const SphereSet> set() const { return set_; }

 private:
  struct State;
  void take(std::shared_ptr<const SphereSet> set);
  SphereUpdate mend(std::span<const std::uint32_t> nodes, bool all);

  int threads_;
  std::unique_ptr<State> state_;
  std::shared_ptr<const SphereSet> set_;
};

}  // namespace photonlane
