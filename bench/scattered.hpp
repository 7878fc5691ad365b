#pragma once

#include <cmath>
#include <vector>

#include "photonlane/photonlane.hpp"

namespace photonlane::bench {

/// `count` balls and boxes scattered over a court: one that is as large for all of them, which are
/// smaller the more they are, or one that is larger the more they are.
inline Field scattered_shapes(int count, bool grows) {
  std::vector<Field> parts{field::plane({0, 0, 1}, 0)};
  const double size = grows ? 0.55 : 0.55 * std::cbrt(30.0 / count);
  const double side = grows ? 10 * std::sqrt(count / 30.0) : 10;
  for (int i = 0; i < count; ++i) {
    const auto chance = [&](std::uint32_t which) {
      return static_cast<double>(
          random_uniform({.pixel = static_cast<std::uint32_t>(i), .sample = 7}, which));
    };
    const Vec3d place(side * (chance(0) - 0.5), side * (chance(1) - 0.5), 0.2 + 2.4 * chance(2));
    parts.push_back(field::place(place, i % 2 == 0
                                            ? field::sphere(size)
                                            : field::box(Vec3d::Constant(1.5 * size), 0.1 * size)));
  }
  return field::join(std::move(parts));
}

}  // namespace photonlane::bench
