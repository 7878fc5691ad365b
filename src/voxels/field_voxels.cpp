#include "photonlane/voxels/field_voxels.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "photonlane/base/error.hpp"

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
    : field_(field), stretch_(field_.has_estimates() ? 0 : field.stretch()) {
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
  palette_.kinds.push_back({-1, VoxelKind::no_color});
  for (std::size_t k = 0; k < colors.size(); ++k) {
    palette_.kinds.push_back({static_cast<int>(k), colors[k]});
  }
}

Vec3d FieldVoxels::middle_of(const VoxelBox& box) const {
  Vec3d middle;
  for (int axis = 0; axis < 3; ++axis) {
    const auto a = static_cast<std::size_t>(axis);
    middle[axis] = corner_[axis] + 0.5 * cell_ * (box.low[a] + box.high[a]);
  }
  return middle;
}

std::uint32_t FieldVoxels::value_of(const SurfaceMaterial& material) const {
  const int own = material.share > 0.5 ? material.other : material.material;
  const auto value = static_cast<std::size_t>(own + 2);
  return own < 0 || value > palette_.kinds.size() ? 1u : static_cast<std::uint32_t>(value);
}

std::optional<std::uint32_t> FieldVoxels::known(const VoxelBox& box) const {
  if (stretch_ == 0) return {};
  const Vec3d middle = middle_of(box);
  const double half = 0.5 * std::sqrt(3.0) * cell_ * (box.high[0] - box.low[0]);
  const double value = field_.distance(middle);
  evaluations_.fetch_add(1, std::memory_order_relaxed);
  // A little more for what values are rounded by.
  if (!(std::abs(value) > stretch_ * half * (1 + 1e-9) + 1e-12 * middle.norm())) return {};
  if (value > 0) return 0;
  return value_of(field_.material(middle));
}

void FieldVoxels::read(const VoxelCell& low, std::uint32_t* values) const {
  // Bricks of 4 cells a side that may have a surface, by the values at their middles.
  constexpr int brick = 4;
  constexpr int bricks = side / brick;
  std::vector<Vec3d> places;
  places.reserve(block);
  std::vector<std::uint32_t> which;  // cell of the block
  which.reserve(block);
  std::vector<VoxelBox> boxes;
  const auto box_at = [&](int k) {
    VoxelBox box;
    const int at[3] = {k % bricks, k / bricks % bricks, k / (bricks * bricks)};
    for (std::size_t axis = 0; axis < 3; ++axis) {
      box.low[axis] = low[axis] + brick * at[axis];
      box.high[axis] = box.low[axis] + brick;
    }
    return box;
  };
  std::vector<double> middles;
  if (stretch_ > 0) {
    for (int k = 0; k < bricks * bricks * bricks; ++k) places.push_back(middle_of(box_at(k)));
    middles = field_.distances(places);
    evaluations_.fetch_add(places.size(), std::memory_order_relaxed);
    places.clear();
  }
  std::vector<Vec3d> inside;
  std::vector<std::uint32_t> inside_cells;
  const double half = 0.5 * std::sqrt(3.0) * cell_ * brick;
  for (int k = 0; k < bricks * bricks * bricks; ++k) {
    const VoxelBox box = box_at(k);
    const Vec3d middle = middle_of(box);
    const bool sure = stretch_ > 0 && std::abs(middles[static_cast<std::size_t>(k)]) >
                                          stretch_ * half * (1 + 1e-9) + 1e-12 * middle.norm();
    for (int z = box.low[2]; z < box.high[2]; ++z) {
      for (int y = box.low[1]; y < box.high[1]; ++y) {
        for (int x = box.low[0]; x < box.high[0]; ++x) {
          const auto cell = static_cast<std::uint32_t>((x - low[0]) +
                                                       side * ((y - low[1]) + side * (z - low[2])));
          values[cell] = 0;
          const Vec3d place = corner_ + cell_ * Vec3d(x + 0.5, y + 0.5, z + 0.5);
          if (!sure) {
            places.push_back(place);
            which.push_back(cell);
          } else if (middles[static_cast<std::size_t>(k)] < 0) {
            inside.push_back(place);
            inside_cells.push_back(cell);
          }
        }
      }
    }
  }
  const std::vector<double> distances = field_.distances(places);
  evaluations_.fetch_add(places.size(), std::memory_order_relaxed);
  for (std::size_t i = 0; i < places.size(); ++i) {
    if (!(distances[i] < 0)) continue;
    inside.push_back(places[i]);
    inside_cells.push_back(which[i]);
  }
  if (palette_.kinds.size() == 1) {
    for (const std::uint32_t cell : inside_cells) values[cell] = 1;
    return;
  }
  const std::vector<SurfaceMaterial> materials = field_.materials(inside);
  for (std::size_t i = 0; i < inside.size(); ++i) {
    values[inside_cells[i]] = value_of(materials[i]);
  }
}

}  // namespace photonlane
