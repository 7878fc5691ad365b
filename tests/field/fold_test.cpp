#include "photonlane/field/fold.hpp"

#include <gmock/gmock.h>

#include <cmath>
#include <limits>
#include <set>

#include "photonlane/base/random.hpp"
#include "photonlane/photonlane.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace field;
using ::testing::HasSubstr;

std::vector<Vec3d> scattered(std::size_t count, double reach, std::uint64_t seed = 5) {
  std::vector<Vec3d> places;
  for (std::size_t i = 0; i < count; ++i) {
    Vec3d place;
    for (int axis = 0; axis < 3; ++axis) {
      place[axis] =
          reach *
          (2 * random_uniform({.seed = seed, .pixel = i}, static_cast<std::uint32_t>(axis)) - 1);
    }
    places.push_back(place);
  }
  return places;
}

double box_distance(const Vec3d& from, const Vec3d& middle, double half) {
  return ((from - middle).cwiseAbs() - Vec3d::Constant(half)).cwiseMax(0.0).norm();
}

/// The cubes a sponge of size 2 is made of, one by one.
void sponge_cubes(const Vec3d& middle, double half, int times, std::vector<Vec3d>& cubes) {
  if (times == 0) {
    cubes.push_back(middle);
    return;
  }
  for (int x = -1; x <= 1; ++x) {
    for (int y = -1; y <= 1; ++y) {
      for (int z = -1; z <= 1; ++z) {
        if ((x == 0) + (y == 0) + (z == 0) >= 2) continue;
        sponge_cubes(middle + 2 * half / 3 * Vec3d(x, y, z), half / 3, times - 1, cubes);
      }
    }
  }
}

TEST(Sponge, IsItsCubesAtEveryPlaceOutside) {
  for (const int times : {0, 1, 2}) {
    std::vector<Vec3d> cubes;
    sponge_cubes({0, 0, 0}, 1, times, cubes);
    ASSERT_EQ(cubes.size(), std::pow(20.0, times));
    const double half = std::pow(3.0, -times);
    const CompiledField made(sponge(2, times));
    const std::vector<Vec3d> places = scattered(1500, 1.4);
    const std::vector<double> values = made.distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      double nearest = 10;
      for (const Vec3d& cube : cubes) {
        nearest = std::min(nearest, box_distance(places[i], cube, half));
      }
      ASSERT_NEAR(std::max(values[i], 0.0), nearest, 1e-12) << times << " at " << places[i];
    }
  }
}

TEST(Sponge, IsTheStepsThatItsNameStandsFor) {
  const double third = 1.0 / 3;
  const Field written =
      iterate(4,
              {steps::mirror(SpaceAxis::x), steps::mirror(SpaceAxis::y),
               steps::mirror(SpaceAxis::z), steps::plane({1, -1, 0}), steps::plane({1, 0, -1}),
               steps::plane({0, 1, -1}), steps::plane({0, 0, 1}, third),
               steps::place({2 * third, 2 * third, 2 * third}, {0, 0, 0}, third)},
              box({2, 2, 2}));
  const std::vector<Vec3d> places = scattered(1000, 1.4);
  const auto a = CompiledField(sponge(2, 4)).slopes(places);
  const auto b = CompiledField(written).slopes(places);
  for (std::size_t i = 0; i < places.size(); ++i) {
    ASSERT_NEAR(a[i].value, b[i].value, 1e-12);
    ASSERT_LT((a[i].gradient - b[i].gradient).norm(), 1e-9);
  }
}

TEST(Sponge, LosesSevenTwentySeventhsEachTime) {
  // Cells' middles decide cells where the lattice is as fine as the holes.
  for (const int times : {1, 2, 3}) {
    const int side = static_cast<int>(std::lround(std::pow(3.0, times)));
    std::vector<Vec3d> middles;
    for (int i = 0; i < side * side * side; ++i) {
      const Vec3d cell(i % side, i / side % side, i / side / side);
      middles.push_back((2 * cell + Vec3d::Ones()) / side - Vec3d::Ones());
    }
    const std::vector<double> values = CompiledField(sponge(2, times)).distances(middles);
    EXPECT_EQ(std::count_if(values.begin(), values.end(), [](double v) { return v < 0; }),
              std::lround(std::pow(20.0, times)));
  }
}

