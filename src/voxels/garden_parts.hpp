#pragma once

/// What gardens that are made up consist of: kinds of voxels, noise, plants and lanterns.

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <iterator>
#include <optional>

#include "base/floor_div.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane::garden {

/// Kinds, in the palette's order; a kind of several shades has as many entries.
enum Kind : std::uint32_t {
  earth = 1,
  grass = 2,    // 4
  soil = 6,     // 2
  stone = 8,    // 4
  gravel = 12,  // 3
  leaf = 15,    // 5
  wood = 20,    // 2
  flower = 22,  // 6
  lantern = 28,
  post = 29,
  water = 30,
  rock = 31,  // 2
};

inline constexpr std::uint32_t kind_colors[] = {
    0x4a3a2c, 0x4f6b2f, 0x5a7a36, 0x66863d, 0x48632b, 0x54402c, 0x60492f, 0x8e8778,
    0x9c9484, 0x827b6e, 0xa69c8a, 0xb3a58b, 0xa6977c, 0xbfb199, 0x2f5a2b, 0x3b6b31,
    0x4b7f38, 0x2a4d2a, 0x6b8f3f, 0x4d3724, 0x5a4029, 0xd8506a, 0xe8a33a, 0xf0e4d0,
    0xa65bc0, 0xe05a2a, 0x5a78d8, 0xffd58a, 0x2c2a28, 0x3f6f78, 0x5d564e, 0x6a6258};

inline VoxelPalette palette(int lantern_material, int water_material) {
  VoxelPalette palette;
  for (std::uint32_t value = 1; value <= std::size(kind_colors); ++value) {
    palette.kinds.push_back({value == lantern ? lantern_material
                             : value == water ? water_material
                                              : -1,
                             kind_colors[value - 1]});
  }
  return palette;
}

/// What a column's ground is.
enum class Ground : std::uint8_t { meadow, bed, path, pond };

/// Places for plants: one a square of so many cells.
inline constexpr int plant_square = 11;
inline constexpr int plant_reach = 30;   ///< cells over the ground at most
inline constexpr int plant_spread = 11;  ///< cells from its middle at most
inline constexpr int post_height = 9;

inline double unit(std::uint64_t bits) { return static_cast<double>(bits >> 11) * 0x1p-53; }
inline double smooth(double t) { return t * t * t * (t * (6 * t - 15) + 10); }
inline double blend(double low, double high, double share) { return low + (high - low) * share; }

/// Chance that goes by a seed and a place.
struct Noise {
  std::uint64_t seed = 1;

  std::uint64_t draw(std::uint32_t what, std::int64_t x, std::int64_t y, std::int64_t z = 0) const {
    std::uint64_t bits = mix(seed + what * 0x9e3779b97f4a7c15u);
    bits = mix(bits ^ static_cast<std::uint64_t>(x) * 0xd1342543de82ef95u);
    bits = mix(bits ^ static_cast<std::uint64_t>(y) * 0xaf251af3b0f025b5u);
    return mix(bits ^ static_cast<std::uint64_t>(z) * 0xb564ef22ec7aece5u);
  }

  /// Values at the corners of a lattice, blended: 0 to 1. Over one side of the lattice they change
  /// by 15/8 at the most.
  double at(std::uint32_t what, double x, double y) const {
    const double left = std::floor(x);
    const double low = std::floor(y);
    return layer(what, left, low, 0, smooth(x - left), smooth(y - low));
  }
  double at(std::uint32_t what, double x, double y, double z) const {
    const double left = std::floor(x);
    const double low = std::floor(y);
    const double deep = std::floor(z);
    const double u = smooth(x - left);
    const double v = smooth(y - low);
    const auto k = static_cast<std::int64_t>(deep);
    return blend(layer(what, left, low, k, u, v), layer(what, left, low, k + 1, u, v),
                 smooth(z - deep));
  }

 private:
  double layer(std::uint32_t what, double left, double low, std::int64_t k, double u,
               double v) const {
    const auto i = static_cast<std::int64_t>(left);
    const auto j = static_cast<std::int64_t>(low);
    const auto corner = [&](int dx, int dy) { return unit(draw(what, i + dx, j + dy, k)); };
    return blend(blend(corner(0, 0), corner(1, 0), u), blend(corner(0, 1), corner(1, 1), u), v);
  }
};

/// A column's ground, as it looks from above.
inline std::uint32_t top_of(const Noise& noise, Ground ground, std::int64_t x, std::int64_t y) {
  const std::uint64_t bits = noise.draw(11, x, y);
  switch (ground) {
    case Ground::path:
      return gravel + static_cast<std::uint32_t>(bits % 3);
    case Ground::bed:
      return soil + static_cast<std::uint32_t>(bits % 2);
    case Ground::pond:
      return water;
    case Ground::meadow:
      break;
  }
  const double shade = noise.at(12, static_cast<double>(x) / 23.0, static_cast<double>(y) / 23.0) +
                       0.5 * unit(bits) - 0.25;
  return grass + static_cast<std::uint32_t>(std::clamp(4 * shade, 0.0, 3.0));
}

/// A wall's: courses of stones, each of a shade.
inline std::uint32_t wall_cell(const Noise& noise, std::int64_t x, std::int64_t y, std::int64_t z) {
  const std::int64_t course = floor_div(z, 3);
  const std::int64_t stone_at = floor_div((x + y) + (course & 1) * 4, 7);
  return stone + static_cast<std::uint32_t>(noise.draw(13, course, stone_at) % 4);
}

