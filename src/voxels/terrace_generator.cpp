#include "photonlane/voxels/terrace_generator.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/trigonometry.hpp"
#include "voxels/garden_parts.hpp"
#include "voxels/ground_range.hpp"

namespace photonlane {
namespace {

using namespace garden;

constexpr int deepest_cave = 70;
constexpr int lantern_spacing = 34;

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
  Noise noise;
  std::vector<std::uint16_t> grounds;  ///< by column
  std::vector<Ground> kinds;           ///< the same
  GroundRange range;
  struct Lantern {
    int x, y, z;  ///< foot of its post
  };
  std::vector<Lantern> lanterns;

  explicit Garden(const TerraceRecipe& of)
      : recipe(of),
        side(static_cast<int>(of.side)),
        height(static_cast<int>(of.height)),
        noise{static_cast<std::uint64_t>(of.seed)} {
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
    const double wide = noise.at(1, 3.1 * u, 3.1 * v);
    const double fine = noise.at(2, 9 * u, 9 * v);
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
    Ground kind = Ground::meadow;
    const double off = std::abs(x + 0.5 - path_middle(y + 0.5));
    if (off < path_half() + 1) {
      // Up the hill by steps, each as long as it is easy to climb.
      const double way = hill(path_middle(y + 0.5), y + 0.5);
      z = way * top + 4;
      kind = Ground::path;
    } else {
      const double s = static_cast<double>(side);
      const double wet = noise.at(3, 7 * x / s, 7 * y / s);
      if (within > 0.12 && within < 0.3 && wet > 0.66) {
        kind = Ground::pond;
        z = level / steps * top + 3;
      } else if (within > 0.14 && within < 0.34 && wet < 0.42) {
        kind = Ground::bed;
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
              corners[z][y][x] =
                  unit(garden.noise.draw(what, first[0] + x, first[1] + y, first[2] + z));
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

  /// A cell of the hill itself.
  std::uint32_t hill_cell(const Hollows& hollows, int x, int y, int z) const {
    const int own = ground(x, y);
    if (z >= own) return 0;
    const int depth = own - 1 - z;
    if (depth == 0) return top_of(noise, kinds[column(x, y)], x, y);
    const int low = std::min(std::min(ground(x - 1, y), ground(x + 1, y)),
                             std::min(ground(x, y - 1), ground(x, y + 1)));
    if (z >= low) {
      // A side that shows: a wall where it is high, else what the ground is.
      if (own - low <= 2) return soil + (static_cast<std::uint32_t>(depth) & 1u);
      return wall_cell(noise, x, y, z);
    }
    if (hollows.at(x, y, z)) return 0;
    if (recipe.caves > 0 && depth >= 4 && depth <= deepest_cave + 1) {
      // What caves show.
      for (const auto& [dx, dy, dz] :
           {std::array{1, 0, 0}, std::array{-1, 0, 0}, std::array{0, 1, 0}, std::array{0, -1, 0},
            std::array{0, 0, 1}, std::array{0, 0, -1}}) {
        if (hollows.at(x + dx, y + dy, z + dz)) {
          return rock + static_cast<std::uint32_t>(noise.draw(14, x, y, z) % 2);
        }
      }
    }
    return earth;
  }

  std::optional<Plant> plant_in(int i, int j) const {
    std::optional<Plant> plant = Plant::in_square(noise, recipe.plants, i, j);
    if (!plant || plant->x >= side || plant->y >= side) return {};
    const auto x = static_cast<int>(plant->x);
    const auto y = static_cast<int>(plant->y);
    const Ground on = kinds[column(x, y)];
    const double off = std::abs(x + 0.5 - path_middle(y + 0.5));
    if (on == Ground::path || on == Ground::pond || off < path_half() + 5) return {};
    plant->z = ground(x, y);
    plant->grow(on);
    return plant;
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
};

TerraceSource::TerraceSource(const TerraceRecipe& recipe, int lantern_material, int water_material)
    : lantern_material_(lantern_material), water_material_(water_material) {
  validate_knobs(terrace_recipe_knobs(), recipe);
  garden_ = std::make_unique<const Garden>(recipe);
}
TerraceSource::~TerraceSource() = default;

VoxelCell TerraceSource::size() const { return {garden_->side, garden_->side, garden_->height}; }

VoxelPalette TerraceSource::palette() const {
  return garden::palette(lantern_material_, water_material_);
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
          if (const std::uint32_t value = lantern_cell(x - lamp.x, y - lamp.y, z - lamp.z))
            put(x, y, z, value);
        }
      }
    }
  }
  const auto square = [](int at) { return static_cast<int>(floor_div(at, plant_square)); };
  for (int j = square(low[1] - plant_spread); j <= square(box.high[1] + plant_spread); ++j) {
    for (int i = square(low[0] - plant_spread); i <= square(box.high[0] + plant_spread); ++i) {
      if (i < 0 || j < 0) continue;
      const auto plant = garden.plant_in(i, j);
      if (!plant) continue;
      const auto at_x = static_cast<int>(plant->x);
      const auto at_y = static_cast<int>(plant->y);
      for (int z = low[2]; z < box.high[2]; ++z) {
        if (z < plant->z - plant_spread || z >= plant->z + plant_reach - 1) continue;
        for (int y = std::max(low[1], at_y - plant_spread);
             y < std::min(end_y, at_y + plant_spread + 1); ++y) {
          for (int x = std::max(low[0], at_x - plant_spread);
               x < std::min(end_x, at_x + plant_spread + 1); ++x) {
            if (z < garden.ground(x, y)) continue;
            if (z >= garden.height) continue;
            if (const std::uint32_t value = plant->cell(garden.noise, x, y, z, garden.ground(x, y),
                                                        garden.kinds[garden.column(x, y)])) {
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
