#include "photonlane/voxels/terrace_generator.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "voxels/ground_range.hpp"

namespace photonlane {
namespace {

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

constexpr std::uint32_t colors[] = {
    0x4a3a2c, 0x4f6b2f, 0x5a7a36, 0x66863d, 0x48632b, 0x54402c, 0x60492f, 0x8e8778,
    0x9c9484, 0x827b6e, 0xa69c8a, 0xb3a58b, 0xa6977c, 0xbfb199, 0x2f5a2b, 0x3b6b31,
    0x4b7f38, 0x2a4d2a, 0x6b8f3f, 0x4d3724, 0x5a4029, 0xd8506a, 0xe8a33a, 0xf0e4d0,
    0xa65bc0, 0xe05a2a, 0x5a78d8, 0xffd58a, 0x2c2a28, 0x3f6f78, 0x5d564e, 0x6a6258};

/// Places for plants: one a square of so many cells.
constexpr int plant_square = 11;
constexpr int plant_reach = 30;   ///< cells over the ground at most
constexpr int plant_spread = 11;  ///< cells from its middle at most
constexpr int deepest_cave = 70;
constexpr int lantern_spacing = 34;
constexpr int post_height = 9;

double unit(std::uint64_t bits) { return static_cast<double>(bits >> 11) * 0x1p-53; }

double smooth(double t) { return t * t * t * (t * (6 * t - 15) + 10); }

double blend(double low, double high, double share) { return low + (high - low) * share; }

}  // namespace

std::span<const Knob<TerraceRecipe>> terrace_recipe_knobs() {
  static const Knob<TerraceRecipe> table[] = {
      knob<&TerraceRecipe::side>("side", "", {16, 8192}, "cells along x and y"),
      knob<&TerraceRecipe::height>("height", "", {32, 4096}, "cells up"),
      knob<&TerraceRecipe::seed>("seed", "", {0, 1e15}, "which garden; the same each time"),
      knob<&TerraceRecipe::terraces>("terraces", "", {1, 100},
                                     "how many, from the foot of the hill to its top"),
      knob<&TerraceRecipe::plants>("plants", "", {0, 1}, "share of places that have a plant"),
      knob<&TerraceRecipe::caves>("caves", "", {0, 1}, "how much of the hill is hollow"),
  };
  return table;
}

struct TerraceSource::Garden {
  TerraceRecipe recipe;
  int side;
  int height;
  std::vector<std::uint16_t> grounds;  ///< by column
  std::vector<std::uint8_t> kinds;     ///< what a column's ground is
  GroundRange range;
  struct Lantern {
    int x, y, z;  ///< foot of its post
  };
  std::vector<Lantern> lanterns;

  enum Ground : std::uint8_t { meadow, bed, path, pond };

  explicit Garden(const TerraceRecipe& of)
      : recipe(of), side(static_cast<int>(of.side)), height(static_cast<int>(of.height)) {
    const auto columns = static_cast<std::size_t>(side) * static_cast<std::size_t>(side);
    grounds.resize(columns);
    kinds.resize(columns);
    for (int y = 0; y < side; ++y) {
      for (int x = 0; x < side; ++x) make_column(x, y);
    }
    lanterns = find_lanterns();
    range = GroundRange(side, side, [&](int x, int y) { return ground(x, y); });
  }

  std::size_t column(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(side) +
           static_cast<std::size_t>(x);
  }
  int ground(int x, int y) const {
    return grounds[column(std::clamp(x, 0, side - 1), std::clamp(y, 0, side - 1))];
  }

  std::uint64_t draw(std::uint32_t what, std::int64_t x, std::int64_t y, std::int64_t z = 0) const {
    std::uint64_t bits = mix(static_cast<std::uint64_t>(recipe.seed) + what * 0x9e3779b97f4a7c15u);
    bits = mix(bits ^ static_cast<std::uint64_t>(x) * 0xd1342543de82ef95u);
    bits = mix(bits ^ static_cast<std::uint64_t>(y) * 0xaf251af3b0f025b5u);
    return mix(bits ^ static_cast<std::uint64_t>(z) * 0xb564ef22ec7aece5u);
  }

