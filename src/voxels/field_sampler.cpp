#include "voxels/field_sampler.hpp"

#include <cmath>

namespace photonlane {

FieldSampler::FieldSampler(const Field& field, const std::vector<std::uint32_t>& colors)
    : field_(field), stretch_(field_.has_estimates() ? 0 : field.stretch()) {
  palette_.kinds.push_back({-1, VoxelKind::no_color});
  for (std::size_t k = 0; k < colors.size(); ++k) {
    palette_.kinds.push_back({static_cast<int>(k), colors[k]});
  }
}

std::uint32_t FieldSampler::value_of(const SurfaceMaterial& material) const {
  const int own = material.share > 0.5 ? material.other : material.material;
  const auto value = static_cast<std::size_t>(own + 2);
  return own < 0 || value > palette_.kinds.size() ? 1u : static_cast<std::uint32_t>(value);
}

bool FieldSampler::rules_out(double value, const Vec3d& middle, double half) const {
  // A little more for what values are rounded by.
  return stretch_ > 0 &&
         std::abs(value) > stretch_ * std::sqrt(3.0) * half * (1 + 1e-9) + 1e-12 * middle.norm();
}

std::optional<std::uint32_t> FieldSampler::known(const Vec3d& middle, double half) const {
  if (stretch_ == 0) return {};
  const double value = field_.distance(middle);
  evaluations_.fetch_add(1, std::memory_order_relaxed);
  if (!rules_out(value, middle, half)) return {};
  if (value > 0) return 0;
  return value_of(field_.material(middle));
}

void FieldSampler::read(const Vec3d& corner, const Vec3d& low, double cell,
                        std::uint32_t* values) const {
  // Bricks of 4 cells a side that may have a surface, by the values at their middles.
  constexpr int side = VoxelSource::side;
  constexpr int brick = 4;
  constexpr int bricks = side / brick;
  const auto middle_of = [&](const VoxelBox& box) -> Vec3d {
    const Vec3d ends(box.low[0] + box.high[0], box.low[1] + box.high[1], box.low[2] + box.high[2]);
    return corner + cell * (low + 0.5 * ends);
  };
  std::vector<Vec3d> places;
  places.reserve(VoxelSource::block);
  std::vector<std::uint32_t> which;  // cell of the block
  which.reserve(VoxelSource::block);
  std::vector<VoxelBox> boxes;
  const auto box_at = [&](int k) {
    VoxelBox box;
    const int at[3] = {k % bricks, k / bricks % bricks, k / (bricks * bricks)};
    for (std::size_t axis = 0; axis < 3; ++axis) {
      box.low[axis] = brick * at[axis];
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
  for (int k = 0; k < bricks * bricks * bricks; ++k) {
    const VoxelBox box = box_at(k);
    const bool sure = stretch_ > 0 && rules_out(middles[static_cast<std::size_t>(k)],
                                                middle_of(box), 0.5 * cell * brick);
    for (int z = box.low[2]; z < box.high[2]; ++z) {
      for (int y = box.low[1]; y < box.high[1]; ++y) {
        for (int x = box.low[0]; x < box.high[0]; ++x) {
          const auto at = static_cast<std::uint32_t>(x + side * (y + side * z));
          values[at] = 0;
          const Vec3d place = corner + cell * (low + Vec3d(x + 0.5, y + 0.5, z + 0.5));
          if (!sure) {
            places.push_back(place);
            which.push_back(at);
          } else if (middles[static_cast<std::size_t>(k)] < 0) {
            inside.push_back(place);
            inside_cells.push_back(at);
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
    for (const std::uint32_t at : inside_cells) values[at] = 1;
    return;
  }
  const std::vector<SurfaceMaterial> materials = field_.materials(inside);
  for (std::size_t i = 0; i < inside.size(); ++i) {
    values[inside_cells[i]] = value_of(materials[i]);
  }
}

}  // namespace photonlane
