#include "textbook/frame.hpp"

#include <algorithm>
#include <cmath>

namespace textbook {
namespace {

/// The color at a distance along the ray.
Rgb faded(const Look& look, const Rgb& color, float distance) {
  const float raw = (distance - look.fog_start) / (look.fog_end - look.fog_start);
  const float share = std::min(std::max(raw, 0.0f), 1.0f);
  const float fade = share * share * (3 - 2 * share);
  return {color.r + (look.fog.r - color.r) * fade, color.g + (look.fog.g - color.g) * fade,
          color.b + (look.fog.b - color.b) * fade};
}

template <class Put>
void draw(const Map& map, const Eye& eye, const Look& look, int width, int height, const Put& put) {
  const float focal = width / (2 * eye.half_width);
  const float inverse_range = 1 / (look.fog_end - look.fog_start);
  for (int x = 0; x < width; ++x) {
    const float u = (x + 0.5f - 0.5f * width) / focal;
    const float dx = eye.forward_x + u * eye.forward_y;
    const float dy = eye.forward_y - u * eye.forward_x;
    const float length = std::sqrt(dx * dx + dy * dy);
    const Hit hit = cast_boundaries(map, eye, dx / length, dy / length);
    const float depth = std::max(hit.t / length, 1e-6f);
    Rgb wall = look.fog;
    if (hit.x >= 0 && hit.y >= 0 && hit.x < map.width && hit.y < map.height) {
      wall = look.walls[map.cells[static_cast<std::size_t>(hit.y) * map.width + hit.x] - 1];
    }
    const float shade = hit.by_x ? 1 : look.north_shade;
    wall = {wall.r * shade, wall.g * shade, wall.b * shade};
    const int top = std::max(0.0f, std::ceil(0.5f * height - 0.5f -
                                             focal * (look.wall_height - look.eye_height) / depth));
    const int bottom =
        std::min<float>(height, std::ceil(0.5f * height - 0.5f + focal * look.eye_height / depth));
    for (int y = 0; y < height; ++y) {
      const float v = (0.5f * height - (y + 0.5f)) / focal;
      Rgb color = wall;
      float reach = depth;
      if (y < top) {
        color = look.ceiling;
        reach = (look.wall_height - look.eye_height) / v;
      } else if (y >= bottom) {
        color = look.floor;
        reach = -look.eye_height / v;
      }
      const float distance = reach * std::sqrt(1 + u * u + v * v);
      const float share =
          std::min(std::max((distance - look.fog_start) * inverse_range, 0.0f), 1.0f);
      const float fade = share * share * (3 - 2 * share);
      put(x, y,
          Rgb{color.r + (look.fog.r - color.r) * fade, color.g + (look.fog.g - color.g) * fade,
              color.b + (look.fog.b - color.b) * fade});
    }
  }
}

/// The texel at a place in tiles.
inline std::uint32_t texel(const Texture& texture, float u, float v) {
  const int mask = texture.side - 1;
  const int x = static_cast<int>(std::floor(u * texture.side)) & mask;
  const int y = mask - (static_cast<int>(std::floor(v * texture.side)) & mask);
  return texture.texels[static_cast<std::size_t>(y) * texture.side + x];
}

/// Linear light by the byte that shows it.
const std::vector<float> linear = [] {
  std::vector<float> levels(256);
  for (int i = 0; i < 256; ++i) {
    const float x = i / 255.0f;
    levels[i] = x <= 0.04045f ? x / 12.92f : std::pow((x + 0.055f) / 1.055f, 2.4f);
  }
  return levels;
}();

/// A texel's linear light, shaded.
inline Rgb lit(std::uint32_t texel, float light) {
  return {linear[texel & 255] * light, linear[texel >> 8 & 255] * light,
          linear[texel >> 16 & 255] * light};
}

}  // namespace

void draw_linear(const Map& map, const Eye& eye, const Look& look, int width, int height,
                 std::vector<Rgb>& pixels) {
  draw(map, eye, look, width, height, [&](int x, int y, const Rgb& color) {
    pixels[static_cast<std::size_t>(y) * width + x] = color;
  });
}

void draw_textured(const Map& map, const Eye& eye, const Look& look, const Cover& cover, int width,
                   int height, std::vector<Rgb>& pixels) {
  const float focal = width / (2 * eye.half_width);
  for (int x = 0; x < width; ++x) {
    const float u = (x + 0.5f - 0.5f * width) / focal;
    const float dx = eye.forward_x + u * eye.forward_y;
    const float dy = eye.forward_y - u * eye.forward_x;
    const float length = std::sqrt(dx * dx + dy * dy);
    const Hit hit = cast_boundaries(map, eye, dx / length, dy / length);
    const float depth = std::max(hit.t / length, 1e-6f);
    const bool wall = hit.x >= 0 && hit.y >= 0 && hit.x < map.width && hit.y < map.height;
    const Texture* cover_wall = nullptr;
    float across = 0;
    if (wall) {
      cover_wall = &cover.walls[map.cells[static_cast<std::size_t>(hit.y) * map.width + hit.x] - 1];
      across = hit.by_x ? (dx > 0 ? -1.0f : 1.0f) * (eye.y + dy * depth)
                        : (dy > 0 ? 1.0f : -1.0f) * (eye.x + dx * depth);
    }
    const float shade = hit.by_x ? 1 : look.north_shade;
    const int top = std::max(0.0f, std::ceil(0.5f * height - 0.5f -
                                             focal * (look.wall_height - look.eye_height) / depth));
    const int bottom =
        std::min<float>(height, std::ceil(0.5f * height - 0.5f + focal * look.eye_height / depth));
    for (int y = 0; y < height; ++y) {
      const float v = (0.5f * height - (y + 0.5f)) / focal;
      std::uint32_t bits = 0;
      float light = 1;
      float reach = depth;
      bool covered = true;
      if (y < top) {
        reach = (look.wall_height - look.eye_height) / v;
        bits = texel(cover.ceiling, eye.x + dx * reach, -(eye.y + dy * reach));
      } else if (y >= bottom) {
        reach = -look.eye_height / v;
        bits = texel(cover.floor, eye.x + dx * reach, eye.y + dy * reach);
      } else if (wall) {
        bits = texel(*cover_wall, across, look.eye_height + v * reach);
        light = shade;
      } else {
        covered = false;
      }
      const Rgb color = covered ? lit(bits, light) : look.fog;
      const float distance = reach * std::sqrt(1 + u * u + v * v);
      pixels[static_cast<std::size_t>(y) * width + x] = faded(look, color, distance);
    }
  }
}

void draw_display(const Map& map, const Eye& eye, const Look& look, int width, int height,
                  std::vector<std::uint32_t>& pixels) {
  static const std::vector<std::uint8_t> table = [] {
    std::vector<std::uint8_t> levels(4096);
    for (int i = 0; i < 4096; ++i) {
      const float x = i / 4095.0f;
      const float y = x <= 0.0031308f ? 12.92f * x : 1.055f * std::pow(x, 1 / 2.4f) - 0.055f;
      levels[i] = static_cast<std::uint8_t>(std::lround(255 * y));
    }
    return levels;
  }();
  const auto byte = [&](float linear) {
    return static_cast<std::uint32_t>(table[static_cast<int>(linear * 4095 + 0.5f)]);
  };
  draw(map, eye, look, width, height, [&](int x, int y, const Rgb& color) {
    pixels[static_cast<std::size_t>(y) * width + x] =
        byte(color.r) | byte(color.g) << 8 | byte(color.b) << 16 | 0xff000000u;
  });
}

void draw_pixels(const Map& map, const Eye& eye, const Look& look, int width, int height,
                 std::vector<Rgb>& pixels) {
  const float focal = width / (2 * eye.half_width);
  for (int y = 0; y < height; ++y) {
    const float v = (0.5f * height - (y + 0.5f)) / focal;
    for (int x = 0; x < width; ++x) {
      const float u = (x + 0.5f - 0.5f * width) / focal;
      const float inverse = 1 / std::sqrt(1 + u * u + v * v);
      const float dx = (eye.forward_x + u * eye.forward_y) * inverse;
      const float dy = (eye.forward_y - u * eye.forward_x) * inverse;
      const float dz = v * inverse;
      float level = 1e30f;
      if (dz < 0) level = -look.eye_height / dz;
      if (dz > 0) level = (look.wall_height - look.eye_height) / dz;
      const Hit hit = cast_boundaries(map, eye, dx, dy, level);
      Rgb color = dz < 0 ? look.floor : look.ceiling;
      float distance = level;
      if (hit.t < level) {
        distance = hit.t;
        color = look.walls[map.cells[static_cast<std::size_t>(hit.y) * map.width + hit.x] - 1];
        const float shade = hit.by_x ? 1 : look.north_shade;
        color = {color.r * shade, color.g * shade, color.b * shade};
      }
      pixels[static_cast<std::size_t>(y) * width + x] = faded(look, color, distance);
    }
  }
}

void draw_textured_pixels(const Map& map, const Eye& eye, const Look& look, const Cover& cover,
                          int width, int height, std::vector<Rgb>& pixels) {
  const float focal = width / (2 * eye.half_width);
  for (int y = 0; y < height; ++y) {
    const float v = (0.5f * height - (y + 0.5f)) / focal;
    for (int x = 0; x < width; ++x) {
      const float u = (x + 0.5f - 0.5f * width) / focal;
      const float inverse = 1 / std::sqrt(1 + u * u + v * v);
      const float dx = (eye.forward_x + u * eye.forward_y) * inverse;
      const float dy = (eye.forward_y - u * eye.forward_x) * inverse;
      const float dz = v * inverse;
      float level = 1e30f;
      if (dz < 0) level = -look.eye_height / dz;
      if (dz > 0) level = (look.wall_height - look.eye_height) / dz;
      const Hit hit = cast_boundaries(map, eye, dx, dy, level);
      const float distance = hit.t < level ? hit.t : level;
      const float at_x = eye.x + dx * distance;
      const float at_y = eye.y + dy * distance;
      Rgb color;
      if (hit.t < level) {
        const float across = hit.by_x ? (dx > 0 ? -at_y : at_y) : (dy > 0 ? at_x : -at_x);
        const std::size_t cell = static_cast<std::size_t>(hit.y) * map.width + hit.x;
        color =
            lit(texel(cover.walls[map.cells[cell] - 1], across, look.eye_height + dz * distance),
                hit.by_x ? 1 : look.north_shade);
      } else {
        color = lit(dz < 0 ? texel(cover.floor, at_x, at_y) : texel(cover.ceiling, at_x, -at_y), 1);
      }
      pixels[static_cast<std::size_t>(y) * width + x] = faded(look, color, distance);
    }
  }
}

}  // namespace textbook
