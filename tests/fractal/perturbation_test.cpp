// Perturbation against direct iteration with as many digits as it takes.

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>

#include "support/planes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace test;  // NOLINT: all of it is about planes
using ::testing::HasSubstr;

TEST(EscapePlanes, PerturbationIsDirectIterationAtAnyDepth) {
  const EscapePlane plane{.escape_radius = 4};
  for (const char* width : {"1e-20", "1e-40", "1e-55"}) {
    const Camera camera = looking_at(spiral_x, spiral_y, width);
    Budget budget = stepping(40, 30, PlaneNumber::perturbation, 20000);
    const Frame frame = frame_of(plane, camera, budget);
    budget.plane.skipping = false;
    const Frame stepped = frame_of(plane, camera, budget);
    const auto quick = [&](bool skipping) {
      budget.plane.skipping = skipping;
      return render(world_of(plane), camera, budget, test::with_layers({Layer::steps}));
    };
    const Frame skipped = quick(true);
    EXPECT_LT(skipped.tally.steps, quick(false).tally.steps);
    int other = 0;
    int sampled = 0;
    for (int y = 1; y < 30; y += 4) {
      for (int x = 1; x < 40; x += 5) {
        const DecimalPoint point = plane_point(camera.window, {40, 30}, x + 0.5, y + 0.5);
        const std::uint64_t exact = test::exact_steps(plane, point, 400, 20000);
        ++sampled;
        other += frame.codes(Layer::steps)(x, y) != exact;
        other += skipped.codes(Layer::steps)(x, y) != exact;
        other += stepped.codes(Layer::steps)(x, y) != exact;
      }
    }
    EXPECT_LE(other, sampled / 20) << width;
  }
}

TEST(EscapePlanes, PerturbationOfEveryFamilyIsDirectIterationFarDown) {
  // Points of the edge that are known exactly: -2 goes 0, -2, 2, 2 in every family of the power 2;
  // and b, where z^2 + b - b^2 stays, is of the Julia set of that c where |2 b| is above 1.
  struct Case {
    EscapePlane plane;
    DecimalPoint center;
  };
  const DecimalPoint tip{exactly("-2.0"), exactly("0.0")};
  const Case cases[] = {
      {{.family = PlaneFamily::power}, tip},
      {{.family = PlaneFamily::conjugate}, tip},
      {{.family = PlaneFamily::folded}, tip},
      {{.julia = DecimalPoint{Decimal(-0.15), Decimal(-0.42)}}, {exactly("1.2"), exactly("0.3")}},
  };
  for (const Case& one : cases) {
    EscapePlane plane = one.plane;
    plane.escape_radius = 8;
    for (const char* width : {"1e-12", "1e-50"}) {
      Camera camera;
      camera.window = {.center = one.center, .width = Decimal(std::string_view(width))};
      const Frame frame =
          frame_of(plane, camera, stepping(30, 20, PlaneNumber::perturbation, 2000));
      int other = 0;
      std::uint64_t most = 0;
      for (int y = 1; y < 20; y += 3) {
        for (int x = 1; x < 30; x += 3) {
          const DecimalPoint point = plane_point(camera.window, {30, 20}, x + 0.5, y + 0.5);
          const std::uint64_t exact = test::exact_steps(plane, point, 400, 2000);
          other += exact < 2000 ? frame.codes(Layer::steps)(x, y) != exact
                                : frame.codes(Layer::ending)(x, y) == 1;
          if (exact < 2000) most = std::max(most, exact);
        }
      }
      EXPECT_LE(other, 2) << name_of(plane.family) << ", width " << width;
      // As many steps as it takes to come away from there.
      EXPECT_GT(most, width == std::string("1e-50") ? 75u : 15u);
    }
  }
}