  /// Values at the corners of a lattice, blended: 0 to 1.
  double noise(std::uint32_t what, double x, double y) const {
    const double left = std::floor(x);
    const double low = std::floor(y);
    const auto i = static_cast<std::int64_t>(left);
    const auto j = static_cast<std::int64_t>(low);
    const double u = smooth(x - left);
    const double v = smooth(y - low);
    const auto corner = [&](int dx, int dy) { return unit(draw(what, i + dx, j + dy)); };
    return blend(blend(corner(0, 0), corner(1, 0), u), blend(corner(0, 1), corner(1, 1), u), v);
  }
  double noise(std::uint32_t what, double x, double y, double z) const {
    const double left = std::floor(x);
    const double low = std::floor(y);
    const double deep = std::floor(z);
    const auto i = static_cast<std::int64_t>(left);
    const auto j = static_cast<std::int64_t>(low);
    const auto k = static_cast<std::int64_t>(deep);
    const double u = smooth(x - left);
    const double v = smooth(y - low);
    const double w = smooth(z - deep);
    const auto layer = [&](int dz) {
      const auto corner = [&](int dx, int dy) { return unit(draw(what, i + dx, j + dy, k + dz)); };
      return blend(blend(corner(0, 0), corner(1, 0), u), blend(corner(0, 1), corner(1, 1), u), v);
    };
    return blend(layer(0), layer(1), w);
  }

  /// Where the path is at a distance from the hill's foot, and how steep its bend is.
  double path_middle(double y) const {
    const double s = static_cast<double>(side);
    return s * (0.5 + 0.17 * sine_cosine(2 * pi * y / (0.62 * s)).sine +
                0.05 * sine_cosine(2 * pi * y / (0.23 * s) + 1).sine);
  }
  double path_half() const { return std::clamp(0.008 * side, 2.0, 7.0); }

  /// How high a place lies before terraces are cut, 0 to 1.
  double hill(double x, double y) const {
    const double s = static_cast<double>(side);
    const double u = x / s;
    const double v = y / s;
    const double wide = noise(1, 3.1 * u, 3.1 * v);
    const double fine = noise(2, 9 * u, 9 * v);
    const double bowl = (u - 0.5) * (u - 0.5);
    return std::clamp(0.06 + 0.74 * v + 0.55 * bowl + 0.22 * (wide - 0.5) + 0.07 * (fine - 0.5),
                      0.0, 1.0);
  }

  void make_column(int x, int y) {
    const double top = 0.8 * std::max(1.0, static_cast<double>(height - plant_reach - 4));
    const auto steps = static_cast<double>(recipe.terraces);
    const double h = hill(x, y) * steps;
    const double level = std::floor(h);
    const double within = h - level;
    // Flat, and a slope of grass before the next wall.
    double z = (level + 0.16 * std::clamp((within - 0.35) / 0.6, 0.0, 1.0)) / steps * top + 4;
    Ground kind = meadow;
    const double off = std::abs(x + 0.5 - path_middle(y + 0.5));
    if (off < path_half() + 1) {
      // Up the hill by steps, each as long as it is easy to climb.
      const double way = hill(path_middle(y + 0.5), y + 0.5);
      z = way * top + 4;
      kind = path;
    } else {
      const double s = static_cast<double>(side);
      const double wet = noise(3, 7 * x / s, 7 * y / s);
      if (within > 0.12 && within < 0.3 && wet > 0.66) {
        kind = pond;
        z = level / steps * top + 3;
      } else if (within > 0.14 && within < 0.34 && wet < 0.42) {
        kind = bed;
      }
    }
    grounds[column(x, y)] =
        static_cast<std::uint16_t>(std::clamp(static_cast<int>(std::floor(z)), 2, height - 2));
    kinds[column(x, y)] = kind;
  }

  /// Where the hill is hollow, for a block and a cell around it: noise from the corners of its
  /// lattice, each drawn once.
  class Hollows {
   public:
    static constexpr int side = VoxelSource::side + 2;

    Hollows(const Garden& garden, const VoxelCell& low) : garden_(garden), low_(low) {
      if (garden.recipe.caves == 0) return;
      Layer one(garden, 7, low, 19, 13);
      Layer other(garden, 8, low, 41, 27);
      const double bar = 0.86 - 0.3 * garden.recipe.caves;
      for (int z = 0; z < side; ++z) {
        for (int y = 0; y < side; ++y) {
          for (int x = 0; x < side; ++x) {
            const bool hollow = 0.5 * one.at(x, y, z) + 0.5 * other.at(x, y, z) > bar;
            hollow_[static_cast<std::size_t>(x + side * (y + side * z))] = hollow;
          }
        }
      }
    }
    bool at(int x, int y, int z) const {
      if (garden_.recipe.caves == 0 || z < 2) return false;
      const int depth = garden_.ground(x, y) - 1 - z;
      if (depth < 5 || depth > deepest_cave) return false;
      return hollow_[static_cast<std::size_t>(
          (x - low_[0] + 1) + side * ((y - low_[1] + 1) + side * (z - low_[2] + 1)))];
    }