TEST(Sponge, WithBallsIsTheCubeLessBallsInAllOfItsParts) {
  const double ball = 1.3;
  const CompiledField made(ball_sponge(2, 3, ball));
  const std::vector<Vec3d> places = scattered(2000, 1.0);
  const std::vector<double> values = made.distances(places);
  for (std::size_t i = 0; i < places.size(); ++i) {
    double value = (places[i].cwiseAbs() - Vec3d::Ones()).maxCoeff();
    for (int level = 0; level < 3; ++level) {
      const double half = std::pow(3.0, -level);
      Vec3d middle;
      for (int axis = 0; axis < 3; ++axis) {
        middle[axis] = (std::floor((places[i][axis] + 1) / (2 * half)) + 0.5) * 2 * half - 1;
      }
      value = std::max(value, half * ball - (places[i] - middle).norm());
    }
    ASSERT_NEAR(values[i], value, 1e-12) << places[i];
  }
}

/// From a place to a triangle, by its sides and its plane (Ericson, "Real-Time Collision
/// Detection", 2005, 5.1.5, by way of the nearest of all candidates).
double triangle_distance(const Vec3d& from, const Vec3d (&corner)[3]) {
  double nearest = std::numeric_limits<double>::infinity();
  for (int i = 0; i < 3; ++i) {
    const Vec3d way = corner[(i + 1) % 3] - corner[i];
    const double share = std::clamp((from - corner[i]).dot(way) / way.squaredNorm(), 0.0, 1.0);
    nearest = std::min(nearest, (from - corner[i] - share * way).norm());
  }
  const Vec3d normal = (corner[1] - corner[0]).cross(corner[2] - corner[0]).normalized();
  bool within = true;
  for (int i = 0; i < 3; ++i) {
    const Vec3d way = corner[(i + 1) % 3] - corner[i];
    within = within && way.cross(from - corner[i]).dot(normal) >= 0;
  }
  return within ? std::min(nearest, std::abs(normal.dot(from - corner[0]))) : nearest;
}

std::vector<Vec3d> corners_of(GasketForm form, double radius) {
  if (form == GasketForm::octahedron) {
    std::vector<Vec3d> corners;
    for (int axis = 0; axis < 3; ++axis) {
      for (const double side : {1.0, -1.0}) {
        Vec3d corner(0, 0, 0);
        corner[axis] = side * radius;
        corners.push_back(corner);
      }
    }
    return corners;
  }
  const double a = radius / std::sqrt(3.0);
  return {{a, a, a}, {a, -a, -a}, {-a, a, -a}, {-a, -a, a}};
}

/// How far outside a solid of all flat triangles of three corners that are neighbors.
double solid_distance(const Vec3d& from, GasketForm form, double radius) {
  const std::vector<Vec3d> corners = corners_of(form, radius);
  double nearest = std::numeric_limits<double>::infinity();
  bool inside = true;
  for (std::size_t i = 0; i < corners.size(); ++i) {
    for (std::size_t j = i + 1; j < corners.size(); ++j) {
      for (std::size_t k = j + 1; k < corners.size(); ++k) {
        // Opposite corners of an octahedron are no neighbors.
        const Vec3d sum = corners[i] + corners[j] + corners[k];
        if (form == GasketForm::octahedron && sum.norm() < 1.5 * radius) continue;
        const Vec3d triangle[3] = {corners[i], corners[j], corners[k]};
        nearest = std::min(nearest, triangle_distance(from, triangle));
        Vec3d normal = (corners[j] - corners[i]).cross(corners[k] - corners[i]);
        if (normal.dot(sum) < 0) normal = -normal;
        inside = inside && normal.dot(from - corners[i]) < 0;
      }
    }
  }
  return inside ? -nearest : nearest;
}

TEST(Facets, AreAtTheDistanceOfTheirTriangles) {
  for (const GasketForm form : {GasketForm::tetrahedron, GasketForm::octahedron}) {
    const CompiledField made(form == GasketForm::octahedron ? octahedron(0.8) : tetrahedron(0.8));
    const std::vector<Vec3d> places = scattered(3000, 1.2);
    const std::vector<double> values = made.distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      // Wound the other way, triangles see their inside differently.
      Vec3d mirrored = places[i];
      const double expected = solid_distance(mirrored, form, 0.8);
      ASSERT_NEAR(values[i], expected, 1e-12) << name_of(form) << " at " << places[i];
    }
  }
}

