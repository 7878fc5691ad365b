#include "photonlane/plates/plate.hpp"

#include <fmt/format.h>

#include <cmath>
#include <limits>

#include "base/parallel.hpp"
#include "plates/plate_solid.hpp"

namespace photonlane {

std::span<const Knob<PlateDepth>> plate_depth_knobs() {
  static const Knob<PlateDepth> table[] = {
      knob<&PlateDepth::kind>("kind", "", {},
                              "what the numbers are: distances along the view axis, along each "
                              "pixel's own ray, or values of a depth buffer"),
      knob<&PlateDepth::unit>("unit", "meters", {1e-9, 1e9}, "meters for 1, of distances"),
      knob<&PlateDepth::nearest>("nearest", "meters", {1e-9, 1e9},
                                 "distance of the near plane, of depth buffers"),
      knob<&PlateDepth::farthest>(
          "farthest", "meters", {0, 1e12},
          "distance of the far plane, of depth buffers; 0: it is at infinity"),
      knob<&PlateDepth::range>("range", "", {},
                               "how a depth buffer's values go from the near plane to the far one"),
      knob<&PlateDepth::linear>(
          "linear", "", {},
          "whether a depth buffer's values are even in meters, and not in their inverse"),
  };
  return table;
}

std::span<const Knob<Plate>> plate_knobs() {
  static const Knob<Plate> table[] = {
      knob<&Plate::thickness>(
          "thickness", "meters", {0, 1e9},
          "how deep what is seen in the plate is taken to be, along its view axis"),
      knob<&Plate::gap>(
          "gap", "", {0, 10},
          "share of its distance by which a pixel's neighbor is nearer or farther at most, where "
          "both are of one surface"),
      knob<&Plate::tolerance>("tolerance", "", {0, 0.5},
                              "share of its distance by which a lane may be behind the plate's "
                              "surface and still on it"),
  };
  return table;
}

double plate_distance(const PlateDepth& means, double number, double slant) {
  constexpr double infinite = std::numeric_limits<double>::infinity();
  constexpr double none = std::numeric_limits<double>::quiet_NaN();
  if (std::isnan(number)) return none;
  if (means.kind != DepthKind::buffer) {
    if (number == infinite) return infinite;
    const double along = number * means.unit;
    if (!(along > 0)) return none;
    return means.kind == DepthKind::axis ? along : along / slant;
  }
  // From 0 at the near plane to 1 at the far one.
  double share = number;
  if (means.range == BufferRange::one_to_zero) share = 1 - number;
  if (means.range == BufferRange::minus_one_to_one) share = 0.5 + 0.5 * number;
  if (!(share >= 0) || share > 1 + 1e-6) return none;
  if (share >= 1) return infinite;
  const double near = means.nearest;
  const double far = means.farthest > 0 ? means.farthest : infinite;
  if (means.linear) return std::isinf(far) ? none : near + share * (far - near);
  // Where the far plane is at infinity, and values go down to 0, they are the inverse itself.
  const double to_far = means.range == BufferRange::one_to_zero ? number : 1 - share;
  const double inverse = to_far / near + (std::isinf(far) ? 0 : share / far);
  return 1 / inverse;
}

double plate_number(const PlateDepth& means, double distance, double slant) {
  if (means.kind == DepthKind::axis) return distance / means.unit;
  if (means.kind == DepthKind::ray) return distance * slant / means.unit;
  const double near = means.nearest;
  double share = 1;
  if (std::isfinite(distance)) {
    const double over_far = means.farthest > 0 ? 1 / means.farthest : 0;
    share = means.linear ? (distance - near) / (means.farthest - near)
                         : (1 / near - 1 / distance) / (1 / near - over_far);
  }
  if (means.range == BufferRange::one_to_zero) return 1 - share;
  return means.range == BufferRange::minus_one_to_one ? 2 * share - 1 : share;
}

double distance_of(const Plate& plate, const PlateLens& lens, int x, int y) {
  const double slant = plate.means.kind == DepthKind::ray ? lens.way(x + 0.5, y + 0.5).norm() : 1;
  return plate_distance(plate.means, static_cast<double>(plate.depth.at(x, y)), slant);
}

void inverse_distances(const Plate& plate, const PlateLens& lens, int y, float* to) {
  const int width = plate.depth.size.width;
  const float* const row = plate.depth.values + y * plate.depth.down;
  if (plate.means.kind == DepthKind::axis && plate.depth.across == 1) {
    const double unit = plate.means.unit;
    for (int x = 0; x < width; ++x) {
      to[x] = static_cast<float>(1 / (static_cast<double>(row[x]) * unit));
    }
    return;
  }
  for (int x = 0; x < width; ++x) to[x] = static_cast<float>(1 / distance_of(plate, lens, x, y));
}

namespace {

/// Whether all numbers of a row of distances are distances, or infinite.
bool all_distances(const Plate& plate, int y) {
  if (plate.means.kind == DepthKind::buffer || plate.depth.across != 1) return false;
  const float* const row = plate.depth.values + y * plate.depth.down;
  bool all = true;
  for (int x = 0; x < plate.depth.size.width; ++x) all = all & (row[x] > 0);
  return all;
}

}  // namespace

void Plate::validate(std::size_t materials) const {
  validate_knobs(plate_knobs(), *this);
  validate_knobs(plate_depth_knobs(), means);
  const auto there = [](const PlateImage& image) {
    return image.values != nullptr && image.size.width > 0 && image.size.height > 0;
  };
  if (!there(red) || !there(green) || !there(blue) || !there(depth)) {
    throw Error(ErrorKind::usage, "a plate without color or depth, expected both");
  }
  const auto hold = [&](const PlateImage& image, const char* what) {
    if (image.values == nullptr || image.size == depth.size) return;
    throw Error(
        ErrorKind::input,
        fmt::format("a plate with {} of {}x{} pixels and depth of {}x{}, expected the same", what,
                    image.size.width, image.size.height, depth.size.width, depth.size.height));
  };
  hold(red, "color");
  hold(green, "color");
  hold(blue, "color");
  hold(alpha, "alpha");
  for (const PlateImage& axis : normal) hold(axis, "normals");
  if (normal[0].values != nullptr && (normal[1].values == nullptr || normal[2].values == nullptr)) {
    throw Error(ErrorKind::usage, "a plate with some of its normals' numbers, expected all three");
  }
  if (camera.projection != Projection::planar) {
    throw Error(ErrorKind::input, "a plate of a cylindrical camera, expected a planar one");
  }
  if (means.kind == DepthKind::buffer) {
    if (means.farthest > 0 && means.farthest <= means.nearest) {
      throw Error(ErrorKind::input,
                  fmt::format("a far plane at {} meters and a near one at {}, expected it behind",
                              means.farthest, means.nearest));
    }
    if (means.linear && means.farthest == 0) {
      throw Error(ErrorKind::input, "a linear depth buffer without a far plane, expected one");
    }
  }
  if (material >= static_cast<int>(materials)) {
    throw Error(ErrorKind::input,
                fmt::format("a plate of material {}, of which there are {}", material, materials));
  }
  const PlateLens lens(camera, depth.size);
  std::vector<int> wrong(static_cast<std::size_t>(depth.size.height), -1);
  parallel_for(0, wrong.size(), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    if (all_distances(*this, y)) return;
    for (int x = 0; x < depth.size.width && wrong[row] < 0; ++x) {
      if (alpha.values != nullptr && !(alpha.at(x, y) >= 0.5f)) continue;
      if (std::isnan(distance_of(*this, lens, x, y))) wrong[row] = x;
    }
  });
  for (std::size_t row = 0; row < wrong.size(); ++row) {
    if (wrong[row] < 0) continue;
    throw Error(ErrorKind::input,
                fmt::format("a plate with a depth of {} at pixel [{}, {}], which is no distance",
                            depth.at(wrong[row], static_cast<int>(row)), wrong[row], row));
  }
}

std::shared_ptr<const Solid> Plate::compile(const SolidContext& context) const {
  validate(context.materials);
  return std::make_shared<const PlateSolid>(
      straightened(*this), material < 0 ? context.plain : static_cast<std::uint32_t>(material));
}

}  // namespace photonlane
