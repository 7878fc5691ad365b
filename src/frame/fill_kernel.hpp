#pragma once

#include <cstddef>
#include <cstdint>

#include "grid/column_events.hpp"
#include "light/paint.hpp"

namespace photonlane {

/// Texels of walls: across, each column shows one column of them; a texel's place in the set is
/// corner - width * (the texel up from the foot).
struct FillTexels {
  const std::int32_t* corner;  ///< the lowest texel
  const std::int32_t* width;
  const std::int32_t* height;
  const float* rise;  ///< tiles up, for a slope of 1
  const float* v_0;   ///< tiles up at the eye's height
};

/// The columns of one sample of a tile, `count` of each. A pixel shows the wall where the column's
/// reach is not beyond the row's, else the row's floor or ceiling.
struct FillColumns {
  const float* reach;          ///< of the wall
  const float* length_square;  ///< 1 + u^2 where planar, 1 where cylindrical
  const float* red;
  const float* green;
  const float* blue;
  const float* fades;        ///< 1 where fog applies, 0 where the color is shown as it is
  const float* direction_x;  ///< in the plan, a reach of 1 long
  const float* direction_y;
  FillTexels texels;
};

/// One sample of one row.
struct FillRow {
  float reach;         ///< of floor or ceiling; infinite at the horizon
  float slope_square;  ///< v^2
  float red, green, blue;
  float slope;
  float u_x, u_0;  ///< tiles across of the level, for a direction of 1 and at the eye
  float v_y, v_0;
  std::int32_t corner, width, height;  ///< of its texels, as of a wall's
};

/// Where the pixels go; null where not asked for. Pointers to the tile's first pixel of the row,
/// on a cache line's boundary; up to 15 values past `count` may be written.
struct FillTarget {
  float* red = nullptr;
  float* green = nullptr;
  float* blue = nullptr;
  std::uint32_t* display = nullptr;
};

/// Colors of a run of pixels: the mean over the samples, each
///   base + (fog - base) * s * s * (3 - 2 * s),
///   s = clamp((distance - start) * inverse_range, 0, 1),
///   distance = reach * sqrt(length_square + slope_square).
/// `x` and `y` are the first pixel's place in the frame. With `texels`, every base is its texel's
/// color, levels from 0 to 255 squared, times what columns and rows give; without, what has to do
/// with texels is not looked at. At most ColumnEvents::capacity columns.
void fill_row(const FillColumns* columns, const FillRow* rows, int samples, const FogRow& fog,
              const std::uint32_t* texels, std::size_t count, int x, int y,
              const FillTarget& target);

/// Writes a run of pixels' colors to where they go. The sources may be read up to 15 values past
/// `count`.
void write_row(const float* red, const float* green, const float* blue, std::size_t count, int x,
               int y, const FillTarget& target);

/// Makes what fill_row and write_row wrote visible to other threads: once a tile, for it waits.
void flush_rows();

/// Linear light to packed display values, with the dither of the place in the frame. `display` is
/// on a cache line's boundary; it and the sources may be touched up to 15 values past `count`.
void encode_row(const float* red, const float* green, const float* blue, std::uint32_t* display,
                std::size_t count, int x, int y);

}  // namespace photonlane