TEST(Gasket, IsSmallerOnesAtItsCorners) {
  for (const GasketForm form : {GasketForm::tetrahedron, GasketForm::octahedron}) {
    std::vector<Vec3d> middles{{0, 0, 0}};
    double radius = 0.9;
    for (int i = 0; i < 3; ++i) {
      radius /= 2;
      std::vector<Vec3d> next;
      for (const Vec3d& middle : middles) {
        for (const Vec3d& corner : corners_of(form, radius)) next.push_back(middle + corner);
      }
      middles = std::move(next);
    }
    const CompiledField one(form == GasketForm::octahedron ? octahedron(radius)
                                                           : tetrahedron(radius));
    const std::vector<Vec3d> places = scattered(300, 1.1);
    const std::vector<double> values = CompiledField(gasket(form, 0.9, 3)).distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      std::vector<Vec3d> seen;
      for (const Vec3d& middle : middles) seen.push_back(places[i] - middle);
      const std::vector<double> all = one.distances(seen);
      const double nearest = *std::min_element(all.begin(), all.end());
      ASSERT_NEAR(std::max(values[i], 0.0), std::max(nearest, 0.0), 1e-12)
          << name_of(form) << " at " << places[i];
    }
  }
}

TEST(Iterate, IsItsStepsWrittenOutAsOperations) {
  const Vec3d normal(1, -0.5, 0.3);
  const Vec3d at(0.35, 0.1, 0.5);
  const Vec3d turn(0.2, 0.5, -0.3);
  const Field base = torus(0.4, 0.12);
  const auto written = [&](const Field& part) {
    return mirror(SpaceAxis::x,
                  mirror(SpaceAxis::y, field::fold(normal, place(at, part, turn, 0.7))));
  };
  const std::vector<FoldStep> all{steps::mirror(SpaceAxis::x), steps::mirror(SpaceAxis::y),
                                  steps::plane(normal), steps::place(at, turn, 0.7)};
  const std::vector<Vec3d> places = scattered(500, 1.5);
  for (const Field& part : {base, box({0.5, 0.4, 0.3}, 0.05), sphere(0.4)}) {
    const CompiledField expected(written(written(written(part))));
    for (const FoldDerivative derivative : {FoldDerivative::scalar, FoldDerivative::jacobian}) {
      const CompiledField made(iterate(3, all, part, FoldKeep::last, derivative));
      const auto values = made.slopes(places);
      const auto wanted = expected.slopes(places);
      for (std::size_t i = 0; i < places.size(); ++i) {
        ASSERT_NEAR(values[i].value, wanted[i].value, 1e-11) << places[i];
        ASSERT_LT((values[i].gradient - wanted[i].gradient).norm(), 1e-9) << places[i];
      }
    }
  }
}

TEST(Iterate, KeepsWhatStandsAfterEveryTime) {
  const std::vector<FoldStep> all{steps::mirror(SpaceAxis::x),
                                  steps::place({0, 0, 1}, {0, 0.6, 0}, 0.6)};
  for (const Field& part :
       {capsule({0, 0, 0}, {0, 0, 1}, 0.1), box({0.3, 0.3, 0.5}), sphere(0.3), torus(0.3, 0.1)}) {
    std::vector<Field> levels;
    for (int times = 0; times <= 4; ++times) levels.push_back(iterate(times, all, part));
    const CompiledField expected(join(levels));
    const CompiledField made(iterate(4, all, part, FoldKeep::all));
    for (const Vec3d& place : scattered(300, 2)) {
      ASSERT_NEAR(made.distance(place), expected.distance(place), 1e-12) << name_of(part.kind());
      ASSERT_LE(made.field().bounds().low.z(), expected.field().bounds().low.z());
    }
  }
}

TEST(Iterate, KnowsNeighborsThatHaveAShorterForm) {
  // A plane moved by nothing that can be seen has no shorter form.
  const double no = 1e-13;
  const auto chain = [&](double height) {
    return std::vector<FoldStep>{steps::mirror(SpaceAxis::x),
                                 steps::mirror(SpaceAxis::y),
                                 steps::mirror(SpaceAxis::z),
                                 steps::plane({1, -1, 0}, height),
                                 steps::plane({1, 0, -1}, height),
                                 steps::plane({0, 1, -1}, height),
                                 steps::plane({0, 0, 1}, 1.0 / 3),
                                 steps::plane({-1, 1, 0}, height),
                                 steps::place({0.3, 0.6, 0.4}, {0, 0, 0}, 0.5)};
  };
  const CompiledField shorter(iterate(3, chain(0), box({1, 1, 1})));
  const CompiledField longer(iterate(3, chain(no), box({1, 1, 1})));
  const std::vector<Vec3d> places = scattered(500, 1.5);
  const auto a = shorter.distances(places);
  const auto b = longer.distances(places);
  for (std::size_t i = 0; i < places.size(); ++i) ASSERT_NEAR(a[i], b[i], 1e-11);
}

