#pragma once

/// A field as voxels: cells whose middles are inside of it.
///
///   const FieldVoxels source(field::torus(1, 0.25), {.points = 512});
///   Voxels ring(VoxelGrid::make(source));
///   ring.cell = source.cell();
///   ring.at = source.corner();

#include <memory>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/field/field.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

class FieldSampler;

struct FieldVoxelRecipe {
  std::int64_t points = 256;  ///< cells along the longest side of the field's box
};
std::span<const Knob<FieldVoxelRecipe>> field_voxel_recipe_knobs();

/// Where the field says that no surface is near, nothing is sampled: a value of more than its
/// stretch times half a cube's diagonal rules a surface in the cube out. Where values are estimates
/// (Field::estimates()) that cannot be said, and every cell is sampled.
class FieldVoxels final : public VoxelSource {
 public:
  /// Throws Error (input) for fields without end or surface, and values out of range. `colors` are
  /// those of the materials a field is made of, 0xRRGGBB in sRGB or VoxelKind::no_color; kind
  /// m + 2 is material m, kind 1 what the field does not say.
  explicit FieldVoxels(const Field& field, const FieldVoxelRecipe& recipe = {},
                       const std::vector<std::uint32_t>& colors = {});
  ~FieldVoxels() override;

  double cell() const { return cell_; }            ///< meters: a side of a cell
  const Vec3d& corner() const { return corner_; }  ///< meters: the grid's lowest

  VoxelCell size() const override { return size_; }
  VoxelPalette palette() const override;
  std::optional<std::uint32_t> known(const VoxelBox& box) const override;
  void read(const VoxelCell& low, std::uint32_t* values) const override;

  /// How often the field was evaluated.
  std::uint64_t evaluations() const;

 private:
  Vec3d middle_of(const VoxelBox& box) const;

  std::unique_ptr<const FieldSampler> sampler_;
  double cell_ = 0;
  Vec3d corner_{0, 0, 0};
  VoxelCell size_{0, 0, 0};
};

}  // namespace photonlane
