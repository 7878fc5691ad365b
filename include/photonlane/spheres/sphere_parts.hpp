#pragma once

/// Sets of spheres that are split by space into parts, of which a process may hold some and ask
/// other processes for the rest.

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "photonlane/lane/solid.hpp"
#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {

class PartedSolid;

/// A part of space: what lies from `low` on, up to but not including `high`; may be without end.
using SphereRegion = Bounds;

/// Splits space into so many regions that have about as many spheres each: again and again across
/// the longer side of what lies there, by a sample that is the same each time. Together they hold
/// all places, each place once. Throws Error (input) for fewer spheres than parts.
std::vector<SphereRegion> split_space(const SphereSource& source, int parts);

/// Those of a source whose middles lie in a region.
class SpheresInRegion final : public SphereSource {
 public:
  SpheresInRegion(const SphereSource& all, const SphereRegion& region)
      : all_(all), region_(region) {}
  std::size_t stretches() const override { return all_.stretches(); }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override;
  bool has_materials() const override { return all_.has_materials(); }
  bool has_colors() const override { return all_.has_colors(); }
  std::string name(std::size_t stretch, std::uint64_t index) const override {
    return all_.name(stretch, index);
  }

 private:
  const SphereSource& all_;
  SphereRegion region_;
};

/// Answers for parts that other processes hold. Each of these is told of a solid by its number, and
/// puts what all processes say of it together, this one's own parts among them; all processes ask
/// and answer until none has anything more to ask.
class FarParts {
 public:
  virtual ~FarParts() = default;
  /// The solid of a number, as soon as it is there; it is asked for what this process holds.
  virtual void join(std::size_t number, const PartedSolid& solid) = 0;
  virtual void nearest_hits(std::size_t solid, std::span<const LaneBatch<float>* const> lanes,
                            const Budget& budget, std::span<HitBatch<float>* const> hits) = 0;
  virtual void nearest_hits(std::size_t solid, std::span<const LaneBatch<double>* const> lanes,
                            const Budget& budget, std::span<HitBatch<double>* const> hits) = 0;
  virtual std::uint64_t hide(std::size_t solid, const LaneBatch<float>& lanes, const Budget& budget,
                             bool* hidden) = 0;
  virtual void measure(std::size_t solid, const DistanceBatch& batch) = 0;
};

/// What is known of a part without holding it.
struct SpherePart {
  std::uint64_t count = 0;  ///< spheres
  std::uint64_t items = 0;  ///< numbers that its hits tell, before those of the next part
  Bounds bounds;
  double smallest = 0, largest = 0, moved = 0;  ///< meters
  std::uint64_t bytes = 0;
  std::uint64_t checksum = 0;  ///< of what holds it
  /// Gives the set. Throws where it is not there, or another one.
  std::function<std::shared_ptr<const SphereSet>()> open;
};

/// All parts of a set.
struct SphereParts {
  std::vector<SpherePart> parts;
  bool has_materials = false;
  std::vector<std::uint32_t> numbers;  ///< of materials, where it has them
  bool has_colors = false;
};

/// Which of them are held here.
struct HeldParts {
  /// Of `processes`, this one: it holds each part whose number leaves this remainder.
  int process = 0;
  int processes = 1;
  std::size_t solid = 0;          ///< its number among those that are asked for
  std::shared_ptr<FarParts> far;  ///< for the others
  bool holds(std::size_t part) const {
    return part % static_cast<std::size_t>(processes) == static_cast<std::size_t>(process);
  }
};

}  // namespace photonlane