struct Plant {
  std::int64_t x = 0, y = 0, z = 0;  ///< its foot; z is for who knows the ground
  int kind = 0;                      ///< 0 flowers, 1 bush, 2 tree
  double size = 1;
  std::uint64_t bits = 0;

  /// The one of a square, with nothing said of its kind yet.
  static std::optional<Plant> in_square(const Noise& noise, double share, std::int64_t i,
                                        std::int64_t j) {
    const std::uint64_t bits = noise.draw(21, i, j);
    if (unit(bits) >= share) return {};
    Plant plant;
    const std::uint64_t more = mix(bits + 1);
    plant.bits = mix(more + 1);
    plant.x = i * plant_square + 1 + static_cast<std::int64_t>(more % (plant_square - 2));
    plant.y = j * plant_square + 1 + static_cast<std::int64_t>((more >> 20) % (plant_square - 2));
    return plant;
  }
  void grow(Ground on) {
    const double which = unit(mix(bits + 2));
    kind = on == Ground::bed ? (which < 0.7 ? 0 : 1) : which < 0.34 ? 0 : which < 0.72 ? 1 : 2;
    size = 0.6 + 0.7 * unit(mix(bits + 3));
  }

  /// False where it surely has nothing that far from its foot.
  bool may_reach(int dx, int dy, int dz) const {
    if (kind == 0) return dx * dx + dy * dy <= 20 * size;
    const double across = (kind == 1 ? 3.6 : 6.4) * size + 1.3;
    if (dz < 0 || dx * dx + dy * dy > across * across) return false;
    if (kind == 1) return dz < 0.55 * across + across;
    const int trunk = static_cast<int>(9 * size);
    if (dz < trunk - 4 && std::abs(dx) + std::abs(dy) > 1) return false;
    const double up = dz - trunk - 0.55 * 6.4 * size;
    return dz < trunk || dx * dx + dy * dy + 1.25 * up * up <= across * across;
  }

  /// What it has in a cell, whose column's ground is so high and of that kind; 0: nothing.
  std::uint32_t cell(const Noise& noise, std::int64_t at_x, std::int64_t at_y, std::int64_t at_z,
                     std::int64_t ground, Ground of) const {
    const int dx = static_cast<int>(at_x - x);
    const int dy = static_cast<int>(at_y - y);
    const int dz = static_cast<int>(at_z - z);
    if (!may_reach(dx, dy, dz)) return 0;
    const std::uint64_t own = noise.draw(22, at_x, at_y, at_z);
    const auto leaves = [&] {
      const auto shade = static_cast<std::uint32_t>((bits >> 8) % 3 + (own % 3));
      return leaf + std::min(shade, 4u);
    };
    if (kind == 0) {
      // Flowers stand on the ground of their own column, some on a stalk.
      const auto over = at_z - ground;
      const std::uint64_t column = noise.draw(23, at_x, at_y);
      if (column % 3 != 0 || of == Ground::path || of == Ground::pond) return 0;
      const auto stalk = static_cast<std::int64_t>((column >> 8) % 2);
      if (over == stalk) return flower + static_cast<std::uint32_t>((bits >> 4) % 6);
      return over >= 0 && over < stalk ? leaf + 1 : 0;
    }
    if (kind == 1) {
      const double radius = 3.6 * size;
      const double up = dz - 0.55 * radius;
      const double rough = 0.8 * (unit(own) - 0.5);
      const double away = std::sqrt(dx * dx + dy * dy + 1.5 * up * up);
      if (dz < 0 || away > radius + rough) return 0;
      // Every third bush is in flower.
      if (bits % 3 == 0 && away > radius - 1 && own % 7 == 0) {
        return flower + static_cast<std::uint32_t>((bits >> 16) % 6);
      }
      return leaves();
    }
    const int trunk = static_cast<int>(9 * size);
    if (dz >= 0 && dz < trunk && std::abs(dx) + std::abs(dy) <= (size > 0.95 ? 1 : 0)) {
      return wood + static_cast<std::uint32_t>(own % 2);
    }
    const double radius = 6.4 * size;
    const double up = dz - trunk - 0.55 * radius;
    const auto third = [](std::int64_t c) { return static_cast<double>(c) / 3.0; };
    const double rough =
        1.3 * (unit(own) - 0.5) + noise.at(24, third(at_x), third(at_y), third(at_z)) * 1.6 - 1.2;
    return std::sqrt(dx * dx + dy * dy + 1.25 * up * up) <= radius + rough ? leaves() : 0;
  }
};

/// What a lantern has in a cell that far from the foot of its post; 0: nothing.
inline std::uint32_t lantern_cell(std::int64_t dx, std::int64_t dy, std::int64_t dz) {
  if (dz < 0 || std::abs(dx) > 1 || std::abs(dy) > 1 || dz > post_height + 2) return 0;
  if (dz < post_height) return dx == 0 && dy == 0 ? std::uint32_t{post} : 0u;
  if (dz == post_height + 2) return post;
  return std::abs(dx) + std::abs(dy) <= 1 ? std::uint32_t{lantern} : 0u;
}

}  // namespace photonlane::garden
