#include "photonlane/field/fold.hpp"

#include <gmock/gmock.h>

#include <Eigen/Geometry>
#include <cmath>
#include <limits>

#include "photonlane/photonlane.hpp"
#include "support/folds.hpp"

namespace photonlane {
namespace {

using namespace field;
using test::scattered;
using ::testing::HasSubstr;

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
    // Within the solid the steps tell how far the sides of one of the parts are, which may be
    // shared.
    if (b[i].value <= 0) {
      ASSERT_LE(a[i].value, b[i].value + 1e-12);
      continue;
    }
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
      ASSERT_NEAR(values[i], solid_distance(places[i], form, 0.8), 1e-12)
          << name_of(form) << " at " << places[i];
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

TEST(Iterate, StandsInRowsAsEachAlone) {
  // A stem that leans to one side, and twigs on both: only what all steps have led is the same on
  // both sides.
  const std::vector<FoldStep> all{steps::mirror(SpaceAxis::x),
                                  steps::place({0.1, 0, 0.4}, {0, 0.7, 0}, 0.5)};
  const Field stem = capsule({0, 0, 0}, {0.3, 0, 0.4}, 0.05);
  for (const FoldKeep keep : {FoldKeep::last, FoldKeep::all}) {
    const Field tree = iterate(2, all, stem, keep);
    std::vector<Field> copies;
    for (int i = -1; i <= 1; ++i) copies.push_back(place({1.6 * i, 0, 0}, tree));
    const CompiledField row(repeat({1.6, 0, 0}, {3, 1, 1}, tree));
    const CompiledField each(join(copies));
    for (const Vec3d& place : scattered(400, 2.4)) {
      ASSERT_NEAR(row.distance(place), each.distance(place), 1e-12) << name_of(keep) << place;
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

}  // namespace
}  // namespace photonlane
