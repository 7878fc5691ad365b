// Where the numbers that a plane is iterated in, and the ways its points are told, come to their
// ends.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/exact_orbit.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

Decimal decimal(const std::string& text) { return Decimal(std::string_view(text)); }

Camera looking_at(const std::string& x, const std::string& y, const std::string& width) {
  Camera camera;
  camera.window.center = {decimal(x), decimal(y)};
  camera.window.width = decimal(width);
  return camera;
}

/// A number of so many zeros behind the point.
std::string zeros(int count, const std::string& rest) {
  return "0." + std::string(static_cast<std::size_t>(count), '0') + rest;
}

const LayerSet counted{Layer::steps, Layer::ending, Layer::edge_distance};

Frame frame_of(const EscapePlane& plane, const Camera& camera, const Budget& budget,
               LayerSet layers = {Layer::steps, Layer::ending}) {
  Scene scene;
  scene.plane = plane;
  return render(compile(scene), camera, budget, test::with_layers(layers));
}

/// How many of some of a frame's pixels end otherwise than by all digits.
int wrong_pixels(const EscapePlane& plane, const Camera& camera, const Budget& budget, long bits,
                 int every) {
  const Frame frame = frame_of(plane, camera, budget);
  const Size size = frame.size();
  const std::uint64_t limit = static_cast<std::uint64_t>(budget.plane.iterations);
  int wrong = 0;
  for (int at = every / 2; at < size.width * size.height; at += every) {
    const int x = at % size.width;
    const int y = at / size.width;
    const std::uint64_t steps =
        test::exact_steps(plane, plane_point(camera.window, size, x + 0.5, y + 0.5), bits, limit);
    const bool escapes = steps < limit;
    const bool escaped =
        frame.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::escaped);
    wrong += escapes != escaped || (escapes && frame.codes(Layer::steps)(x, y) != steps);
  }
  return wrong;
}

TEST(PlaneNumbers, JuliaSetsNearZeroAreWhatAllDigitsSay) {
  struct Case {
    int power;
    double x, y;
  };
  // Dust, a dendrite, and sets with an inside, at 0 and where a step or two lead to 0.
  for (const Case& one : {Case{3, -0.7, 0.9}, Case{2, 0, 1}, Case{2, -1, 0}, Case{2, -0.123, 0.745},
                          Case{2, 0.4, 0.6}, Case{4, 0.6, 0.5}}) {
    EscapePlane plane{.power = one.power, .escape_radius = 64};
    plane.julia = DecimalPoint{Decimal(one.x), Decimal(one.y)};
    for (const int digits : {4, 6, 8, 14, 40}) {
      for (const bool skipping : {true, false}) {
        Budget budget{.frame = {test::effort(24), test::effort(18), 1}};
        budget.plane.iterations = 1500;
        budget.plane.skipping = skipping;
        const Camera camera =
            looking_at(zeros(digits, "00"), zeros(digits, "00"), fmt::format("1e-{}", digits));
        EXPECT_EQ(wrong_pixels(plane, camera, budget, 1024, 7), 0)
            << one.power << " " << one.x << " " << digits << " " << skipping;
        budget.plane.number = PlaneNumber::perturbation;
        EXPECT_EQ(wrong_pixels(plane, camera, budget, 1024, 7), 0)
            << one.power << " " << one.x << " " << digits << " " << skipping << " perturbed";
      }
    }
  }
}

