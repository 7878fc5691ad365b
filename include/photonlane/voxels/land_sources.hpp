#pragma once

/// Lands without end: a terraced garden that is made up, and fields.

#include <memory>
#include <span>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/field/field.hpp"
#include "photonlane/voxels/voxel_land.hpp"

namespace photonlane {

class FieldSampler;

struct GardenRecipe {
  std::int64_t seed = 1;
  double rise = 260;    ///< cells from the lowest valley to the highest hill
  double step = 14;     ///< cells that a terrace lies over the next
  double plants = 0.5;  ///< share of places for bushes, trees and flowers that have one
};
std::span<const Knob<GardenRecipe>> garden_recipe_knobs();

/// Hills with terraces, walls of stone, beds, ponds, plants and a path with lanterns. All kinds
/// have colors. Cubes of many cells are of what their middle is of; grass covers them from above.
class GardenLand final : public LandSource {
 public:
  /// Numbers of materials: those of lanterns and water, -1 for none. Throws Error (input) for
  /// values out of range.
  explicit GardenLand(const GardenRecipe& recipe = {}, int lantern_material = -1,
                      int water_material = -1);

  VoxelPalette palette() const override;
  std::optional<std::uint32_t> known(const LandCube& cube, std::int64_t step) const override;
  void read(const LandCell& low, std::int64_t step, std::uint32_t* values) const override;

  /// The lowest empty cell over the ground of a column.
  std::int64_t ground(std::int64_t x, std::int64_t y) const;

 private:
  struct Column;
  double hill(double x, double y) const;
  Column column(std::int64_t x, std::int64_t y) const;
  void plant(const LandCell& low, std::int64_t step, const std::vector<Column>& columns,
             std::uint32_t* values) const;

  GardenRecipe recipe_;
  int lantern_material_, water_material_;
};

/// A field, which may be without end: cells whose middles lie in it, and cubes of cells whose
/// middles do.
class FieldLand final : public LandSource {
 public:
  /// `cell` is a side of a cell in meters; cell (0, 0, 0) is at the field's origin. `colors` as
  /// FieldVoxels has them. Throws Error (input) for cells that are not above 0.
  FieldLand(const Field& field, double cell, const std::vector<std::uint32_t>& colors = {});
  ~FieldLand() override;

  VoxelPalette palette() const override;
  std::optional<std::uint32_t> known(const LandCube& cube, std::int64_t step) const override;
  void read(const LandCell& low, std::int64_t step, std::uint32_t* values) const override;

 private:
  std::unique_ptr<const FieldSampler> sampler_;
  double cell_;
};

}  // namespace photonlane
