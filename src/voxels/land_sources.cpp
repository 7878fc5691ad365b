#include "photonlane/voxels/land_sources.hpp"

#include <fmt/format.h>

#include <array>

#include "photonlane/base/error.hpp"
#include "voxels/field_sampler.hpp"
#include "voxels/garden_parts.hpp"

namespace photonlane {
namespace {

using namespace garden;

constexpr int side = VoxelSource::side;

/// The shares of hills of so many cells in how high a place lies.
struct Octave {
  std::uint32_t what;
  double length;
  double share;
};
constexpr std::array octaves{Octave{31, 1300, 0.66}, Octave{32, 330, 0.26}, Octave{33, 90, 0.08}};

/// How far heights may be apart in two places a cell apart, of a rise of one.
constexpr double steepest() {
  double sum = 0;
  for (const Octave& one : octaves) sum += 1.875 * 1.4143 * one.share / one.length;
  return sum;
}

/// A path is where noise of this length is nearly 1/2.
constexpr double path_length = 420;
constexpr double path_half = 0.009;
constexpr int lamp_square = 24;
/// Coarser cubes than this show neither plants nor lanterns.
constexpr std::int64_t coarsest_plants = 4;

}  // namespace

std::span<const Knob<GardenRecipe>> garden_recipe_knobs() {
  static const Knob<GardenRecipe> table[] = {
      knob<&GardenRecipe::seed>("seed", "", {0, 1e15}, "which garden; the same each time"),
      knob<&GardenRecipe::rise>("rise", "cells", {1, 10000},
                                "from the lowest valley to the highest hill"),
      knob<&GardenRecipe::step>("step", "cells", {4, 1000}, "that a terrace lies over the next"),
      knob<&GardenRecipe::plants>("plants", "", {0, 1}, "share of places that have a plant"),
  };
  return table;
}

struct GardenLand::Column {
  std::int64_t ground = 0;  ///< the lowest cell over it
  Ground kind = Ground::meadow;
};

GardenLand::GardenLand(const GardenRecipe& recipe, int lantern_material, int water_material)
    : recipe_(recipe), lantern_material_(lantern_material), water_material_(water_material) {
  validate_knobs(garden_recipe_knobs(), recipe);
}

VoxelPalette GardenLand::palette() const {
  return garden::palette(lantern_material_, water_material_);
}

/// How high a place lies before terraces are cut, in cells.
double GardenLand::hill(double x, double y) const {
  const Noise noise{static_cast<std::uint64_t>(recipe_.seed)};
  double height = 0;
  for (const Octave& one : octaves) {
    height += one.share * noise.at(one.what, x / one.length, y / one.length);
  }
  return recipe_.rise * height;
}

GardenLand::Column GardenLand::column(std::int64_t x, std::int64_t y) const {
  const Noise noise{static_cast<std::uint64_t>(recipe_.seed)};
  const double at_x = static_cast<double>(x) + 0.5;
  const double at_y = static_cast<double>(y) + 0.5;
  const double height = hill(at_x, at_y);
  const double level = std::floor(height / recipe_.step);
  const double within = height / recipe_.step - level;
  Column column;
  double top = 0;
  if (std::abs(noise.at(34, at_x / path_length, at_y / path_length) - 0.5) < path_half) {
    // Up the hills as they are.
    top = height;
    column.kind = Ground::path;
  } else {
    // Flat, and a slope of grass before the next wall.
    top = recipe_.step * (level + 0.16 * std::clamp((within - 0.35) / 0.6, 0.0, 1.0));
    const double wet = noise.at(35, at_x / 170, at_y / 170);
    if (within > 0.12 && within < 0.3 && wet > 0.66) {
      column.kind = Ground::pond;
      top -= 1;
    } else if (within > 0.14 && within < 0.34 && wet < 0.42) {
      column.kind = Ground::bed;
    }
  }
  column.ground = static_cast<std::int64_t>(std::floor(top));
  return column;
}

std::int64_t GardenLand::ground(std::int64_t x, std::int64_t y) const {
  return column(x, y).ground;
}

std::optional<std::uint32_t> GardenLand::known(const LandCube& cube, std::int64_t step) const {
  const auto bottom = static_cast<double>(cube.low[2]);
  const auto top = static_cast<double>(cube.low[2] + cube.side);
  if (bottom > recipe_.rise + 1.2 * recipe_.step + plant_reach) return 0;
  if (top < -2.0 - static_cast<double>(step)) return earth;
  // Heights at the middles of a few squares, with what they may differ by within: of all columns
  // that matter, plants' feet and walls' neighbors among them.
  constexpr int squares = 5;
  const double margin = static_cast<double>(std::max<std::int64_t>(step, plant_spread)) + 1;
  const double across = (static_cast<double>(cube.side) + 2 * margin) / squares;
  const double off = recipe_.rise * steepest() * across * 0.7072;
  double lowest = 1e300;
  double highest = -1e300;
  for (int j = 0; j < squares; ++j) {
    for (int i = 0; i < squares; ++i) {
      const double height = hill(static_cast<double>(cube.low[0]) - margin + across * (i + 0.5),
                                 static_cast<double>(cube.low[1]) - margin + across * (j + 0.5));
      lowest = std::min(lowest, height);
      highest = std::max(highest, height);
    }
  }
  highest += off + 0.16 * recipe_.step;
  if (bottom > highest + plant_reach) return 0;
  lowest = recipe_.step * std::floor((lowest - off) / recipe_.step) - 2;
  if (top < lowest - static_cast<double>(step) - 1) return earth;
  return {};
}

void GardenLand::read(const LandCell& low, std::int64_t step, std::uint32_t* values) const {
  const Noise noise{static_cast<std::uint64_t>(recipe_.seed)};
  std::fill_n(values, VoxelSource::block, 0u);
  // A column around the block each way.
  constexpr int wide = side + 2;
  std::vector<Column> columns(static_cast<std::size_t>(wide) * wide);
  const auto at = [](std::int64_t lowest, std::int64_t width, int k) {
    return lowest + width * k + width / 2;
  };
  for (int y = 0; y < wide; ++y) {
    for (int x = 0; x < wide; ++x) {
      columns[static_cast<std::size_t>(x + wide * y)] =
          column(at(low[0], step, x - 1), at(low[1], step, y - 1));
    }
  }
  for (int y = 0; y < side; ++y) {
    for (int x = 0; x < side; ++x) {
      const auto near = [&](int dx, int dy) {
        return columns[static_cast<std::size_t>((x + 1 + dx) + wide * (y + 1 + dy))].ground;
      };
      const Column& own = columns[static_cast<std::size_t>((x + 1) + wide * (y + 1))];
      const std::int64_t lowest = std::min({near(-1, 0), near(1, 0), near(0, -1), near(0, 1)});
      const std::int64_t at_x = at(low[0], step, x);
      const std::int64_t at_y = at(low[1], step, y);
      for (int z = 0; z < side; ++z) {
        const std::int64_t at_z = at(low[2], step, z);
        if (at_z >= own.ground) break;
        const std::int64_t depth = own.ground - 1 - at_z;
        std::uint32_t value = earth;
        if (depth < step) {
          value = top_of(noise, own.kind, at_x, at_y);
        } else if (at_z >= lowest) {
          // A side that shows: a wall where it is high, else what the ground is.
          value = own.ground - lowest <= 2 * step ? soil + static_cast<std::uint32_t>(depth & 1)
                                                  : wall_cell(noise, at_x, at_y, at_z);
        }
        values[static_cast<std::size_t>(x + side * (y + side * z))] = value;
      }
    }
  }
  if (step <= coarsest_plants) plant(low, step, columns, values);
}

/// Puts plants and lanterns over the ground of a block.
void GardenLand::plant(const LandCell& low, std::int64_t step, const std::vector<Column>& columns,
                       std::uint32_t* values) const {
  const Noise noise{static_cast<std::uint64_t>(recipe_.seed)};
  const std::int64_t length = side * step;
  /// Calls each(x, y, z, value) for cubes whose middles may be within so many cells of a foot.
  const auto around = [&](std::int64_t foot_x, std::int64_t foot_y, std::int64_t foot_z,
                          std::int64_t spread, std::int64_t up, const auto& value_at) {
    const std::array<std::int64_t, 3> from{foot_x - spread, foot_y - spread, foot_z - 2};
    const std::array<std::int64_t, 3> to{foot_x + spread, foot_y + spread, foot_z + up};
    std::array<int, 3> first{};
    std::array<int, 3> end{};
    for (std::size_t axis = 0; axis < 3; ++axis) {
      first[axis] = static_cast<int>(
          std::clamp<std::int64_t>(floor_div(from[axis] - low[axis], step), 0, side));
      end[axis] = static_cast<int>(
          std::clamp<std::int64_t>(floor_div(to[axis] - low[axis], step) + 1, 0, side));
    }
    for (int z = first[2]; z < end[2]; ++z) {
      for (int y = first[1]; y < end[1]; ++y) {
        for (int x = first[0]; x < end[0]; ++x) {
          std::uint32_t& to_value = values[static_cast<std::size_t>(x + side * (y + side * z))];
          if (to_value != 0) continue;
          const Column& own = columns[static_cast<std::size_t>((x + 1) + (side + 2) * (y + 1))];
          to_value = value_at(low[0] + step * x + step / 2, low[1] + step * y + step / 2,
                              low[2] + step * z + step / 2, own);
        }
      }
    }
  };
  const auto squares = [&](int size, std::int64_t spread, const auto& each) {
    for (std::int64_t j = floor_div(low[1] - spread, size);
         j <= floor_div(low[1] + length + spread, size); ++j) {
      for (std::int64_t i = floor_div(low[0] - spread, size);
           i <= floor_div(low[0] + length + spread, size); ++i) {
        each(i, j);
      }
    }
  };
  // Lanterns stand beside paths.
  squares(lamp_square, 2, [&](std::int64_t i, std::int64_t j) {
    const std::uint64_t bits = noise.draw(36, i, j);
    const std::int64_t x = i * lamp_square + static_cast<std::int64_t>(bits % lamp_square);
    const std::int64_t y = j * lamp_square + static_cast<std::int64_t>((bits >> 20) % lamp_square);
    const double off = std::abs(noise.at(34, (static_cast<double>(x) + 0.5) / path_length,
                                         (static_cast<double>(y) + 0.5) / path_length) -
                                0.5);
    if (off < 1.3 * path_half || off > 2.6 * path_half) return;
    const Column foot = column(x, y);
    if (foot.kind == Ground::pond) return;
    around(x, y, foot.ground, 1, post_height + 3,
           [&](std::int64_t at_x, std::int64_t at_y, std::int64_t at_z, const Column&) {
             return lantern_cell(at_x - x, at_y - y, at_z - foot.ground);
           });
  });
  squares(plant_square, plant_spread, [&](std::int64_t i, std::int64_t j) {
    auto plant = Plant::in_square(noise, recipe_.plants, i, j);
    if (!plant) return;
    const double off = std::abs(noise.at(34, (static_cast<double>(plant->x) + 0.5) / path_length,
                                         (static_cast<double>(plant->y) + 0.5) / path_length) -
                                0.5);
    if (off < 2.2 * path_half) return;
    const Column foot = column(plant->x, plant->y);
    if (foot.kind == Ground::path || foot.kind == Ground::pond) return;
    plant->z = foot.ground;
    plant->grow(foot.kind);
    if (plant->z + plant_reach < low[2] || plant->z - plant_spread > low[2] + length) return;
    // Flowers stand on their own column's ground, which may lie lower than their foot.
    const std::int64_t spread = plant->kind == 0 ? 6 : plant_spread;
    around(plant->x, plant->y, plant->z - (plant->kind == 0 ? plant_spread : 0), spread,
           plant_reach + (plant->kind == 0 ? plant_spread : 0),
           [&](std::int64_t x, std::int64_t y, std::int64_t z, const Column& own) {
             if (z < own.ground) return 0u;
             return plant->cell(noise, x, y, z, own.ground, own.kind);
           });
  });
}

FieldLand::FieldLand(const Field& field, double cell, const std::vector<std::uint32_t>& colors)
    : sampler_(std::make_unique<const FieldSampler>(field, colors)), cell_(cell) {
  if (!(cell > 0) || !std::isfinite(cell)) {
    throw Error(ErrorKind::input, fmt::format("cells of {} meters, expected more than 0", cell));
  }
}
FieldLand::~FieldLand() = default;

VoxelPalette FieldLand::palette() const { return sampler_->palette(); }

std::optional<std::uint32_t> FieldLand::known(const LandCube& cube, std::int64_t) const {
  const double half = 0.5 * static_cast<double>(cube.side);
  const Vec3d low(static_cast<double>(cube.low[0]), static_cast<double>(cube.low[1]),
                  static_cast<double>(cube.low[2]));
  return sampler_->known(cell_ * (low + Vec3d::Constant(half)), cell_ * half);
}

void FieldLand::read(const LandCell& low, std::int64_t step, std::uint32_t* values) const {
  const auto width = static_cast<double>(step);
  // Whole: a step is a power of two, and so is what it divides.
  const Vec3d at(static_cast<double>(low[0]) / width, static_cast<double>(low[1]) / width,
                 static_cast<double>(low[2]) / width);
  sampler_->read(Vec3d(0, 0, 0), at, cell_ * width, values);
}

}  // namespace photonlane
