#pragma once

#include <memory>

#include "photonlane/grid/cell_map.hpp"
#include "photonlane/lane/solid.hpp"

namespace photonlane {

/// A cell map compiled for tracing: its walls as a solid, with the distance map that leaps use.
/// Walls are as high as lanes need: a lane is taken as level, at its own height. Memory: 3 bytes
/// a cell.
class CellSolid final : public Solid {
 public:
  /// Throws Error (input) for a map that validate() refuses.
  explicit CellSolid(CellMap map);
  ~CellSolid() override;

  /// Traces level lanes (direction_z 0). The item of a hit is the cell's id, y * width + x.
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
  std::unique_ptr<Distances> distances_;
};

}  // namespace photonlane