TEST(Iterate, FoldsAWedgeAsCopiesAroundAnAxisThatAreMirrored) {
  const Field part = place({0.8, 0.1, 0}, sphere(0.2));
  const CompiledField made(iterate(1, {steps::wedge(5)}, part));
  const CompiledField expected(around(5, mirror(SpaceAxis::y, part)));
  for (const Vec3d& place : scattered(500, 1.5)) {
    ASSERT_NEAR(made.distance(place), expected.distance(place), 1e-6) << place;
  }
}

/// One by one, in doubles: the box and the ball folded, scaled, and the start added.
double box_ball_estimate(const Vec3d& start, int times, double scale, double base) {
  Vec3d z = start;
  double stretch = 1;
  for (int i = 0; i < times && z.norm() < 1e6; ++i) {
    for (int axis = 0; axis < 3; ++axis) {
      z[axis] = 2 * std::clamp(z[axis], -1.0, 1.0) - z[axis];
    }
    const double r2 = z.squaredNorm();
    double factor = 1;
    if (r2 < 0.25) {
      factor = 4;
    } else if (r2 < 1) {
      factor = 1 / r2;
    }
    z = scale * factor * z + start;
    stretch = std::abs(scale) * factor * stretch + 1;
  }
  return (z.norm() - base) / stretch;
}

TEST(Iterate, OfBoxAndBallIsWhatOneStepAfterAnotherGives) {
  for (const double scale : {2.0, -1.5}) {
    const Field made = iterate(8,
                               {steps::box(), steps::ball(),
                                steps::place({0, 0, 0}, {0, 0, 0}, 1 / scale), steps::start()},
                               sphere(0.2));
    EXPECT_TRUE(made.estimates());
    const double side = scale > 0 ? 6 : 2;
    EXPECT_NEAR(made.bounds().high.x(), std::sqrt(3.0) * side, 1e-9);
    const CompiledField compiled(made);
    std::size_t near = 0;
    for (const Vec3d& place : scattered(800, side)) {
      const double expected = box_ball_estimate(place, 8, scale, 0.2);
      // What has left is not taken farther, and what is outside of all of it is at least so far.
      const double beyond = place.norm() - made.bounds().high.x();
      if (expected > 0.5 || beyond > 0) continue;
      ++near;
      ASSERT_NEAR(compiled.distance(place), expected, 1e-9 + 1e-6 * std::abs(expected)) << place;
    }
    EXPECT_GT(near, 200u);
  }
}

/// By angles: z -> z^power + start.
double bulb_estimate(const Vec3d& start, int power, int times, double limit) {
  Vec3d z = start;
  double stretch = 1;
  double r = z.norm();
  for (int i = 0; i < times && r <= limit; ++i) {
    const double theta = power * std::acos(z.z() / r);
    const double phi = power * std::atan2(z.y(), z.x());
    stretch = power * std::pow(r, power - 1) * stretch + 1;
    z = std::pow(r, power) * Vec3d(std::sin(theta) * std::cos(phi), std::sin(theta) * std::sin(phi),
                                   std::cos(theta)) +
        start;
    r = z.norm();
  }
  // Inside it is as good as nothing, so that it is a bound.
  return 0.5 * r * std::log(r) / (r < 1 ? 20 * std::max(stretch, 1.0) : stretch);
}

TEST(Bulb, IsWhatPowersByAnglesGive) {
  for (const int power : {2, 3, 5, 8}) {
    const CompiledField made(bulb(power, 4));
    std::size_t inside = 0;
    for (const Vec3d& place : scattered(600, 1.1)) {
      const double expected = bulb_estimate(place, power, 4, 8);
      if (place.norm() > made.field().bounds().high.x()) continue;
      inside += expected < 0;
      ASSERT_NEAR(made.distance(place), expected, 1e-9 + 1e-6 * std::abs(expected))
          << power << " at " << place;
    }
    EXPECT_GT(inside, 20u);
  }
}

TEST(Julia, OfZeroIsABallWithItsEstimateInClosedForm) {
  const CompiledField made(julia({0, 0, 0, 0}, 5));
  for (const double r : {0.3, 0.9, 0.99, 1.01, 1.2}) {
    const Vec3d place = r * Vec3d(0.6, -0.48, 0.64);
    if (r < 1) {
      EXPECT_LT(made.distance(place), 0);
    } else {
      EXPECT_NEAR(made.distance(place),
                  std::max(0.5 * r * std::log(r), r - made.field().bounds().high.x()), 1e-9);
    }
    EXPECT_LT((made.gradient(place) - place / r).norm(), 1e-9);
  }
}