   private:
    /// Noise of one size, blended along one axis after the other.
    struct Layer {
      double corners[4][4][4];
      int first[3];
      double share[3][side];
      int corner[3][side];

      Layer(const Garden& garden, std::uint32_t what, const VoxelCell& low, double across,
            double up) {
        for (std::size_t axis = 0; axis < 3; ++axis) {
          const double length = axis < 2 ? across : up;
          first[axis] = static_cast<int>(std::floor((low[axis] - 1) / length));
          for (int k = 0; k < side; ++k) {
            const double place = (low[axis] - 1 + k) / length;
            corner[axis][k] = static_cast<int>(std::floor(place)) - first[axis];
            share[axis][k] = smooth(place - std::floor(place));
          }
        }
        for (int z = 0; z < 4; ++z) {
          for (int y = 0; y < 4; ++y) {
            for (int x = 0; x < 4; ++x) {
              corners[z][y][x] = unit(garden.draw(what, first[0] + x, first[1] + y, first[2] + z));
            }
          }
        }
      }
      double at(int x, int y, int z) const {
        const int i = corner[0][x];
        const int j = corner[1][y];
        const auto row = [&](int dz) {
          const auto& layer = corners[corner[2][z] + dz];
          return blend(blend(layer[j][i], layer[j][i + 1], share[0][x]),
                       blend(layer[j + 1][i], layer[j + 1][i + 1], share[0][x]), share[1][y]);
        };
        return blend(row(0), row(1), share[2][z]);
      }
    };

    const Garden& garden_;
    VoxelCell low_;
    std::array<bool, static_cast<std::size_t>(side) * side * side> hollow_{};
  };

  /// A column's ground, as it looks from above.
  std::uint32_t top_of(int x, int y) const {
    const std::uint64_t bits = draw(11, x, y);
    switch (static_cast<Ground>(kinds[column(x, y)])) {
      case path:
        return gravel + static_cast<std::uint32_t>(bits % 3);
      case bed:
        return soil + static_cast<std::uint32_t>(bits % 2);
      case pond:
        return water;
      case meadow:
        break;
    }
    const double shade = noise(12, x / 23.0, y / 23.0) + 0.5 * unit(bits) - 0.25;
    return grass + static_cast<std::uint32_t>(std::clamp(4 * shade, 0.0, 3.0));
  }

  /// A cell of the hill itself.
  std::uint32_t hill_cell(const Hollows& hollows, int x, int y, int z) const {
    const int own = ground(x, y);
    if (z >= own) return 0;
    const int depth = own - 1 - z;
    if (depth == 0) return top_of(x, y);
    const int low = std::min(std::min(ground(x - 1, y), ground(x + 1, y)),
                             std::min(ground(x, y - 1), ground(x, y + 1)));
    if (z >= low) {
      // A side that shows: a wall where it is high, else what the ground is.
      if (own - low <= 2) return soil + (static_cast<std::uint32_t>(depth) & 1u);
      // Courses of stones, each of a shade.
      const int course = z / 3;
      const int stone_at = ((x + y) + (course & 1) * 4) / 7;
      return stone + static_cast<std::uint32_t>(draw(13, course, stone_at) % 4);
    }
    if (hollows.at(x, y, z)) return 0;
    if (recipe.caves > 0 && depth >= 4 && depth <= deepest_cave + 1) {
      // What caves show.
      for (const auto& [dx, dy, dz] :
           {std::array{1, 0, 0}, std::array{-1, 0, 0}, std::array{0, 1, 0}, std::array{0, -1, 0},
            std::array{0, 0, 1}, std::array{0, 0, -1}}) {
        if (hollows.at(x + dx, y + dy, z + dz)) {
          return rock + static_cast<std::uint32_t>(draw(14, x, y, z) % 2);
        }
      }
    }
    return earth;
  }

  struct Plant {
    int x, y, z;  ///< its foot
    int kind;     ///< 0 flowers, 1 bush, 2 tree
    double size;
    std::uint64_t bits;

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
  };

