#include "light/surface_pattern.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"

namespace photonlane {
namespace {

/// The integral of a wave that is 1 over the first half of its length of 2 and -1 over the second.
double wave_sum(double x) {
  const double t = x - 2 * std::floor(0.5 * x);
  return t < 1 ? t : 2 - t;
}

/// That wave, evened out over a width.
double wave(double x, double width) {
  return (wave_sum(x + 0.5 * width) - wave_sum(x - 0.5 * width)) / width;
}

double corner(std::int64_t x, std::int64_t y, std::int64_t z) {
  const auto key = static_cast<std::uint64_t>(x) * 0x9e3779b97f4a7c15u ^
                   static_cast<std::uint64_t>(y) * 0xc2b2ae3d27d4eb4fu ^
                   static_cast<std::uint64_t>(z) * 0x165667b19e3779f9u;
  return random_uniform({.seed = 0x9a77e2, .pixel = key}, 0);
}

/// Values at the corners of a lattice of 1, blended.
double patches(const Vec3d& place) {
  const Vec3d floor = place.array().floor();
  const Vec3d t = place - floor;
  const Vec3d s = t.array().square() * (3 - 2 * t.array());
  const auto at = [&](int i, int j, int k) {
    return corner(static_cast<std::int64_t>(floor.x()) + i,
                  static_cast<std::int64_t>(floor.y()) + j,
                  static_cast<std::int64_t>(floor.z()) + k);
  };
  const auto between = [](double a, double b, double share) { return a + (b - a) * share; };
  const auto layer = [&](int k) {
    return between(between(at(0, 0, k), at(1, 0, k), s.x()),
                   between(at(0, 1, k), at(1, 1, k), s.x()), s.y());
  };
  return between(layer(0), layer(1), s.z());
}

/// How far a pixel reaches along each axis over a surface, where it is `width` wide across the
/// view: longer the more the view grazes.
Vec3d reach_over(const Vec3d& view, const Vec3d& normal, double width) {
  const double cosine = std::clamp(std::abs(view.dot(normal)), 0.02, 1.0);
  const Vec3d along = view - view.dot(normal) * normal;
  const double length = along.norm();
  Vec3d reach;
  for (int axis = 0; axis < 3; ++axis) {
    const double across = std::sqrt(std::max(0.0, 1 - normal[axis] * normal[axis]));
    const double longer = length > 1e-9 ? std::abs(along[axis]) / length * (1 / cosine - 1) : 0;
    reach[axis] = std::max(1e-4, width * (across + longer));
  }
  return reach;
}

/// How much of the second color is at a place, over a pixel that reaches so far along each axis, in
/// sizes of the pattern.
double share_at(const Material& material, const Vec3d& place, const Vec3d& reach) {
  switch (material.pattern) {
    case SurfacePattern::none:
      return 0;
    case SurfacePattern::checks:
      return 0.5 - 0.5 * wave(place.x(), reach.x()) * wave(place.y(), reach.y()) *
                       wave(place.z(), reach.z());
    case SurfacePattern::stripes:
      return 0.5 - 0.5 * wave(place[static_cast<int>(material.pattern_axis)],
                              reach[static_cast<int>(material.pattern_axis)]);
    case SurfacePattern::noise: {
      // Two octaves, less of each the more of it a pixel sees.
      double sum = 0.5;
      double scale = 1;
      for (const double height : {0.9, 0.45}) {
        const double seen = std::clamp(1.5 - reach.maxCoeff() * scale, 0.0, 1.0);
        if (seen > 0) sum += height * seen * (patches(scale * place) - 0.5);
        scale *= 2.3;
      }
      return std::clamp(sum, 0.0, 1.0);
    }
  }
  return 0;
}

}  // namespace

void lay_patterns(const Surfaces& surfaces, const std::vector<Material>& materials,
                  const Vec3d& eye, float pixel_angle, const Reach& reach, Colors& colors) {
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const Material& material = materials[surfaces.material[i]];
    if (material.pattern == SurfacePattern::none || surfaces.ending[i] != Ending::hit) continue;
    const double size = material.pattern_size;
    // A little within, so that a face between two checks does not flicker.
    const Normal normal = normal_of(surfaces, i);
    const double within = 1e-3 * size + 1e-5 * static_cast<double>(surfaces.t[i]);
    const Vec3d upright(normal.x, normal.y, normal.z);
    const Vec3d from_eye(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
    const Vec3d place = (eye + from_eye - within * upright) / size;
    const double width = static_cast<double>(pixel_angle * reach.meters[i]) / size;
    const Vec3d way = reach.way_x == nullptr
                          ? Vec3d(from_eye.normalized())
                          : Vec3d(reach.way_x[i], reach.way_y[i], reach.way_z[i]);
    const Vec3d extent = reach_over(way, upright, width);
    const auto share = static_cast<float>(share_at(material, place, extent));
    const float whole = colors.alpha[i];
    const auto mix = [&](float& color, int channel) {
      // What a texture made of the first color it makes of the second too.
      const float base = material.base[channel];
      const float textured = base > 0 ? color / base : whole;
      color += share * (textured * material.second[channel] - color);
    };
    mix(colors.red[i], 0);
    mix(colors.green[i], 1);
    mix(colors.blue[i], 2);
  }
}

}  // namespace photonlane
