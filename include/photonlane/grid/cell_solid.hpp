#pragma once

#include <memory>
#include <span>
#include <vector>

#include "photonlane/grid/cell_map.hpp"
#include "photonlane/lane/solid.hpp"

namespace photonlane {

/// What the surfaces of a map are made of, beside its walls, and which materials let light through.
struct CellSurfaces {
  std::uint32_t floor = 0;
  std::uint32_t ceiling = 0;
  bool has_ceiling = true;
  std::vector<bool> clear_materials;   ///< by material; missing ones do not
  std::vector<bool> volume_materials;  ///< of these it matters how far a lane runs inside

  bool operator==(const CellSurfaces&) const = default;

  bool clear(std::uint32_t material) const {
    return material < clear_materials.size() && clear_materials[material];
  }
  bool volume(std::uint32_t material) const {
    return material < volume_materials.size() && volume_materials[material];
  }
  /// The material of the floor at a place in meters.
  std::uint32_t floor_at(const CellMap& map, double x, double y) const;
};

struct OpenMaterials;
struct ColumnEvents;

/// A cell map compiled for tracing: its walls, floor (z = 0) and ceiling (z = wall_height) as a
/// solid, with the distance map that leaps use. Lanes start between floor and ceiling; level ones
/// meet walls alone. Memory: 3 bytes a cell.
class CellSolid final : public Solid {
 public:
  /// Throws Error (input) for a map that validate() refuses.
  explicit CellSolid(CellMap map, CellSurfaces surfaces = {});
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

  std::vector<Emitter> emitters(const std::vector<bool>& emitting) const override;
  Bounds bounds() const override;
  std::string summary() const override;
  std::size_t memory_bytes() const override;
  const CellMap& map() const { return map_; }
  const CellSurfaces& surfaces() const { return surfaces_; }
  /// True where there is more to meet in a column than one wall from floor to ceiling.
  bool has_forms() const { return !map_.forms.empty() || any_clear_; }

  /// Chebyshev distance in cells from a cell of the map to the nearest wall, 0 to 255.
  int distance_at(int x, int y) const;

 private:
  struct Distances;
  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes, const Budget& budget) const;
  /// Of a map whose cells are full or empty.
  template <class Number>
  HitBatch<Number> trace_blocks(const LaneBatch<Number>& lanes, const Budget& budget) const;

  template <class Number>
  friend void find_events(const CellSolid&, const LaneBatch<Number>&, const Number*, const Budget&,
                          const OpenMaterials&, double, ColumnEvents&);

  CellMap map_;
  CellSurfaces surfaces_;
  bool any_clear_ = false;
  bool any_volume_ = false;
  std::unique_ptr<Distances> distances_;
};

}  // namespace photonlane
