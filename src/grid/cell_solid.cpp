#include "photonlane/grid/cell_solid.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "grid/cell_distances.hpp"

namespace photonlane {

std::uint32_t CellSurfaces::floor_at(const CellMap& map, double x, double y) const {
  if (map.form_of.empty()) return floor;
  double column = std::floor(x / map.cell_size);
  double row = std::floor(y / map.cell_size);
  if (map.repeat) {
    column -= map.width * std::floor(column / map.width);
    row -= map.height * std::floor(row / map.height);
  }
  if (!(column >= 0 && row >= 0 && column < map.width && row < map.height)) return floor;
  const CellForm* form = map.form(static_cast<int>(column), static_cast<int>(row));
  return form == nullptr || form->floor < 0 ? floor : static_cast<std::uint32_t>(form->floor);
}

CellSolid::CellSolid(CellMap map, CellSurfaces surfaces)
    : map_(std::move(map)), surfaces_(std::move(surfaces)) {
  validate(map_);
  const std::vector<bool>& clear = surfaces_.clear_materials;
  any_clear_ = std::find(clear.begin(), clear.end(), true) != clear.end();
  const std::vector<bool>& volume = surfaces_.volume_materials;
  any_volume_ = std::find(volume.begin(), volume.end(), true) != volume.end();
  distances_ = std::make_unique<Distances>(Distances{measure_distances(map_), {}});
  for (const CellForm& form : map_.forms) {
    distances_->boxes.push_back(panel_box(form, map_.cell_size));
  }
}

CellSolid::CellSolid(const CellSolid& other)
    : Solid(other),
      map_(other.map_),
      surfaces_(other.surfaces_),
      any_clear_(other.any_clear_),
      any_volume_(other.any_volume_),
      distances_(std::make_unique<Distances>(*other.distances_)) {}

CellSolid::~CellSolid() = default;

void CellSolid::edit(std::span<const CellEdit> edits) {
  for (const CellEdit& one : edits) {
    if (one.x < 0 || one.y < 0 || one.x >= map_.width || one.y >= map_.height) {
      throw Error(ErrorKind::input, fmt::format("no cell at column {}, row {} of a map of {}x{}",
                                                one.x, one.y, map_.width, map_.height));
    }
    if (one.form) check(*one.form, map_);
  }
  for (const CellEdit& one : edits) {
    const bool was_wall = map_.at(one.x, one.y) != empty_cell;
    map_.at(one.x, one.y) = one.cell;
    map_.set_form(one.x, one.y, one.form);
    if (one.form) {
      const std::size_t form = map_.form_of[static_cast<std::size_t>(one.y) * map_.width + one.x];
      distances_->boxes.resize(map_.forms.size());
      distances_->boxes[form - 1] = panel_box(map_.forms[form - 1], map_.cell_size);
    }
    const bool is_wall = one.cell != empty_cell;
    if (is_wall && !was_wall) add_wall(distances_->map, map_.repeat, one.x, one.y);
    if (!is_wall && was_wall) remove_wall(distances_->map, map_.repeat, one.x, one.y);
  }
}

template <class Number>
HitBatch<Number> CellSolid::trace(const LaneBatch<Number>& lanes, const Budget& budget) const {
  if (!map_.forms.empty() || any_volume_ || lanes.any_start) {
    return trace_forms(distances_->forms(map_, surfaces_), lanes, budget);
  }
  return trace_blocks(lanes, budget);
}

template <class Number>
HitBatch<Number> CellSolid::trace_blocks(const LaneBatch<Number>& lanes,
                                         const Budget& budget) const {
  HitBatch<Number> hits = walk_cells(distances_->map, map_, lanes, budget.cells);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hits.item[i] != no_item) {
      hits.material[i] = material_of(map_.cells[hits.item[i]]);
    } else {
      hits.material[i] = hits.face[i] == Face::floor ? surfaces_.floor : surfaces_.ceiling;
      if (hits.face[i] == Face::ceiling && !surfaces_.has_ceiling) {
        hits.face[i] = Face::none;
        hits.ending[i] = Ending::escaped;
      }
    }
    hits.exit[i] = hits.t[i];
  }
  return hits;
}

std::vector<Emitter> CellSolid::emitters(const std::vector<bool>& emitting) const {
  std::vector<Emitter> result;
  // A map without end has them everywhere.
  if (map_.repeat) return result;
  for (int y = 0; y < map_.height; ++y) {
    for (int x = 0; x < map_.width; ++x) {
      const Cell cell = map_.at(x, y);
      if (cell == empty_cell || material_of(cell) >= emitting.size() ||
          !emitting[material_of(cell)]) {
        continue;
      }
      const CellForm* form = map_.form(x, y);
      if (form != nullptr && (form->shape != CellShape::block || form->passable)) continue;
      const bool low = form != nullptr && form->height > 0;
      // The top may be of another material.
      if (low && form->top >= 0) continue;
      Emitter one;
      one.item = static_cast<std::uint32_t>(y) * static_cast<std::uint32_t>(map_.width) +
                 static_cast<std::uint32_t>(x);
      one.material = material_of(cell);
      one.low = {x * map_.cell_size, y * map_.cell_size, 0};
      one.high = {(x + 1) * map_.cell_size, (y + 1) * map_.cell_size,
                  low ? form->height : map_.wall_height};
      result.push_back(one);
    }
  }
  return result;
}

HitBatch<float> CellSolid::nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const {
  return trace(lanes, budget);
}

HitBatch<double> CellSolid::nearest_hit(const LaneBatch<double>& lanes,
                                        const Budget& budget) const {
  return trace(lanes, budget);
}

Bounds CellSolid::bounds() const {
  const double infinite = std::numeric_limits<double>::infinity();
  if (map_.repeat) return {{-infinite, -infinite, 0}, {infinite, infinite, map_.wall_height}};
  return {{0, 0, 0}, {map_.width * map_.cell_size, map_.height * map_.cell_size, map_.wall_height}};
}

std::string CellSolid::summary() const {
  return fmt::format("map of {}x{} cells, {:.4g} m each", map_.width, map_.height, map_.cell_size);
}

std::size_t CellSolid::memory_bytes() const {
  return map_.cells.size() * sizeof(Cell) + map_.form_of.size() * sizeof(std::uint16_t) +
         map_.forms.size() * (sizeof(CellForm) + sizeof(PanelBox)) + distances_->map.bytes.size();
}

int CellSolid::distance_at(int x, int y) const {
  return distances_->map.bytes[distances_->map.index(x, y)];
}

}  // namespace photonlane
