#include "photonlane/field/sample.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <memory>

#include "base/parallel.hpp"
#include "field/scatter.hpp"
#include "field/spline.hpp"

namespace photonlane {
namespace {

/// The factors of a spline, as whole numbers over all of their range.
template <class Whole>
void keep(const std::vector<double>& factors, Volume& volume, std::vector<Whole>& kept) {
  const auto [low, high] = std::minmax_element(factors.begin(), factors.end());
  constexpr double most = std::numeric_limits<Whole>::max();
  volume.low = *low;
  volume.step = std::max((*high - *low) / most, 1e-12);
  kept.reserve(factors.size());
  for (const double factor : factors) {
    kept.push_back(static_cast<Whole>(std::lround((factor - volume.low) / volume.step)));
  }
}

}  // namespace

std::span<const Knob<VolumeRecipe>> volume_recipe_knobs() {
  static const Knob<VolumeRecipe> table[] = {
      knob<&VolumeRecipe::points>("points", "", {2, Volume::largest_side},
                                  "points of the lattice along the longest side"),
      knob<&VolumeRecipe::padding>("padding", "meters", {0, 1e6},
                                   "space around the field's bounds"),
      knob<&VolumeRecipe::storage>("storage", "", {},
                                   "how numbers are kept: floats, or whole numbers of 16 (words) "
                                   "or 8 bits (bytes)"),
  };
  return table;
}

Volume sample_volume(const Field& field, const VolumeRecipe& recipe, std::size_t memory_limit) {
  validate_knobs(volume_recipe_knobs(), recipe);
  if (!field.bounds().finite()) {
    throw Error(ErrorKind::input, "a field without end, expected one that a box can hold");
  }
  Volume volume;
  const Vec3d margin = Vec3d::Constant(recipe.padding);
  volume.box = {field.bounds().low - margin, field.bounds().high + margin};
  const Vec3d extent = volume.box.high - volume.box.low;
  if (!(extent.minCoeff() > 0)) {
    throw Error(ErrorKind::input, "a field of no size, expected some padding around it");
  }
  const double cell = extent.maxCoeff() / (recipe.points - 1);
  for (int axis = 0; axis < 3; ++axis) {
    volume.size[axis] = std::max(2, static_cast<int>(std::ceil(extent[axis] / cell - 1e-9)) + 1);
  }
  // The values on their way to what is kept.
  const std::size_t bytes = volume.count() * (sizeof(double) + sizeof(float));
  if (bytes > memory_limit) {
    throw Error(ErrorKind::memory,
                fmt::format("a volume of {}x{}x{} takes {:.2f} GiB while it is made, the limit is "
                            "{:.2f} GiB: give it fewer points",
                            volume.size[0], volume.size[1], volume.size[2],
                            static_cast<double>(bytes) / 0x1p30,
                            static_cast<double>(memory_limit) / 0x1p30));
  }
  const CompiledField compiled(field);
  std::vector<double> values(volume.count());
  const auto side = [&](int axis) { return static_cast<std::size_t>(volume.size[axis]); };
  const auto at = [&](int axis, std::size_t i) {
    return volume.box.low[axis] + extent[axis] * static_cast<double>(i) / (volume.size[axis] - 1);
  };
  parallel_for(0, side(2), [&](std::size_t z) {
    std::vector<Vec3d> row(side(0));
    for (std::size_t y = 0; y < side(1); ++y) {
      for (std::size_t x = 0; x < side(0); ++x) row[x] = {at(0, x), at(1, y), at(2, z)};
      const std::vector<double> found = compiled.distances(row);
      std::copy(found.begin(), found.end(),
                values.begin() + static_cast<std::ptrdiff_t>(side(0) * (y + side(1) * z)));
    }
  });
  const std::size_t strides[3] = {1, side(0), side(0) * side(1)};
  for (int axis = 0; axis < 3; ++axis) {
    const int second = axis == 0 ? 1 : 0;
    const int third = axis == 2 ? 1 : 2;
    for (std::size_t k = 0; k < side(third); ++k) {
      for (std::size_t j = 0; j < side(second); ++j) {
        make_spline(values.data() + j * strides[second] + k * strides[third], side(axis),
                    strides[axis]);
      }
    }
  }
  volume.storage = recipe.storage;
  switch (recipe.storage) {
    case VolumeStorage::floats:
      volume.floats.assign(values.begin(), values.end());
      break;
    case VolumeStorage::words:
      keep(values, volume, volume.words);
      break;
    case VolumeStorage::bytes:
      keep(values, volume, volume.bytes);
      break;
  }
  return volume;
}

VolumeError volume_error(const Volume& volume, const Field& field, std::size_t places) {
  const Field sampled = field::volume(std::make_shared<const Volume>(volume));
  const std::vector<Vec3d> where = places_in(volume.box, places, 0x701e);
  const std::vector<double> made = CompiledField(sampled).distances(where);
  const std::vector<double> truth = CompiledField(field).distances(where);
  VolumeError error;
  error.stretch = sampled.stretch();
  for (int axis = 0; axis < 3; ++axis) {
    error.cell = std::max(error.cell,
                          (volume.box.high[axis] - volume.box.low[axis]) / (volume.size[axis] - 1));
  }
  double sum = 0;
  std::size_t near = 0;
  for (std::size_t i = 0; i < places; ++i) {
    const double off = std::abs(made[i] - truth[i]);
    error.everywhere = std::max(error.everywhere, off);
    if (std::abs(truth[i]) > 2 * error.cell) continue;
    error.largest = std::max(error.largest, off);
    sum += off * off;
    ++near;
  }
  if (near > 0) error.rms = std::sqrt(sum / static_cast<double>(near));
  return error;
}

}  // namespace photonlane