  std::optional<Plant> plant_in(int i, int j) const {
    const std::uint64_t bits = draw(21, i, j);
    if (unit(bits) >= recipe.plants) return {};
    Plant plant;
    const std::uint64_t more = mix(bits + 1);
    plant.bits = mix(more + 1);
    plant.x = i * plant_square + 1 + static_cast<int>(more % (plant_square - 2));
    plant.y = j * plant_square + 1 + static_cast<int>((more >> 20) % (plant_square - 2));
    if (plant.x >= side || plant.y >= side) return {};
    const auto kind = static_cast<Ground>(kinds[column(plant.x, plant.y)]);
    const double off = std::abs(plant.x + 0.5 - path_middle(plant.y + 0.5));
    if (kind == path || kind == pond || off < path_half() + 5) return {};
    plant.z = ground(plant.x, plant.y);
    const double which = unit(mix(plant.bits + 2));
    plant.kind = kind == bed ? (which < 0.7 ? 0 : 1) : which < 0.34 ? 0 : which < 0.72 ? 1 : 2;
    plant.size = 0.6 + 0.7 * unit(mix(plant.bits + 3));
    return plant;
  }

  /// What a plant has in a cell; 0: nothing.
  std::uint32_t plant_cell(const Plant& plant, int x, int y, int z) const {
    const int dx = x - plant.x;
    const int dy = y - plant.y;
    const int dz = z - plant.z;
    if (!plant.may_reach(dx, dy, dz)) return 0;
    const std::uint64_t bits = draw(22, x, y, z);
    const auto leaves = [&] {
      const auto shade = static_cast<std::uint32_t>((plant.bits >> 8) % 3 + (bits % 3));
      return leaf + std::min(shade, 4u);
    };
    if (plant.kind == 0) {
      // Flowers stand on the ground of their own column, some on a stalk.
      if (dx * dx + dy * dy > 20 * plant.size) return 0;
      const int over = z - ground(x, y);
      const std::uint64_t own = draw(23, x, y);
      if (own % 3 != 0 || kinds[column(x, y)] == path || kinds[column(x, y)] == pond) return 0;
      const int stalk = static_cast<int>((own >> 8) % 2);
      if (over == stalk) return flower + static_cast<std::uint32_t>((plant.bits >> 4) % 6);
      return over >= 0 && over < stalk ? leaf + 1 : 0;
    }
    if (plant.kind == 1) {
      const double radius = 3.6 * plant.size;
      const double up = dz - 0.55 * radius;
      const double rough = 0.8 * (unit(bits) - 0.5);
      const double away = std::sqrt(dx * dx + dy * dy + 1.5 * up * up);
      if (dz < 0 || away > radius + rough) return 0;
      // Every third bush is in flower.
      if (plant.bits % 3 == 0 && away > radius - 1 && bits % 7 == 0) {
        return flower + static_cast<std::uint32_t>((plant.bits >> 16) % 6);
      }
      return leaves();
    }
    const int trunk = static_cast<int>(9 * plant.size);
    if (dz >= 0 && dz < trunk && std::abs(dx) + std::abs(dy) <= (plant.size > 0.95 ? 1 : 0)) {
      return wood + static_cast<std::uint32_t>(bits % 2);
    }
    const double radius = 6.4 * plant.size;
    const double up = dz - trunk - 0.55 * radius;
    const double rough =
        1.3 * (unit(bits) - 0.5) + noise(24, x / 3.0, y / 3.0, z / 3.0) * 1.6 - 1.2;
    return std::sqrt(dx * dx + dy * dy + 1.25 * up * up) <= radius + rough ? leaves() : 0;
  }

  std::vector<Lantern> find_lanterns() const {
    std::vector<Lantern> all;
    for (int y = lantern_spacing / 2; y < side; y += lantern_spacing) {
      const bool right = (y / lantern_spacing) % 2 == 0;
      const double off = path_half() + 3;
      const int x = static_cast<int>(path_middle(y + 0.5) + (right ? off : -off));
      if (x < 2 || x >= side - 2 || ground(x, y) + post_height + 3 >= height) continue;
      all.push_back({x, y, ground(x, y)});
    }
    return all;
  }

