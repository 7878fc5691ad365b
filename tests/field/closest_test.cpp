// The place of a surface nearest to a place, against places found all over the surface.

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/folds.hpp"
#include "support/lanes.hpp"

namespace photonlane {
namespace {

using namespace field;
using test::scattered;

/// Places of the surface, where lines from places all around meet it.
std::vector<Vec3d> surface_places(const CompiledField& field, std::size_t count, double reach) {
  std::vector<Vec3d> found;
  for (const Vec3d& place : scattered(count, reach, 77)) {
    // Down the gradient by halves until the sign changes, then in halves between.
    const FieldSlope slope = field.slopes({&place, 1}).front();
    if (!(slope.gradient.norm() > 1e-6)) continue;
    const Vec3d way = (slope.value < 0 ? 1 : -1) * slope.gradient.normalized();
    double low = 0;
    double high = 0;
    const bool sign = slope.value < 0;
    for (double at = 0.01; at < 2 * reach; at *= 1.3) {
      if ((field.distance(place + at * way) < 0) != sign) {
        high = at;
        break;
      }
      low = at;
    }
    if (high == 0) continue;
    for (int turn = 0; turn < 60; ++turn) {
      const double middle = 0.5 * (low + high);
      ((field.distance(place + middle * way) < 0) == sign ? low : high) = middle;
    }
    found.push_back(place + low * way);
  }
  return found;
}

TEST(ClosestPlaces, AreNoFartherThanAnyOther) {
  const std::pair<const char*, Field> cases[] = {
      {"thin ellipsoid", ellipsoid({0.19, 0.27, 0.62})},
      {"tapered pyramid", taper(0.735, 0.89, pyramid(0.47, 0.46))},
      {"small ball", place({0.7, -0.4, 0.1}, ellipsoid({0.05, 0.1, 0.07}))},
      {"crumbs", join({place({0.9, 0, 0}, ellipsoid({0.02, 0.02, 0.03})),
                       place({-0.5, 0.7, 0}, ellipsoid({0.03, 0.01, 0.01})),
                       place({0, -0.8, 0.5}, ellipsoid({0.01, 0.02, 0.01}))})},
      {"twisted box", twist(2, box({0.3, 0.5, 1.2}))},
      {"bent bar", bend(0.8, box({1.2, 0.2, 0.2}))},
      {"shell", shell(0.05, ellipsoid({0.7, 0.4, 0.3}))},
      {"carved", carve({box({1, 1, 1}), place({0.3, 0.3, 0.3}, ellipsoid({0.5, 0.3, 0.4}))})},
      {"damped", damp(0.05, torus(0.6, 0.1))},
      {"waves", waves(0.05, 0.4, sphere(0.6))}};
  for (const auto& [name, made] : cases) {
    const CompiledField field(made);
    const std::vector<Vec3d> all =
        surface_places(field, static_cast<std::size_t>(test::effort(20000)), 1.4);
    ASSERT_GT(all.size(), static_cast<std::size_t>(test::effort(50))) << name;
    const std::vector<Vec3d> places =
        scattered(static_cast<std::size_t>(test::little_effort(120)), 2.0, 3);
    const std::vector<ClosestSurface> found = field.closest_surfaces(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      double nearest = 1e300;
      for (const Vec3d& other : all) nearest = std::min(nearest, (other - places[i]).norm());
      EXPECT_LE(found[i].distance, nearest * (1 + 1e-3) + 1e-9) << name << " " << i;
      EXPECT_LE(found[i].least, nearest + 1e-9) << name << " " << i;
      EXPECT_LE(found[i].least, found[i].distance) << name << " " << i;
      EXPECT_GE(found[i].least, 0.95 * found[i].distance) << name << " " << i;
      EXPECT_LT(std::abs(field.distance(found[i].place)), 1e-7) << name << " " << i;
      EXPECT_NEAR((found[i].place - places[i]).norm(), found[i].distance, 1e-9) << name;
    }
  }
}

TEST(ClosestPlaces, FarAwayAndTinyAndNowhere) {
  // An ellipsoid of revolution along its axis: its tip.
  const CompiledField far(ellipsoid({0.2, 0.2, 0.6}));
  for (const double away : {1.0, 100.0, 1e5}) {
    EXPECT_NEAR(far.closest_surface({0, 0, away}).distance, away - 0.6, 1e-6 * away) << away;
    EXPECT_NEAR(far.closest_surface({away, 0, 0}).distance, away - 0.2, 1e-6 * away) << away;
  }
  // Small enough to be missed by directions tried one by one.
  const CompiledField tiny(place({40, 30, 0}, ellipsoid({1e-3, 2e-3, 1e-3})));
  EXPECT_NEAR(tiny.closest_surface({0, 0, 0}).distance, 50, 3e-3);
  const CompiledField nothing(meet({sphere(0.5), place({3, 0, 0}, sphere(0.5))}));
  EXPECT_FALSE(std::isfinite(nothing.closest_surface({1, 0, 0}).distance));
  EXPECT_THROW(nothing.closest_point({1, 0, 0}), Error);
  EXPECT_THROW(far.closest_point({std::nan(""), 0, 0}), Error);
}

TEST(Sponge, IsSolidWhereItIsSolid) {
  // Within the solid the value is how far the nearest hole or side is: all cubes that are taken
  // out, one by one, and the outer sides.
  struct Cube {
    Vec3d middle;
    double half;
  };
  for (const int times : {1, 2, 3}) {
    std::vector<Cube> left{{{0, 0, 0}, 0.5}};
    std::vector<Cube> taken;
    for (int i = 0; i < times; ++i) {
      std::vector<Cube> next;
      for (const Cube& cube : left) {
        for (int part = 0; part < 27; ++part) {
          const Vec3d at(part % 3 - 1, part / 3 % 3 - 1, part / 9 - 1);
          const bool out = (at.x() == 0) + (at.y() == 0) + (at.z() == 0) >= 2;
          (out ? taken : next).push_back({cube.middle + 2 * cube.half / 3 * at, cube.half / 3});
        }
      }
      left = std::move(next);
    }
    const CompiledField field(sponge(1, times));
    const std::vector<Vec3d> places =
        scattered(static_cast<std::size_t>(test::effort(2000)), 0.52, 8);
    const std::vector<double> values = field.distances(places);
    int inside = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
      double nearest = 0.5 - places[i].cwiseAbs().maxCoeff();
      for (const Cube& cube : taken) {
        const Vec3d past = ((places[i] - cube.middle).cwiseAbs().array() - cube.half).max(0.0);
        nearest = std::min(nearest, past.norm());
      }
      if (nearest <= 0) {
        EXPECT_GE(values[i], -1e-12);
        continue;
      }
      ++inside;
      EXPECT_NEAR(-values[i], nearest, 1e-12) << times;
    }
    EXPECT_GT(inside, 100);
  }
  // On the sides that its parts share.
  const CompiledField two(sponge(1, 2));
  EXPECT_LT(two.distance({-0.5 + 1.0 / 9, -0.48, -0.48}), -0.019);
  EXPECT_LT(two.distance({-0.5 + 2.0 / 9, -0.47, -0.46}), -0.02);
}

TEST(Sponge, SeenFromWithinHasNoWallsThatAreNotThere) {
  // Carved out of a block: who stands in the carved space looks along it as far as it is open.
  const CompiledField carved(carve({box({4, 4, 4}), sponge(2, 2)}));
  const Vec3d from(-0.97, -0.96, -0.96);
  Budget budget;
  LaneBatch<double> lanes;
  lanes.far_limit = 10;
  lanes.size = 128;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Vec3d way =
        Vec3d(1, 0.03 * random_uniform({.pixel = i}, 0), 0.03 * random_uniform({.pixel = i}, 1))
            .normalized();
    test::aim(lanes, i, from, way);
  }
  const HitBatch<double> hits = carved.nearest_hit(lanes, budget);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    ASSERT_EQ(hits.ending[i], Ending::hit);
    // In small steps by the solid's own cubes: at the end of the passage.
    EXPECT_NEAR(hits.t[i], 1.97 / lanes.direction_x[i], 1e-6) << i;
  }
}

}  // namespace
}  // namespace photonlane
