#pragma once

#include <memory>
#include <span>

#include "photonlane/grid/cell_map.hpp"
#include "photonlane/lane/solid.hpp"

namespace photonlane {

/// A cell map compiled for tracing: its walls, floor (z = 0) and ceiling (z = wall_height) as a
/// solid, with the distance map that leaps use. Lanes start between floor and ceiling; level ones
/// meet walls alone. Memory: 3 bytes a cell.
class CellSolid final : public Solid {
 public:
  /// Throws Error (input) for a map that validate() refuses.
  explicit CellSolid(CellMap map, std::uint32_t floor_material = 0,
                     std::uint32_t ceiling_material = 0);
  CellSolid(const CellSolid& other);
  CellSolid& operator=(const CellSolid&) = delete;
  ~CellSolid() override;

  /// Changes cells. The distance map is repaired where it changes, and equals that of a new
  /// compilation; the cost goes with the square of the distance to the walls around. Throws Error
  /// (input) for a cell outside the map, before anything is changed.
  void edit(std::span<const CellEdit> edits);

  /// The item of a wall is the cell's id, y * width + x; floor and ceiling have none.
  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;

  std::size_t memory_bytes() const override;
  const CellMap& map() const { return map_; }

  /// Chebyshev distance in cells from a cell of the map to the nearest wall, 0 to 255.
  int distance_at(int x, int y) const;

 private:
  struct Distances;
  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes, const Budget& budget) const;

  CellMap map_;
  std::uint32_t floor_material_;
  std::uint32_t ceiling_material_;
  std::unique_ptr<Distances> distances_;
};

}  // namespace photonlane
