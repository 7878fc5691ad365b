#pragma once

#include <cstdint>
#include <vector>

#include "textbook/columns.hpp"

namespace textbook {

struct Rgb {
  float r = 0, g = 0, b = 0;
};

/// The same picture the library makes of a cell map: flat walls, floor and ceiling, everything
/// fading to fog with the distance along the pixel's ray.
struct Look {
  std::vector<Rgb> walls;
  Rgb floor, ceiling, fog;
  float fog_start = 4, fog_end = 60;
  float north_shade = 0.78f;
  float eye_height = 1.6f, wall_height = 3;
};

/// A picture of sRGB bytes, red | green << 8 | blue << 16, square and a power of two wide.
struct Texture {
  int side = 0;
  std::vector<std::uint32_t> texels;  ///< rows from the top
};

/// What textures lie on walls, floor and ceiling, one of each a meter.
struct Cover {
  std::vector<Texture> walls;  ///< one a color of the map
  Texture floor, ceiling;
};

/// draw_linear with textures instead of colors, the nearest texel of each.
void draw_textured(const Map& map, const Eye& eye, const Look& look, const Cover& cover, int width,
                   int height, std::vector<Rgb>& pixels);

/// draw_pixels with textures.
void draw_textured_pixels(const Map& map, const Eye& eye, const Look& look, const Cover& cover,
                          int width, int height, std::vector<Rgb>& pixels);

/// A frame of linear light, three floats a pixel, column after column: cast with
/// cast_boundaries, then walk down the column.
void draw_linear(const Map& map, const Eye& eye, const Look& look, int width, int height,
                 std::vector<Rgb>& pixels);

/// The same frame as sRGB bytes, ready to show; the encoding looked up in a table of 4096 entries.
void draw_display(const Map& map, const Eye& eye, const Look& look, int width, int height,
                  std::vector<std::uint32_t>& pixels);

/// The same linear frame with one ray a pixel, row after row: each ray walks the cells from
/// boundary to boundary and stops at the floor or the ceiling.
void draw_pixels(const Map& map, const Eye& eye, const Look& look, int width, int height,
                 std::vector<Rgb>& pixels);

}  // namespace textbook