TEST(PlaneNumbers, PointsThatLeadToZeroAreNotTakenForDrawnIn) {
  // z0 = sqrt(-c) is 0 after a step: of dust no point stays.
  EscapePlane plane{.power = 2, .escape_radius = 64};
  plane.julia = DecimalPoint{Decimal(-2.25), Decimal(0.0)};
  Budget budget{.frame = {32, 24, 1}};
  budget.plane.iterations = 500;
  for (const PlaneNumber number :
       {PlaneNumber::automatic, PlaneNumber::perturbation, PlaneNumber::float64}) {
    for (const bool derivative : {false, true}) {
      budget.plane.number = number;
      budget.plane.derivative = derivative;
      const Frame frame =
          frame_of(plane, looking_at("1.500000000000", "0.000000000000", "1e-9"), budget);
      EXPECT_EQ(frame.tally.hits, 0u) << name_of(number) << derivative;
    }
  }
  // Of one with an inside all of these do.
  plane.julia = DecimalPoint{Decimal(-1.0), Decimal(0.0)};
  budget.plane.number = PlaneNumber::perturbation;
  budget.plane.derivative = true;
  const Frame inside =
      frame_of(plane, looking_at("0.000000000000", "0.000000000000", "1e-9"), budget);
  EXPECT_EQ(inside.tally.hits, 32u * 24u);
}

TEST(PlaneNumbers, LimitsAreRaisedUntilSomethingIsDecided) {
  // Inside a small copy of a long period: nothing is decided by the first doublings.
  Budget budget{.frame = {24, 18, 1}};
  budget.plane.iterations = 60;
  budget.plane.limit = PlaneLimit::automatic;
  const Camera copy = looking_at("-1.7548776662466927", "0.0000000000000000", "1e-5");
  const Frame frame = frame_of({.escape_radius = 64}, copy, budget);
  EXPECT_EQ(frame.tally.spent, 0u);
  EXPECT_GT(frame.tally.hits, 300u);
  // Far down beside the edge everything is open for long.
  budget.plane.iterations = 100;
  const Camera deep = looking_at("0.512622659033119385110326465825004685813468",
                                 "-0.072160646042333169504435800531721304619041", "1.006639e-31");
  const Frame edge = frame_of({.power = 3, .escape_radius = 64}, deep, budget);
  EXPECT_LT(edge.tally.spent, 4u);
  EXPECT_GT(edge.tally.escaped, 200u);
  EXPECT_EQ(edge.plane_report->undecided, edge.tally.spent == 0 ? 0 : edge.plane_report->undecided);
}

TEST(PlaneNumbers, FoldedPlanesFarDownAreWhatAllDigitsSay) {
  // Along the needle of the folded family, on its axis and beside it, where only one component of
  // orbits is small.
  for (const int depth : {60, 141, 150, 200, 320}) {
    for (const char* off : {"00", "17", "-17", "49"}) {
      const std::string sign = off[0] == '-' ? "-" : "";
      const std::string digits = off[0] == '-' ? off + 1 : off;
      Budget budget{.frame = {16, 12, 1}};
      budget.plane.iterations = 3000;
      const Camera camera =
          looking_at("-2." + std::string(static_cast<std::size_t>(depth) + 2, '0'),
                     sign + zeros(depth, digits), fmt::format("1e-{}", depth));
      EXPECT_EQ(wrong_pixels({.family = PlaneFamily::folded, .escape_radius = 64}, camera, budget,
                             depth * 4 + 400, test::effort(1) == 1 ? 5 : 23),
                0)
          << depth << " " << off;
    }
  }
}

TEST(PlaneNumbers, DistancesAreToldAtAnyDepth) {
  // In pixels, so that they are numbers however narrow the view: along the needle's axis, left of
  // its tip, the edge is as far as the tip, within a factor of two.
  for (const int depth : {3, 20, 44, 60, 300, 1000}) {
    const std::string ones = "-2." + std::string(static_cast<std::size_t>(depth) - 1, '0') + "1000";
    Budget budget{.frame = {9, 5, 1}};
    budget.plane.iterations = 5000;
    const Camera camera = looking_at(ones, zeros(depth, "0000"), fmt::format("1e-{}", depth + 1));
    const Frame frame = frame_of({.escape_radius = 1e4}, camera, budget, counted);
    // A tenth of the distance wide, in nine pixels.
    const double truth = 90;
    EXPECT_GT(frame.values(Layer::edge_distance)(4, 2), 0.4 * truth) << depth;
    EXPECT_LT(frame.values(Layer::edge_distance)(4, 2), 2.5 * truth) << depth;
  }
}

