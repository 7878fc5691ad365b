#pragma once

#include <vector>

#include "photonlane/photonlane.hpp"

namespace photonlane::test {

/// Numbers by chance, in order.
class Chance {
 public:
  explicit Chance(std::uint64_t seed) : seed_(seed) {}
  double between(double low, double high) {
    return low + (high - low) * random_uniform({.seed = 11, .pixel = seed_}, next_++);
  }
  int below(int count) {
    return static_cast<int>(
        random_below({.seed = 11, .pixel = seed_}, next_++, static_cast<std::uint32_t>(count)));
  }
  Vec3d point(double reach) {
    return {between(-reach, reach), between(-reach, reach), between(-reach, reach)};
  }
  Vec3d size(double low, double high) {
    return {between(low, high), between(low, high), between(low, high)};
  }

 private:
  std::uint64_t seed_;
  std::uint32_t next_ = 0;
};

inline Field some_shape(Chance& chance) {
  using namespace field;
  switch (chance.below(8)) {
    case 0:
      return sphere(chance.between(0.2, 0.6));
    case 1:
      return box(chance.size(0.3, 0.9), chance.between(0, 0.1));
    case 2:
      return cylinder(chance.between(0.2, 0.5), chance.between(0.4, 1), 0.05);
    case 3:
      return capsule(chance.point(0.4), chance.point(0.4) + Vec3d(0, 0, 1), 0.15);
    case 4:
      return torus(chance.between(0.3, 0.5), chance.between(0.05, 0.2));
    case 5:
      return disc(chance.between(0.2, 0.5), chance.between(0.02, 0.1));
    case 6:
      return extrude(chance.between(0.2, 0.8), rectangle(0.7, chance.between(0.2, 0.5), 0.05),
                     0.03);
    default:
      return revolve(0.4, rectangle(chance.between(0.1, 0.3), 0.5, 0.02));
  }
}

inline Field some_field(Chance& chance, int depth) {
  using namespace field;
  if (depth == 0) return some_shape(chance);
  const auto part = [&] { return some_field(chance, depth - 1); };
  const auto profile = [&] {
    return chance.below(2) == 0 ? Profile::polynomial : Profile::circular;
  };
  const auto radius = [&] { return chance.below(3) == 0 ? 0.0 : chance.between(0.02, 0.3); };
  const auto moved = [&](const Field& what) {
    return place(chance.point(0.5), what, chance.point(2), chance.between(0.6, 1.4));
  };
  switch (chance.below(12)) {
    case 0:
    case 1: {
      std::vector<Field> parts;
      for (int i = 2 + chance.below(3); i > 0; --i) parts.push_back(moved(part()));
      return join(radius(), std::move(parts), profile());
    }
    case 2:
      return meet(radius(), {part(), moved(part())}, profile());
    case 3:
      return carve(radius(), {part(), moved(part()), moved(part())}, profile());
    case 4:
      return offset(chance.between(-0.05, 0.2), part());
    case 5:
      return shell(chance.between(0.02, 0.1), part());
    case 6:
      return elongate(chance.size(0, 0.4), part());
    case 7:
      return waves(chance.between(0, 0.03), chance.between(0.3, 0.8), part());
    case 8:
      return mirror(static_cast<SpaceAxis>(chance.below(3)), moved(part()));
    case 9:
      return fold(chance.point(1) + Vec3d(0, 0, 1.5), moved(part()));
    case 10:
      // Copies of what reaches out of its cell to the next.
      return repeat({1.8, 1.6, 0}, {static_cast<double>(chance.below(4)), 0, 0},
                    place(chance.point(0.2), some_shape(chance), chance.point(2), 0.6));
    default:
      return around(3 + chance.below(5), place({0.9, 0.1, 0}, some_shape(chance), chance.point(2)));
  }
}

/// Some trees of every kind over a floor, far enough apart for parts to matter here and not there;
/// all of it at a place and of a size.
inline Field garden(std::uint64_t seed, const Vec3d& at = {0, 0, 0}, double scale = 1) {
  Chance chance(seed);
  std::vector<Field> parts{field::plane({0, 0, 1}, -1.5)};
  for (int i = 0; i < 12; ++i) {
    const Vec3d place(chance.between(-6, 6), chance.between(-6, 6), chance.between(-1, 2));
    parts.push_back(field::place(place, some_field(chance, 1 + i % 3)));
  }
  return field::place(at, field::join(std::move(parts)), {0, 0, 0}, scale);
}

}  // namespace photonlane::test