TEST(Julia, IsWhatQuaternionsMultiplyTo) {
  const std::array<double, 4> c{-0.2, 0.6, 0.2, 0.1};
  const CompiledField made(julia(c, 6, 0.15));
  for (const Vec3d& place : scattered(500, 1.2)) {
    // Hamilton's product, in full.
    Eigen::Quaterniond q(place.x(), place.y(), place.z(), 0.15);
    const Eigen::Quaterniond added(c[0], c[1], c[2], c[3]);
    double stretch = 1;
    for (int i = 0; i < 6 && q.norm() <= 8; ++i) {
      stretch *= 2 * q.norm();
      q = q * q;
      q.coeffs() += added.coeffs();
    }
    const double expected = 0.5 * q.norm() * std::log(q.norm()) /
                            (q.norm() < 1 ? 20 * std::max(stretch, 1.0) : stretch);
    if (place.norm() > 1.3) continue;
    ASSERT_NEAR(made.distance(place), expected, 1e-9 + 1e-6 * std::abs(expected)) << place;
  }
}

Field box_ball(FoldDerivative derivative = FoldDerivative::scalar) {
  return iterate(
      10, {steps::box(), steps::ball(), steps::place({0, 0, 0}, {0, 0, 0}, 0.5), steps::start()},
      sphere(1), FoldKeep::last, derivative);
}

TEST(Estimates, AreTrustedAsFarAsTryingFinds) {
  for (const FoldDerivative derivative : {FoldDerivative::scalar, FoldDerivative::jacobian}) {
    for (const Field& field :
         {bulb(8, 10, derivative), bulb(3, 10, derivative),
          julia({-0.2, 0.6, 0.2, 0.1}, 10, 0, derivative), box_ball(derivative)}) {
      ASSERT_TRUE(field.estimates());
      EXPECT_EQ(field.stretch(), 1);
      const Field tried = field::measured(field);
      EXPECT_GE(tried.stretch(), 1);
      EXPECT_LT(tried.stretch(), 4) << name_of(field.kind());
      const auto faults = find_stretch_faults(tried, 1024);
      EXPECT_TRUE(faults.empty()) << name_of(field.kind()) << " " << name_of(derivative) << " says "
                                  << tried.stretch() << ", does " << faults.front().found;
      ASSERT_EQ(find_estimates(tried).size(), 1u);
      EXPECT_EQ(find_estimates(tried).front().safety, tried.stretch());
    }
  }
  EXPECT_FALSE(sponge(1, 3).estimates());
  const Field exact = sponge(1, 3);
  EXPECT_EQ(field::measured(exact).identity(), exact.identity());
}

TEST(Estimates, ByNineNumbersAreNearerToTheDistanceThanByOne) {
  // Scaled by other factors along each axis, which one number can only take the largest of.
  const std::vector<FoldStep> all{steps::stretch({2, 1, 1}), steps::mirror(SpaceAxis::x)};
  const CompiledField one(iterate(2, all, sphere(1)));
  const CompiledField nine(iterate(2, all, sphere(1), FoldKeep::last, FoldDerivative::jacobian));
  // An ellipsoid of radii 1/4, 1, 1: above its pole no stretch matters.
  const Vec3d above(0, 0, 1.2);
  EXPECT_NEAR(one.distance(above), 0.2 / 4, 1e-12);
  EXPECT_NEAR(nine.distance(above), 0.2 / 4, 1e-12);
  EXPECT_NEAR(nine.distance({0.5, 0, 0}), (2.0 - 1) / 4, 1e-12);
}

TEST(ClosestPoints, OfFoldsAreTheNearestOfAllParts) {
  std::vector<Vec3d> cubes;
  sponge_cubes({0, 0, 0}, 1, 2, cubes);
  const CompiledField made(sponge(2, 2));
  std::vector<Vec3d> places;
  for (const Vec3d& place : scattered(300, 1.3)) {
    if (made.distance(place) > 1e-3) places.push_back(place);
  }
  ASSERT_GT(places.size(), 100u);
  const std::vector<Vec3d> found = made.closest_points(places);
  for (std::size_t i = 0; i < places.size(); ++i) {
    double nearest = 10;
    for (const Vec3d& cube : cubes) {
      nearest = std::min(nearest, box_distance(places[i], cube, 1.0 / 9));
    }
    ASSERT_NEAR((found[i] - places[i]).norm(), nearest, 1e-9) << places[i];
    ASSERT_NEAR(made.distance(found[i]), 0, 1e-9);
  }
}