TEST(PlaneNumbers, LargeRadiiAreNotForFloats) {
  Budget budget{.frame = {64, 48, 1}};
  budget.plane.iterations = 300;
  for (const int power : {2, 7, 8}) {
    const EscapePlane plane{.power = power, .escape_radius = 1e6};
    const Camera camera = looking_at("0.0", "0.0", "3");
    const Frame by_choice = frame_of(plane, camera, budget, {Layer::steps, Layer::smooth_count});
    EXPECT_EQ(by_choice.plane_report->number == PlaneNumber::float32, power == 2);
    EXPECT_FALSE(by_choice.plane_report->past_limit);
    Budget doubles = budget;
    doubles.plane.number = PlaneNumber::float64;
    const Frame exact = frame_of(plane, camera, doubles, {Layer::steps, Layer::smooth_count});
    int far = 0;
    for (int y = 0; y < 48; ++y) {
      for (int x = 0; x < 64; ++x) {
        const float truth = exact.values(Layer::smooth_count)(x, y);
        if (!std::isfinite(truth)) continue;
        far += !(std::abs(by_choice.values(Layer::smooth_count)(x, y) - truth) < 0.5f);
      }
    }
    EXPECT_LE(far, 10) << power << ": beside the edge rounding decides";
    Budget floats = budget;
    floats.plane.number = PlaneNumber::float32;
    EXPECT_EQ(frame_of(plane, camera, floats).plane_report->past_limit, power > 2);
  }
}

TEST(PlaneNumbers, DoubtIsToldByATypeThatIsRight) {
  // So narrow that float and double both see one point: all of it is doubtful.
  Budget budget{.frame = {64, 48, 1}};
  budget.plane.iterations = 2000;
  for (const PlaneNumber number : {PlaneNumber::float32, PlaneNumber::float64}) {
    budget.plane.number = number;
    const Frame frame = frame_of(
        {.escape_radius = 64},
        looking_at("-2.0000000000000000000000", "0.0000000000000000000000", "1e-20"), budget);
    EXPECT_TRUE(frame.plane_report->past_limit);
    EXPECT_GT(frame.plane_report->doubtful, 0.3) << name_of(number);
  }
}

TEST(PlaneNumbers, FixedPointThatOverflowsOnTheWayHasLeft) {
  // Against doubles, wherever those are far from the range's end: from the second step on powers
  // overflow before the constant is added.
  for (const int power : {2, 3, 5, 6, 8}) {
    Budget budget{.frame = {80, 60, 1}};
    budget.plane.iterations = 100;
    budget.plane.number = PlaneNumber::fixed;
    budget.plane.integer_bits = 3;
    budget.plane.fraction_bits = 41;
    const EscapePlane plane{.power = power, .escape_radius = 4};
    const Camera camera = looking_at("0.0", "0.0", "3.2");
    const Frame fixed = frame_of(plane, camera, budget);
    budget.plane.number = PlaneNumber::float64;
    const Frame exact = frame_of(plane, camera, budget);
    int other = 0;
    int late = 0;
    for (int y = 0; y < 60; ++y) {
      for (int x = 0; x < 80; ++x) {
        if (exact.codes(Layer::ending)(x, y) != static_cast<std::uint32_t>(Ending::escaped))
          continue;
        other += fixed.codes(Layer::steps)(x, y) != exact.codes(Layer::steps)(x, y);
        late += fixed.codes(Layer::steps)(x, y) > exact.codes(Layer::steps)(x, y) + 1;
      }
    }
    EXPECT_EQ(late, 0) << power;
    // Components leave the range before the disk of the radius is left.
    EXPECT_LT(other, 80 * 60 / 20) << power;
  }
}

}  // namespace
}  // namespace photonlane
