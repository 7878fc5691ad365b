#pragma once

#include <atomic>
#include <cstdint>
#include <optional>
#include <vector>

#include "photonlane/field/compiled_field.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

/// Values of cells by whether their middles lie in a field. Where the field says that no surface is
/// near, nothing is sampled.
class FieldSampler {
 public:
  /// As FieldVoxels has colors and kinds.
  FieldSampler(const Field& field, const std::vector<std::uint32_t>& colors);

  const VoxelPalette& palette() const { return palette_; }
  std::uint64_t evaluations() const { return evaluations_; }

  /// The value of all places of a cube with that middle and half a side, where it is sure that
  /// there is one.
  std::optional<std::uint32_t> known(const Vec3d& middle, double half) const;
  /// Values of a block of cells of that size, x fastest, then y. `low` counts them from `corner`.
  void read(const Vec3d& corner, const Vec3d& low, double cell, std::uint32_t* values) const;

 private:
  std::uint32_t value_of(const SurfaceMaterial& material) const;
  /// Whether a value at a cube's middle says that no surface is in it.
  bool rules_out(double value, const Vec3d& middle, double half) const;

  CompiledField field_;
  double stretch_;  ///< of values over distances; 0: unknown
  VoxelPalette palette_;
  mutable std::atomic<std::uint64_t> evaluations_{0};
};

}  // namespace photonlane