TEST(ClosestPoints, OfATreeAreTheNearestOfAllItsTwigs) {
  // A chain of mirrors, turns and scales; every twig by itself is a second way.
  const Vec3d at(0.3, 0, 0.5);
  const Vec3d turn(0, 0.5, 0.3);
  const Field twig = capsule({0, 0, -0.4}, {0, 0, 0.4}, 0.12);
  const CompiledField made(
      iterate(3, {steps::mirror(SpaceAxis::x), steps::place(at, turn, 0.6)}, twig));
  const std::vector<Vec3d> places = scattered(100, 1.5);
  const std::vector<Vec3d> found = made.closest_points(places);
  for (std::size_t i = 0; i < places.size(); ++i) {
    // The nearest place of the surface is one the surface has, and straight down from there.
    const double value = made.distance(places[i]);
    if (value < 1e-3) continue;
    ASSERT_NEAR(made.distance(found[i]), 0, 1e-8);
    ASSERT_NEAR((found[i] - places[i]).norm(), value, 1e-8) << places[i];
  }
}

/// Where a place goes in a chain of mirrors, a turn and a scale, and back the way it came.
struct Unfolding {
  Vec3d at{0.4, 0.1, 0.3};
  double angle = 0.5;
  double scale = 0.55;
  int times = 4;

  Mat3d turn() const {
    Mat3d matrix = Mat3d::Identity();
    matrix(0, 0) = matrix(2, 2) = std::cos(angle);
    matrix(0, 2) = std::sin(angle);
    matrix(2, 0) = -std::sin(angle);
    return matrix;
  }
  /// The nearest place of the box that stands where the chain leads to.
  Vec3d nearest(Vec3d place, const Vec3d& half) const {
    std::vector<std::array<bool, 2>> mirrored;
    for (int i = 0; i < times; ++i) {
      mirrored.push_back({place.x() < 0, place.y() < 0});
      place.x() = std::abs(place.x());
      place.y() = std::abs(place.y());
      place = turn().transpose() * (place - at) / scale;
    }
    Vec3d found = place.cwiseMax(-half).cwiseMin(half);
    for (int i = times; i-- > 0;) {
      found = at + scale * (turn() * found);
      if (mirrored[static_cast<std::size_t>(i)][0]) found.x() = -found.x();
      if (mirrored[static_cast<std::size_t>(i)][1]) found.y() = -found.y();
    }
    return found;
  }
};

TEST(ClosestPoints, AreThoseOfTheBaseUnfolded) {
  const Unfolding chain;
  const Field made = iterate(chain.times,
                             {steps::mirror(SpaceAxis::x), steps::mirror(SpaceAxis::y),
                              steps::place(chain.at, {0, chain.angle, 0}, chain.scale)},
                             box({0.6, 0.5, 0.8}));
  const CompiledField compiled(made);
  std::size_t compared = 0;
  for (const Vec3d& place : scattered(200, 1.2)) {
    const double value = compiled.distance(place);
    if (value < 1e-3) continue;
    const Vec3d expected = chain.nearest(place, {0.3, 0.25, 0.4});
    ASSERT_NEAR((expected - place).norm(), value, 1e-10) << place;
    // Where the base reaches through a mirror, what is behind it is not there.
    if (std::abs(compiled.distance(expected)) > 1e-9) continue;
    ++compared;
    ASSERT_LT((compiled.closest_point(place) - expected).norm(), 1e-7) << place;
  }
  EXPECT_GT(compared, 50u);
}

TEST(Tint, SaysHowNearWhenAndOnWhichSides) {
  const auto share = [](const Field& field, const Vec3d& place) {
    return CompiledField(field).material(place);
  };
  const Field halves = iterate(1, {steps::mirror(SpaceAxis::x)}, sphere(1));
  const Field by_fold = halves.tinted({TintBy::fold, {4, 5, 6}});
  EXPECT_EQ(share(by_fold, {0.9, 0, 0}).material, 4);
  EXPECT_NEAR(share(by_fold, {0.9, 0, 0}).share, 0, 1e-12);
  // The first fold is worth half of the row: its middle, 5.
  const SurfaceMaterial other = share(by_fold, {-0.9, 0, 0});
  EXPECT_EQ(other.share < 0.5 ? other.material : other.other, 5);

  // Steps of a ball's quaternions go to the length squared each time.
  const Field ball = julia({0, 0, 0, 0}, 3).tinted({TintBy::trap, {7, 8}});
  const double reach = ball.bounds().high.x();
  EXPECT_NEAR(share(ball, {0.9, 0, 0}).share, std::pow(0.9, 8) / reach, 1e-9);
  const Field deep = julia({0, 0, 0, 0}, 3).tinted({TintBy::depth, {7, 8}});
  EXPECT_NEAR(share(deep, {0.9, 0, 0}).share, 1, 1e-12);
  EXPECT_NEAR(share(deep, {1.1, 0, 0}).share, 1.0 / 3, 1e-12);
  EXPECT_EQ(share(deep, {1.1, 0, 0}).other, 8);

  EXPECT_THROW(sphere(1).tinted({TintBy::trap, {0, 1}}), Error);
  EXPECT_THROW(bulb().tinted({TintBy::trap, {0}}), Error);
}

