#include <gmock/gmock.h>

#include <Eigen/Geometry>
#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/folds.hpp"

namespace photonlane {
namespace {

using namespace field;
using test::box_ball;
using test::scattered;

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

TEST(Estimates, LeadToNearestPlacesThatAreOnTheSurface) {
  for (const Field& field : {bulb(8, 5), julia({-0.2, 0.6, 0.2, 0.1}, 7)}) {
    const CompiledField compiled(field::measured(field));
    ASSERT_TRUE(compiled.has_estimates());
    std::vector<Vec3d> places;
    for (const Vec3d& place : scattered(60, 1.3)) {
      if (compiled.distance(place) > 0.02) places.push_back(place);
    }
    ASSERT_GT(places.size(), 20u);
    const std::vector<Vec3d> found = compiled.closest_points(places);
    std::size_t nearer = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
      ASSERT_NEAR(compiled.distance(found[i]), 0, 1e-7) << places[i];
      const double distance = (found[i] - places[i]).norm();
      nearer += distance < compiled.distance(places[i]) / compiled.field().stretch();
    }
    // All but few are no nearer than a safe step.
    EXPECT_LE(nearer, places.size() / 20);
  }
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

}  // namespace
}  // namespace photonlane
