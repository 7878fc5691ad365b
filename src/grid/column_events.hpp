#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

#include "lane/surfaces.hpp"
#include "photonlane/grid/cell_solid.hpp"

namespace photonlane {

/// The materials of what is not there.
struct OpenMaterials {
  std::uint32_t escaped = 0;
  std::uint32_t spent = 0;
  std::uint32_t of(Ending ending, std::uint32_t hit) const {
    return ending == Ending::hit ? hit : ending == Ending::spent ? spent : escaped;
  }
};

/// What one lane a column meets on its way through a cell map, front to back: everything that may
/// be seen in the column, whatever the row. Reach is the distance that sets the height of things on
/// screen: along the view axis where planar, in the plan where cylindrical.
struct ColumnEvents {
  static constexpr std::size_t capacity = LaneBatch<float>::capacity;

  /// The first, second, ... event of every column. An event is something upright on the floor, from
  /// where the lane enters it to where it leaves; what nothing is seen behind is the last of its
  /// column and has no end above. Columns with fewer events have enter at infinity in the rest.
  struct Rank {
    alignas(64) float enter[capacity];  ///< reach
    alignas(64) float exit[capacity];
    alignas(64) float top[capacity];       ///< meters above the eye
    alignas(64) float whole[capacity];     ///< meters from foot to top, of panels
    alignas(64) float u[capacity];         ///< of panels alone: place across, 0 to 1 from the left
    alignas(64) float normal_x[capacity];  ///< of panels alone
    alignas(64) float normal_y[capacity];
    alignas(64) Face face[capacity];
    alignas(64) Ending ending[capacity];
    alignas(64) std::uint32_t side[capacity];   ///< material of what is upright
    alignas(64) std::uint32_t upper[capacity];  ///< material of its top
    alignas(64) std::uint32_t item[capacity];
  };

  std::size_t size = 0;
  alignas(64) float direction_x[capacity];  ///< in the plan, a reach of 1 long
  alignas(64) float direction_y[capacity];
  alignas(64) float length_square[capacity];
  alignas(64) std::uint32_t steps[capacity];
  std::vector<Rank> ranks;
};

/// Finds what level lanes meet, `length` meters of a lane being a reach of 1. Where a map has no
/// event but walls from floor to ceiling there is one rank. `eye_height` is meters above the floor.
template <class Number>
void find_events(const CellSolid& cells, const LaneBatch<Number>& lanes, const Number* length,
                 const Budget& budget, const OpenMaterials& open, double eye_height,
                 ColumnEvents& events);

/// What a row of pixels sees of the columns, beside the events.
struct ColumnRow {
  float slope;      ///< height over reach
  float foot;       ///< meters from the eye to the floor, below 0
  float level;      ///< reach of the floor, or the ceiling; infinite where the row never meets it
  Face level_face;  ///< floor, ceiling, or none where the row leaves the room
  std::uint32_t level_material;
  std::uint32_t open_material;  ///< where nothing is met
  float raise = 0;  ///< meters added to the height of everything: seen from an eye that much lower
  float near = 0;   ///< reach before which nothing is seen
};

/// What the pixels of a row see: for each the first event from rank `from` on (null: from the
/// first), or the level. `rank` gets which it was; the level's is `level_rank`.
inline constexpr std::uint32_t level_rank = 0x7fffffff;
void see_row(const ColumnEvents& events, const ColumnRow& row, const std::uint32_t* from,
             std::uint32_t* rank, Surfaces& surfaces);

}  // namespace photonlane