Scene shown(const Field& field) {
  Scene scene;
  scene.wall({.base = {0.7f, 0.5f, 0.3f}});
  scene.wall({.base = {0.2f, 0.5f, 0.7f}});
  scene.room().add(made_of(0, field));
  return scene;
}

TEST(Folds, GiveTheSameBytesForEveryVectorWidthAndThreadCount) {
  const Camera camera = Camera::look_at({0.6, -3.4, 1.5}, {0, 0, 0}, degrees(45));
  const Field tinted = bulb(8, 8).tinted({TintBy::trap, {0, 1}});
  for (const Field& field : {join({place({-0.8, 0, 0}, sponge(1, 3)), place({0.7, 0, 0}, tinted)}),
                             join({place({-0.8, 0, 0}, gasket(GasketForm::tetrahedron, 0.9, 5)),
                                   place({0.9, 0, 0}, julia({-0.2, 0.6, 0.2, 0}))}),
                             place({0, 0, 0}, box_ball(), {0, 0, 0}, 0.2)}) {
    const World world = compile(shown(field));
    for (const NumberType number : {NumberType::float32, NumberType::float64}) {
      Budget budget{.frame = {37, 25, 1}, .number = number};
      budget.field.detail = 1;
      std::optional<std::uint64_t> expected;
      test::for_each_target([&](const char* target) {
        for (const int threads : {1, 2}) {
          const Frame frame = render(world, camera, budget,
                                     test::with_layers({Layer::color, Layer::depth}, threads));
          const std::uint64_t hash =
              test::hash_of(frame, Layer::color) ^ test::hash_of(frame, Layer::depth);
          if (!expected) expected = hash;
          EXPECT_EQ(hash, *expected) << target;
        }
      });
    }
  }
}

TEST(Folds, LeftOutBelowAPixelStayWithinIt) {
  const World world = compile(shown(sponge(2, 8)));
  const Camera camera = Camera::look_at({2.6, -5.2, 3.1}, {0, 0, 0}, degrees(40));
  Budget budget{.frame = {120, 90, 1}};
  budget.number = NumberType::float64;
  budget.field.tolerance = 1e-6;
  budget.field.growth = 0;
  const auto frame = [&](double detail) {
    budget.field.detail = detail;
    return render(world, camera, budget, test::with_layers({Layer::depth}));
  };
  const Frame full = frame(0);
  const Frame cut = frame(1);
  EXPECT_LT(cut.tally.steps, full.tally.steps);
  const double pixel = 2 * std::tan(degrees(20)) / 120;
  std::size_t both = 0;
  std::size_t far = 0;
  for (int y = 0; y < 90; ++y) {
    for (int x = 0; x < 120; ++x) {
      const double a = full.values(Layer::depth)(x, y);
      const double b = cut.values(Layer::depth)(x, y);
      if (!(a < 100) || !(b < 100)) continue;
      ++both;
      // What is left out was taken out of more: what is met is never farther.
      ASSERT_LT(b, a + 1e-4);
      far += a - b > 30 * pixel * a;
    }
  }
  EXPECT_GT(both, 2000u);
  EXPECT_LT(far, both / 20);
}