TEST(EscapePlanes, DistancesByPerturbationAreThoseInDouble) {
  for (const PlaneFamily family :
       {PlaneFamily::power, PlaneFamily::conjugate, PlaneFamily::folded}) {
    for (const int power : {2, 3}) {
      const EscapePlane plane{.family = family, .power = power, .escape_radius = 1000};
      const Camera camera = looking_at("-0.9", "0.4", "0.9");
      const Frame far = frame_of(plane, camera, stepping(40, 30, PlaneNumber::perturbation, 500));
      const Frame near = frame_of(plane, camera, stepping(40, 30, PlaneNumber::float64, 500));
      int compared = 0;
      int other = 0;
      for (int y = 0; y < 30; ++y) {
        for (int x = 0; x < 40; ++x) {
          if (near.codes(Layer::steps)(x, y) != far.codes(Layer::steps)(x, y)) continue;
          if (near.codes(Layer::ending)(x, y) != 1) continue;
          ++compared;
          const float distance = near.values(Layer::edge_distance)(x, y);
          other +=
              !(std::abs(far.values(Layer::edge_distance)(x, y) - distance) < 1e-3f * distance);
        }
      }
      EXPECT_GT(compared, 500) << name_of(family) << " " << power;
      EXPECT_LE(other, 3) << name_of(family) << " " << power;
    }
  }
}

TEST(EscapePlanes, SayHowFarApartPixelsAreBeyondDoubles) {
  Camera camera;
  const std::string zeros(1010, '0');
  camera.window = {
      .center = {Decimal(std::string_view("-2." + zeros)), Decimal(std::string_view("0." + zeros))},
      .width = Decimal(std::string_view("1e-1000"))};
  // No row of pixels on the real axis, where all to the right of -2 stays.
  const Frame frame = frame_of({}, camera, stepping(10, 4, PlaneNumber::automatic, 5000));
  EXPECT_EQ(frame.plane_report->number, PlaneNumber::perturbation);
  EXPECT_THAT(frame.plane_report->why, HasSubstr("pixels are 1.00e-1001 apart"));
  EXPECT_THAT(frame.plane_report->why, HasSubstr("e-986 times what double tells apart"));
  // -2 + e comes away four times as far each step: 1e1000 takes 1661 of them.
  EXPECT_EQ(frame.tally.spent, 0u);
  EXPECT_NEAR(frame.codes(Layer::steps)(0, 0), 1000 * std::log(10) / std::log(4), 6);
}

TEST(EscapePlanes, PerturbationHoldsWhereTheReferenceEscapesEarly) {
  // The middle of the window is outside; what is around it goes on for longer.
  const EscapePlane plane{.escape_radius = 4};
  const Camera camera = looking_at("-0.75", "0.25", "0.4");
  const Frame frame = frame_of(plane, camera, stepping(60, 40, PlaneNumber::perturbation, 2000));
  const Frame truth = frame_of(plane, camera, stepping(60, 40, PlaneNumber::double_double, 2000));
  const std::uint32_t middle = frame.codes(Layer::steps)(30, 20);
  EXPECT_LT(middle, 200u);
  int other = 0;
  int longer = 0;
  for (int y = 0; y < 40; ++y) {
    for (int x = 0; x < 60; ++x) {
      if (truth.codes(Layer::ending)(x, y) != 1) continue;
      other += frame.codes(Layer::steps)(x, y) != truth.codes(Layer::steps)(x, y);
      longer += truth.codes(Layer::steps)(x, y) > middle + 5;
    }
  }
  EXPECT_LE(other, 5);
  EXPECT_GT(longer, 100);
}

TEST(EscapePlanes, SmallCopiesAreInsideByPerturbation) {
  // Around the center of a copy of period 3, whose main part is about 0.01 wide.
  const Camera camera = looking_at("-1.754877666246693", "0.000000000000000", "0.004");
  Budget budget = stepping(60, 40, PlaneNumber::perturbation, 20000);
  const Frame frame = frame_of({}, camera, budget);
  budget.plane.number = PlaneNumber::float64;
  const Frame truth = frame_of({}, camera, budget);
  int hits = 0;
  int other = 0;
  for (int y = 0; y < 40; ++y) {
    for (int x = 0; x < 60; ++x) {
      const bool in = truth.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::hit);
      hits += in;
      other +=
          in && frame.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::escaped);
    }
  }
  EXPECT_GT(hits, 1000);
  EXPECT_EQ(other, 0);
  EXPECT_LT(frame.tally.spent, 50u);
}

}  // namespace
}  // namespace photonlane
