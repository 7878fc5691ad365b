#pragma once

#include <vector>

#include "photonlane/base/buffer.hpp"
#include "photonlane/lane/lanes.hpp"
#include "photonlane/lane/tally.hpp"
#include "photonlane/render/camera.hpp"
#include "photonlane/render/world.hpp"
#include "render/fill_kernel.hpp"

namespace photonlane {

/// What the lanes of one sample met, a value a column; arrays start on a cache line's boundary.
/// Reach is the distance that sets the height of things on screen: along the view axis where
/// planar, in the plan where cylindrical.
struct Columns {
  explicit Columns(int width);

  Buffer memory;
  float* reach;
  float* length_square;
  float* axis;  ///< distance along the view axis = reach * axis
  float* red;
  float* green;
  float* blue;
  float* fades;
  Face* face;
  Ending* ending;
  std::uint32_t* item;
  std::uint32_t* steps;

  FillColumns from(std::size_t first) const {
    return {reach + first, length_square + first, red + first,
            green + first, blue + first,          fades + first};
  }
};

/// The colors a column can have, looked up instead of worked out lane by lane.
class Palette {
 public:
  struct Entry {
    float red, green, blue;
    float fades;
  };
  explicit Palette(const World& world);

  const Entry& at(Ending ending, Face face, std::uint32_t material) const {
    const bool shaded = face == Face::north || face == Face::south;
    const std::size_t wall = 2 + 2 * std::size_t{material} + (shaded ? 1 : 0);
    return entries_[ending == Ending::hit ? wall : ending == Ending::spent ? 1 : 0];
  }

 private:
  std::vector<Entry> entries_;  ///< escaped, spent, then two for each material
};

/// Casts one lane for each column from first to last, at `offset` (in [0, 1]) across it, and
/// writes what it met into `columns`.
void cast_columns(const World& world, const Camera& camera, const Viewing& view,
                  const Budget& budget, double offset, int first, int last, const Palette& palette,
                  Columns& columns, Tally& tally);

}  // namespace photonlane