TEST(Folds, ArePrunedWithoutAChange) {
  const Field petal = julia({-0.2, 0.6, 0.2, 0}, 6);
  std::vector<Field> parts{
      plane({0, 0, 1}, -1),
      place({0, 0, 0.2}, bulb(8, 5), {0, 0, 0}, 0.6),
      join(0.2,
           {place({1.5, 0, 0}, bulb(3, 5), {0, 0, 0}, 0.5), place({1.5, 0, -0.6}, sphere(0.4))}),
      carve({place({-1.5, 0, 0}, box({1, 1, 1})), place({-1.5, 0, 0.4}, petal, {0, 0, 0}, 0.4)}),
      place({0, 2, 0}, repeat({0.9, 0, 0}, {3, 1, 1}, place({0, 0, 0}, petal, {0, 0, 0}, 0.25))),
      place({0, -2, -0.4}, around(5, place({0.8, 0, 0}, bulb(4, 4), {0, 0, 0}, 0.2))),
      offset(0.05, place({2.4, 1.5, 0}, bulb(2, 6), {0, 0, 0}, 0.3)),
      place({-2.4, 1.5, 0}, box_ball(), {0, 0, 0}, 0.06),
      place({-1.2, -1.4, -0.5}, sponge(0.7, 3), {0.3, 0.2, 0}),
      place({1.2, -1.4, -0.5}, gasket(GasketForm::octahedron, 0.5, 3))};
  // Enough of them for groups of neighbors.
  for (int i = 0; i < 24; ++i) {
    const double angle = 2 * pi * i / 24;
    const Vec3d at(3.2 * std::cos(angle), 3.2 * std::sin(angle), -0.6);
    parts.push_back(place(at, i % 3 == 0 ? petal : sphere(1), {0, 0, angle}, 0.25));
  }
  const World few = compile(shown(join({parts.begin(), parts.begin() + 10})));
  const World many = compile(shown(join(parts)));
  const Camera camera = Camera::look_at({4, -5, 3.2}, {0, 0, -0.2}, degrees(55));
  for (const World* world : {&few, &many}) {
    test::for_each_target([&](const char* target) {
      for (const NumberType number : {NumberType::float32, NumberType::float64}) {
        Budget budget{.frame = {24, 18, 1}, .number = number};
        budget.far_limit = 40;
        // Equal steps are the same ones whatever is left out.
        budget.field.method = FieldMethod::fixed;
        budget.field.increment = 0.08;
        budget.field.pruning = false;
        const Frame whole = render(*world, camera, budget, test::with_layers(test::everything));
        budget.field.pruning = true;
        const Frame pruned = render(*world, camera, budget, test::with_layers(test::everything));
        EXPECT_GT(pruned.tally.hits, pruned.tally.lanes / 2);
        for (const Layer layer : {Layer::color, Layer::depth, Layer::steps}) {
          EXPECT_EQ(test::hash_of(pruned, layer), test::hash_of(whole, layer))
              << target << " " << name_of(layer) << " of " << (world == &few ? "few" : "many");
        }
      }
    });
  }
}

TEST(Folds, OutsideOfAllOfThemValuesNeverLeadPast) {
  // From everywhere around, a step of the value ends at most at the surface.
  for (const Field& field : {sponge(2, 5), ball_sponge(2, 3), gasket(GasketForm::tetrahedron, 1, 6),
                             gasket(GasketForm::octahedron, 1, 5), tetrahedron(1), octahedron(1)}) {
    const auto faults = find_stretch_faults(field, 2000);
    EXPECT_TRUE(faults.empty()) << name_of(field.kind());
    // And the value is no more than the way to a box around it, and what is inside lies in it.
    const CompiledField compiled(field);
    for (const Vec3d& place : scattered(400, 1.5)) {
      const Vec3d out = (place.cwiseAbs() - field.bounds().high).cwiseMax(0.0);
      ASSERT_GE(std::max(compiled.distance(place), 0.0), out.norm() - 1e-12)
          << name_of(field.kind());
    }
  }
}

TEST(Folds, RefuseWhatTheyCannotBe) {
  const auto refusal = [](const auto& make) -> std::string {
    try {
      make();
      return "accepted";
    } catch (const Error& error) {
      return error.message();
    }
  };
  EXPECT_THAT(refusal([] { sponge(0, 3); }), HasSubstr("size"));
  EXPECT_THAT(refusal([] { sponge(1, 40); }), HasSubstr("times"));
  EXPECT_THAT(refusal([] { bulb(1); }), HasSubstr("power"));
  EXPECT_THAT(refusal([] {
                iterate(3, {steps::plane({0, 0, 0})}, sphere(1));
              }),
              HasSubstr("step 1: fold: a normal of no length"));
  EXPECT_THAT(refusal([] {
                iterate(3, {steps::place({0, 0, 0}, {0, 0, 0}, 0)}, sphere(1));
              }),
              HasSubstr("a scale of 0"));
  EXPECT_THAT(refusal([] { iterate(3, {steps::ball(2, 1)}, sphere(1)); }),
              HasSubstr("inner is more than outer"));
  EXPECT_THAT(refusal([] { iterate(3, {steps::start(0.5)}, sphere(1)); }),
              HasSubstr("expected `reach`"));
  EXPECT_EQ(refusal([] {
              iterate(3, {steps::start(0.5)}, sphere(1), FoldKeep::last, FoldDerivative::scalar, 3);
            }),
            "accepted");
}

}  // namespace
}  // namespace photonlane
