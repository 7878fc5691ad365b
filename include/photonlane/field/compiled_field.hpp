#pragma once

///   const CompiledField urn(field::join(0.1, {field::sphere(0.5), field::cylinder(0.2, 1.6)}));
///   const double away = urn.distance({1, 0, 0});
///   const Vec3d nearest = urn.closest_point({1, 0, 0});

#include <memory>
#include <span>
#include <vector>

#include "photonlane/field/field.hpp"
#include "photonlane/lane/solid.hpp"

namespace photonlane {

struct Tape;
class PlaceTrees;

/// What a surface is made of: `share` of `other`, the rest of `material`; indexes of materials, -1
/// where the field says nothing.
struct SurfaceMaterial {
  int material = -1;
  int other = -1;
  double share = 0;
};

/// A field's value at a place, and where it grows, by how much for a meter.
struct FieldSlope {
  double value = 0;
  Vec3d gradient{0, 0, 0};
};

/// A field ready to be asked and marched. Immutable, cheap to copy, safe from any thread. Distances
/// are in meters, below 0 inside; they are the field's own, which never are more than the distance
/// times Field::stretch().
class CompiledField final : public Solid {
 public:
  /// `fallback` is the material of what has none of its own. Throws Error (input) for fields of too
  /// many operations within one another.
  explicit CompiledField(const Field& field, std::uint32_t fallback = 0);

  double distance(const Vec3d& place) const;
  /// Where it grows, by how much for a meter; carried through the operations, not differenced.
  Vec3d gradient(const Vec3d& place) const;
  /// The place of the surface nearest to a place: exact to 1e-9 m where the field is a distance.
  /// Elsewhere it is looked for in ever smaller cubes that values say a surface may be in, so that
  /// none is nearer by more than a thousandth, or closest_surface() says by how much. Throws Error
  /// (input) where there is no surface within 1e7 m, and for places that are not finite.
  Vec3d closest_point(const Vec3d& place) const;
  /// The same, with what is known of how near it is. Does not throw where there is no surface.
  ClosestSurface closest_surface(const Vec3d& place) const;
  SurfaceMaterial material(const Vec3d& place) const;

  /// The same for many places, in their order.
  std::vector<double> distances(std::span<const Vec3d> places) const;
  std::vector<Vec3d> gradients(std::span<const Vec3d> places) const;
  std::vector<FieldSlope> slopes(std::span<const Vec3d> places) const;
  std::vector<Vec3d> closest_points(std::span<const Vec3d> places) const;
  std::vector<ClosestSurface> closest_surfaces(std::span<const Vec3d> places) const;
  std::vector<SurfaceMaterial> materials(std::span<const Vec3d> places) const;

  /// Of places in arrays, in float, for frames; best with neighbors beside one another. Returns how
  /// often the field was evaluated. Of the budget pruning and its memory matter.
  std::size_t distances(const float* x, const float* y, const float* z, std::size_t count,
                        float* values, const FieldBudget& budget = {}) const;

  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;

  void nearest_hits(std::span<const LaneBatch<float>* const> lanes, const Budget& budget,
                    std::span<HitBatch<float>* const> hits) const override;
  void nearest_hits(std::span<const LaneBatch<double>* const> lanes, const Budget& budget,
                    std::span<HitBatch<double>* const> hits) const override;

  /// Where it is so large that it is pruned by place.
  bool gains_by_company() const override;

  const Field& field() const { return field_; }
  /// Whether some of its values are estimates of distances (Field::estimates()).
  bool has_estimates() const;
  /// Operations it takes to evaluate it once.
  std::size_t instruction_count() const;

  bool knows_distances() const override { return true; }
  /// Distances over the stretch.
  void measure(const DistanceBatch& batch) const override;
  std::optional<ClosestSurface> closest(const Vec3d& place) const override;
  Bounds bounds() const override { return field_.bounds(); }
  std::string summary() const override;
  std::size_t memory_bytes() const override;

 private:
  /// Values at places, an array a coordinate, by the tree where it pays.
  template <class Number>
  std::size_t values_at(const Number* x, const Number* y, const Number* z, std::size_t count,
                        Number* values, const FieldBudget& budget) const;
  template <class Number>
  void march(std::span<const LaneBatch<Number>* const> lanes, const Budget& budget,
             std::span<HitBatch<Number>* const> hits) const;
  template <class Number>
  HitBatch<Number> march(const LaneBatch<Number>& lanes, const Budget& budget) const;

  Field field_;
  std::uint32_t fallback_;
  std::shared_ptr<const Tape> tape_;
  std::shared_ptr<PlaceTrees> places_;  ///< what matters where, as far as it was asked
};

}  // namespace photonlane
