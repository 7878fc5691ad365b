#include "photonlane/grid/cell_solid.hpp"

#include <fmt/format.h>

#include "grid/cell_kernel.hpp"
#include "grid/distance_map.hpp"

namespace photonlane {

struct CellSolid::Distances {
  DistanceMap map;
};

CellSolid::CellSolid(CellMap map, std::uint32_t floor_material, std::uint32_t ceiling_material)
    : map_(std::move(map)), floor_material_(floor_material), ceiling_material_(ceiling_material) {
  validate(map_);
  distances_ = std::make_unique<Distances>(Distances{measure_distances(map_)});
}

CellSolid::CellSolid(const CellSolid& other)
    : Solid(other),
      map_(other.map_),
      floor_material_(other.floor_material_),
      ceiling_material_(other.ceiling_material_),
      distances_(std::make_unique<Distances>(*other.distances_)) {}

CellSolid::~CellSolid() = default;

void CellSolid::edit(std::span<const CellEdit> edits) {
  for (const CellEdit& one : edits) {
    if (one.x < 0 || one.y < 0 || one.x >= map_.width || one.y >= map_.height) {
      throw Error(ErrorKind::input, fmt::format("no cell at column {}, row {} of a map of {}x{}",
                                                one.x, one.y, map_.width, map_.height));
    }
  }
  for (const CellEdit& one : edits) {
    const bool was_wall = map_.at(one.x, one.y) != empty_cell;
    map_.at(one.x, one.y) = one.cell;
    const bool is_wall = one.cell != empty_cell;
    if (is_wall && !was_wall) add_wall(distances_->map, map_.repeat, one.x, one.y);
    if (!is_wall && was_wall) remove_wall(distances_->map, map_.repeat, one.x, one.y);
  }
}

template <class Number>
HitBatch<Number> CellSolid::trace(const LaneBatch<Number>& lanes, const Budget& budget) const {
  HitBatch<Number> hits = walk_cells(distances_->map, map_, lanes, budget.cells);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hits.item[i] != no_item) {
      hits.material[i] = material_of(map_.cells[hits.item[i]]);
    } else {
      hits.material[i] = hits.face[i] == Face::floor ? floor_material_ : ceiling_material_;
    }
  }
  return hits;
}

HitBatch<float> CellSolid::nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const {
  return trace(lanes, budget);
}

HitBatch<double> CellSolid::nearest_hit(const LaneBatch<double>& lanes,
                                        const Budget& budget) const {
  return trace(lanes, budget);
}

std::size_t CellSolid::memory_bytes() const {
  return map_.cells.size() * sizeof(Cell) + distances_->map.bytes.size();
}

int CellSolid::distance_at(int x, int y) const {
  return distances_->map.bytes[distances_->map.index(x, y)];
}

}  // namespace photonlane
