#include "photonlane/voxels/field_voxels.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "photonlane/base/error.hpp"
#include "voxels/field_sampler.hpp"

namespace photonlane {

std::span<const Knob<FieldVoxelRecipe>> field_voxel_recipe_knobs() {
  static const Knob<FieldVoxelRecipe> table[] = {
      knob<&FieldVoxelRecipe::points>("points", "", {1, 65536},
                                      "cells along the longest side of the field's box"),
  };
  return table;
}

FieldVoxels::FieldVoxels(const Field& field, const FieldVoxelRecipe& recipe,
                         const std::vector<std::uint32_t>& colors)
    : sampler_(std::make_unique<const FieldSampler>(field, colors)) {
  validate_knobs(field_voxel_recipe_knobs(), recipe);
  const Bounds bounds = field.bounds();
  if (!bounds.finite() || !((bounds.high - bounds.low).array() > 0).all()) {
    throw Error(ErrorKind::input,
                "a field without end, expected one that lies within a box; meet it with a box");
  }
  const Vec3d sides = bounds.high - bounds.low;
  cell_ = sides.maxCoeff() / static_cast<double>(recipe.points);
  for (int axis = 0; axis < 3; ++axis) {
    size_[static_cast<std::size_t>(axis)] =
        std::clamp(static_cast<std::int32_t>(std::ceil(sides[axis] / cell_ - 1e-9)), 1,
                   static_cast<std::int32_t>(recipe.points));
    // In the middle, where cells do not fit the box.
    corner_[axis] = 0.5 * (bounds.low[axis] + bounds.high[axis] -
                           cell_ * size_[static_cast<std::size_t>(axis)]);
  }
}

FieldVoxels::~FieldVoxels() = default;

Vec3d FieldVoxels::middle_of(const VoxelBox& box) const {
  Vec3d middle;
  for (int axis = 0; axis < 3; ++axis) {
    const auto a = static_cast<std::size_t>(axis);
    middle[axis] = corner_[axis] + 0.5 * cell_ * (box.low[a] + box.high[a]);
  }
  return middle;
}

std::uint64_t FieldVoxels::evaluations() const { return sampler_->evaluations(); }

VoxelPalette FieldVoxels::palette() const { return sampler_->palette(); }

std::optional<std::uint32_t> FieldVoxels::known(const VoxelBox& box) const {
  return sampler_->known(middle_of(box), 0.5 * cell_ * (box.high[0] - box.low[0]));
}

void FieldVoxels::read(const VoxelCell& low, std::uint32_t* values) const {
  sampler_->read(corner_, Vec3d(low[0], low[1], low[2]), cell_, values);
}

}  // namespace photonlane