  static std::uint32_t lantern_cell(const Lantern& lamp, int x, int y, int z) {
    const int dx = x - lamp.x;
    const int dy = y - lamp.y;
    const int dz = z - lamp.z;
    if (dz < 0 || std::abs(dx) > 1 || std::abs(dy) > 1 || dz > post_height + 2) return 0;
    if (dz < post_height) return dx == 0 && dy == 0 ? std::uint32_t{post} : 0u;
    if (dz == post_height + 2) return post;
    return std::abs(dx) + std::abs(dy) <= 1 ? std::uint32_t{lantern} : 0u;
  }
};

TerraceSource::TerraceSource(const TerraceRecipe& recipe, int lantern_material, int water_material)
    : lantern_material_(lantern_material), water_material_(water_material) {
  validate_knobs(terrace_recipe_knobs(), recipe);
  garden_ = std::make_unique<const Garden>(recipe);
}
TerraceSource::~TerraceSource() = default;

VoxelCell TerraceSource::size() const { return {garden_->side, garden_->side, garden_->height}; }

VoxelPalette TerraceSource::palette() const {
  VoxelPalette palette;
  for (std::uint32_t value = 1; value <= std::size(colors); ++value) {
    palette.kinds.push_back({value == lantern ? lantern_material_
                             : value == water ? water_material_
                                              : -1,
                             colors[value - 1]});
  }
  return palette;
}

std::optional<std::uint32_t> TerraceSource::known(const VoxelBox& box) const {
  if (box.low[2] >= garden_->range.of(box, plant_spread).high + plant_reach) return 0;
  const int low = garden_->range.of(box, 1).low;
  if (box.high[2] < low && garden_->recipe.caves == 0) return earth;
  if (box.high[2] < low - deepest_cave - 2 || box.high[2] <= 1) return earth;
  return {};
}

void TerraceSource::read(const VoxelCell& low, std::uint32_t* values) const {
  const Garden& garden = *garden_;
  std::fill_n(values, block, 0u);
  const Garden::Hollows hollows(garden, low);
  const int end_x = std::min(low[0] + side, garden.side);
  const int end_y = std::min(low[1] + side, garden.side);
  for (int y = low[1]; y < end_y; ++y) {
    for (int x = low[0]; x < end_x; ++x) {
      const int end_z = std::min(low[2] + side, garden.ground(x, y));
      for (int z = low[2]; z < end_z; ++z) {
        values[(x - low[0]) + side * ((y - low[1]) + side * (z - low[2]))] =
            garden.hill_cell(hollows, x, y, z);
      }
    }
  }
  const VoxelBox box{low, {low[0] + side, low[1] + side, low[2] + side}};
  if (box.high[2] < garden.range.of(box, plant_spread).low) return;
  const auto put = [&](int x, int y, int z, std::uint32_t value) {
    std::uint32_t& to = values[(x - low[0]) + side * ((y - low[1]) + side * (z - low[2]))];
    if (to == 0) to = value;
  };
  for (const Garden::Lantern& lamp : garden.lanterns) {
    if (std::abs(lamp.x - low[0] - side / 2) > side ||
        std::abs(lamp.y - low[1] - side / 2) > side) {
      continue;
    }
    for (int z = low[2]; z < box.high[2]; ++z) {
      for (int y = low[1]; y < end_y; ++y) {
        for (int x = low[0]; x < end_x; ++x) {
          if (const std::uint32_t value = Garden::lantern_cell(lamp, x, y, z)) put(x, y, z, value);
        }
      }
    }
  }
  const auto square = [](int at) { return at >= 0 ? at / plant_square : -1; };
  for (int j = square(low[1] - plant_spread); j <= square(box.high[1] + plant_spread); ++j) {
    for (int i = square(low[0] - plant_spread); i <= square(box.high[0] + plant_spread); ++i) {
      if (i < 0 || j < 0) continue;
      const auto plant = garden.plant_in(i, j);
      if (!plant) continue;
      for (int z = low[2]; z < box.high[2]; ++z) {
        if (z < plant->z - plant_spread || z >= plant->z + plant_reach - 1) continue;
        for (int y = std::max(low[1], plant->y - plant_spread);
             y < std::min(end_y, plant->y + plant_spread + 1); ++y) {
          for (int x = std::max(low[0], plant->x - plant_spread);
               x < std::min(end_x, plant->x + plant_spread + 1); ++x) {
            if (z < garden.ground(x, y)) continue;
            if (z >= garden.height) continue;
            if (const std::uint32_t value = garden.plant_cell(*plant, x, y, z)) {
              put(x, y, z, value);
            }
          }
        }
      }
    }
  }
}

std::vector<Vec3d> TerraceSource::lanterns() const {
  std::vector<Vec3d> middles;
  for (const Garden::Lantern& lamp : garden_->lanterns) {
    middles.emplace_back(lamp.x + 0.5, lamp.y + 0.5, lamp.z + post_height + 1);
  }
  return middles;
}

int TerraceSource::ground(int x, int y) const { return garden_->ground(x, y); }

}  // namespace photonlane
