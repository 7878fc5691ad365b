#pragma once

#include <vector>

#include "photonlane/spheres/spheres.hpp"
#include "spheres/sphere_solid.hpp"

namespace photonlane {

/// Spheres in parts, as one solid. Items are numbered part after part.
class PartedSolid final : public Solid {
 public:
  PartedSolid(const Spheres& spheres, const SolidContext& context);

  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;
  void nearest_hits(std::span<const LaneBatch<float>* const> lanes, const Budget& budget,
                    std::span<HitBatch<float>* const> hits) const override;
  void nearest_hits(std::span<const LaneBatch<double>* const> lanes, const Budget& budget,
                    std::span<HitBatch<double>* const> hits) const override;
  /// Every question to other processes takes its time, whether of one batch or of many. Also where
  /// all parts are here: what is counted goes by which lanes are looked at together.
  bool gains_by_company() const override { return true; }
  std::uint64_t hide(const LaneBatch<float>& lanes, const Budget& budget,
                     bool* hidden) const override;
  bool knows_distances() const override { return true; }
  void measure(const DistanceBatch& batch) const override;
  std::optional<ClosestSurface> closest(const Vec3d& place) const override;
  std::string_view knob_group() const override { return "spheres"; }
  Bounds bounds() const override;
  std::string summary() const override;
  std::size_t memory_bytes() const override;

  /// The same of the parts that are held here alone.
  template <class Number>
  HitBatch<Number> own_hits(const LaneBatch<Number>& lanes, const Budget& budget) const;
  std::uint64_t own_hide(const LaneBatch<float>& lanes, const Budget& budget, bool* hidden) const;
  /// False where none is held.
  bool own_measure(const DistanceBatch& batch) const;
  std::size_t number() const { return held_.solid; }

 private:
  template <class Number>
  HitBatch<Number> ask(const LaneBatch<Number>& lanes, const Budget& budget) const;

  std::shared_ptr<const SphereParts> parts_;
  HeldParts held_;
  std::vector<std::unique_ptr<const SphereSolid>> solids_;  ///< by part; null: elsewhere
  std::vector<std::uint32_t> first_;                        ///< item of each part
};

/// Takes lane i of what another holder said, where that is nearer; of two equally far ones the one
/// whose item comes first.
template <class Number>
void keep_nearer_lane(const HitBatch<Number>& from, std::size_t i, HitBatch<Number>& hits) {
  if (from.ending[i] != Ending::hit) return;
  const bool nearer = hits.ending[i] != Ending::hit || from.t[i] < hits.t[i] ||
                      (from.t[i] == hits.t[i] && from.item[i] < hits.item[i]);
  if (nearer) hits.take_curved(from, i, i);
}

}  // namespace photonlane
