#pragma once

#include <cstddef>
#include <cstdint>

#include "light/paint.hpp"

namespace photonlane {

/// The columns of one sample of a tile, `count` of each. A pixel shows the wall where the column's
/// reach is not beyond the row's, else the row's floor or ceiling.
struct FillColumns {
  const float* reach;          ///< of the wall
  const float* length_square;  ///< 1 + u^2 where planar, 1 where cylindrical
  const float* red;
  const float* green;
  const float* blue;
  const float* fades;  ///< 1 where fog applies, 0 where the color is shown as it is
};

/// One sample of one row.
struct FillRow {
  float reach;         ///< of floor or ceiling; infinite at the horizon
  float slope_square;  ///< v^2
  float red, green, blue;
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
/// `x` and `y` are the first pixel's place in the frame.
void fill_row(const FillColumns* columns, const FillRow* rows, int samples, const FogRow& fog,
              std::size_t count, int x, int y, const FillTarget& target);

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
