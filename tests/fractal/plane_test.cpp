#include "photonlane/fractal/escape_plane.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>

#include "support/exact_orbit.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

std::string refusal(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.message();
  }
  return "nothing refused";
}

World world_of(const EscapePlane& plane) {
  Scene scene;
  scene.plane = plane;
  return compile(scene);
}

Camera looking_at(const char* x, const char* y, const char* width) {
  Camera camera;
  camera.window.center = {Decimal(std::string_view(x)), Decimal(std::string_view(y))};
  camera.window.width = Decimal(std::string_view(width));
  return camera;
}

Budget stepping(int width, int height, PlaneNumber number, std::int64_t steps = 1000) {
  Budget budget;
  budget.frame = {width, height, 1};
  budget.plane.number = number;
  budget.plane.iterations = steps;
  return budget;
}

Frame frame_of(const EscapePlane& plane, const Camera& camera, const Budget& budget) {
  return render(world_of(plane), camera, budget, test::with_layers(LayerSet::of_planes()));
}

/// The one pixel of a window so small that it is a point.
struct PointEnd {
  Ending ending;
  std::uint32_t steps;
};
PointEnd end_of(const EscapePlane& plane, const char* x, const char* y, std::int64_t limit = 5000,
                PlaneNumber number = PlaneNumber::float64) {
  Camera camera = looking_at(x, y, "1e-6");
  const Frame frame = frame_of(plane, camera, stepping(1, 1, number, limit));
  return {static_cast<Ending>(frame.codes(Layer::ending)(0, 0)), frame.codes(Layer::steps)(0, 0)};
}

TEST(EscapePlanes, KnownPointsStayOrEscape) {
  const EscapePlane plane{.escape_radius = 2};
  // Centers of parts of periods 1, 2, 3 and 4.
  for (const auto& [x, y] : {std::pair{"0.000000", "0.000000"}, std::pair{"-1.000000", "0.000000"},
                             std::pair{"-1.754878", "0.000000"}, std::pair{"-0.122561", "0.744862"},
                             std::pair{"0.282271", "0.530061"}}) {
    EXPECT_EQ(end_of(plane, x, y).ending, Ending::hit) << x << ", " << y;
    EXPECT_EQ(end_of(plane, x, y, 5000, PlaneNumber::double_double).ending, Ending::hit) << x;
    EXPECT_EQ(end_of(plane, x, y, 5000, PlaneNumber::fixed).ending, Ending::hit) << x;
    EXPECT_EQ(end_of(plane, x, y, 5000, PlaneNumber::perturbation).ending, Ending::hit) << x;
  }
  // 1 goes 0, 1, 2, 5.
  EXPECT_EQ(end_of(plane, "1.000001", "0.000000").ending, Ending::escaped);
  EXPECT_EQ(end_of(plane, "1.000001", "0.000000").steps, 2u);
  EXPECT_EQ(end_of(plane, "0.999990", "0.000000").steps, 3u);
  // Near the cusp a point at 1/4 + e takes pi / sqrt(e) steps.
  const double steps = end_of(plane, "0.250100", "0.000000").steps;
  EXPECT_NEAR(steps, pi / std::sqrt(1e-4), 6);
}

TEST(EscapePlanes, TheLargestPartsHaveTheirAreas) {
  // All that never escapes of the two largest parts: 3 pi / 8 and pi / 16, told by periodicity and
  // by the derivative where the closed forms are not asked.
  const double pixels = 300.0 * 200;
  const double area = 3 * 2;
  for (const bool derivative : {false, true}) {
    for (const PlaneNumber number : {PlaneNumber::float64, PlaneNumber::float32}) {
      Budget budget = stepping(300, 200, number, 4000);
      budget.plane.forms = false;
      budget.plane.derivative = derivative;
      Frame frame = frame_of({}, looking_at("-0.5", "0", "3"), budget);
      int inside = 0;
      for (int y = 0; y < 200; ++y) {
        for (int x = 0; x < 300; ++x) {
          const double re = -0.5 + (x + 0.5 - 150) * 0.01;
          const double im = (100 - y - 0.5) * 0.01;
          const double off = re - 0.25;
          const double q = off * off + im * im;
          const bool largest =
              q * (q + off) <= 0.25 * im * im || (re + 1) * (re + 1) + im * im <= 0.0625;
          const auto ending = static_cast<Ending>(frame.codes(Layer::ending)(x, y));
          if (largest) {
            EXPECT_NE(ending, Ending::escaped) << re << ", " << im;
          }
          inside += largest && ending == Ending::hit;
        }
      }
      EXPECT_NEAR(inside / pixels * area, 3 * pi / 8 + pi / 16, derivative ? 0.03 : 0.08);
    }
  }
}

TEST(EscapePlanes, AreAsSymmetricAsTheirFamily) {
  // z^n + c has n - 1 fold symmetry; upside down every family but the folded is the same.
  const int size = 128;
  for (const int power : {2, 3, 5, 8}) {
    for (const PlaneFamily family : {PlaneFamily::power, PlaneFamily::conjugate}) {
      const Frame frame = frame_of({.family = family, .power = power}, looking_at("0", "0", "3"),
                                   stepping(size, size, PlaneNumber::float64, 200));
      int other = 0;
      for (int y = 0; y < size; ++y) {
        for (int x = 0; x < size; ++x) {
          other += frame.codes(Layer::steps)(x, y) != frame.codes(Layer::steps)(x, size - 1 - y) &&
                   frame.codes(Layer::ending)(x, y) == 1;
        }
      }
      EXPECT_EQ(other, 0) << power;
    }
  }
  const Frame julia =
      frame_of({.julia = DecimalPoint{Decimal(-0.4), Decimal(0.6)}}, looking_at("0", "0", "3"),
               stepping(size, size, PlaneNumber::float64, 200));
  for (int y = 0; y < size; ++y) {
    for (int x = 0; x < size; ++x) {
      EXPECT_EQ(julia.codes(Layer::steps)(x, y),
                julia.codes(Layer::steps)(size - 1 - x, size - 1 - y));
    }
  }
}

TEST(EscapePlanes, EveryNumberTypeCountsAsManyDigitsDo) {
  struct Case {
    EscapePlane plane;
    const char *x, *y, *width;
    std::vector<PlaneNumber> numbers;
  };
  using enum PlaneNumber;
  const DecimalPoint c{Decimal(-0.8), Decimal(0.156)};
  const Case cases[] = {
      {{}, "-0.75", "0.1", "0.3", {float32, float64, double_double, perturbation, fixed}},
      {{.power = 3}, "0.4", "0.5", "0.3", {float64, double_double, perturbation, fixed}},
      {{.power = 7}, "0.7", "0.5", "0.3", {float64, double_double, perturbation}},
      {{.family = PlaneFamily::conjugate}, "-1.2", "0.3", "0.4", {float64, perturbation, fixed}},
      {{.family = PlaneFamily::folded}, "-1.75", "0.0", "0.2", {float64, perturbation, fixed}},
      {{.family = PlaneFamily::folded, .power = 4}, "-0.9", "0.3", "0.4", {float64, perturbation}},
      {{.julia = c}, "0.1", "0.2", "0.5", {float32, float64, double_double, perturbation, fixed}},
      {{.power = 4, .julia = c}, "0.6", "0.2", "0.5", {float64, double_double, perturbation}},
      {{},
       "-0.743643887037158704752191506",
       "0.131825904205311970493132056",
       "1e-9",
       {float64, double_double, perturbation}},
      {{},
       "-0.743643887037158704752191506",
       "0.131825904205311970493132056",
       "1e-15",
       {double_double, perturbation}},
  };
  for (const Case& one : cases) {
    EscapePlane plane = one.plane;
    plane.escape_radius = 4;
    const Camera camera = looking_at(one.x, one.y, one.width);
    std::vector<std::uint64_t> exact;
    for (int y = 3; y < 40; y += 7) {
      for (int x = 2; x < 60; x += 7) {
        exact.push_back(test::exact_steps(
            plane, plane_point(camera.window, {60, 40}, x + 0.5, y + 0.5), 140, 1000));
      }
    }
    for (const PlaneNumber number : one.numbers) {
      Budget budget = stepping(60, 40, number, 1000);
      budget.plane.integer_bits = 8;
      budget.plane.fraction_bits = 56;
      const Frame frame = frame_of(plane, camera, budget);
      int other = 0;
      int sampled = 0;
      for (int y = 3; y < 40; y += 7) {
        for (int x = 2; x < 60; x += 7) {
          const std::uint64_t steps = exact[static_cast<std::size_t>(sampled++)];
          const auto ending = static_cast<Ending>(frame.codes(Layer::ending)(x, y));
          other += steps < 1000
                       ? ending != Ending::escaped || frame.codes(Layer::steps)(x, y) != steps
                       : ending == Ending::escaped;
        }
      }
      // Points so near the edge that no rounding can be borne are few.
      const int allowed = sampled / (number == float32 ? 5 : number == float64 ? 10 : 50);
      EXPECT_LE(other, allowed) << name_of(number) << " of family " << name_of(plane.family)
                                << ", power " << plane.power << ", width " << one.width;
    }
  }
}

/// A point from which orbits come to a cycle of two after 24 steps.
constexpr const char* spiral_x =
    "-0.7432918908524302029316243259725107571763485581207765818323300000000000000000000000";
constexpr const char* spiral_y =
    "0.1312405523087976047708459065814781430771141511585840067313339000000000000000000000";

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

/// A number with zeros behind it, so many as deep windows ask for.
Decimal exactly(const std::string& text, std::size_t places = 60) {
  return Decimal(std::string_view(text + std::string(places, '0')));
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

/// What is told without distances and traps: then orbits are iterated together.
const LayerSet counted{Layer::steps, Layer::ending, Layer::smooth_count};

TEST(EscapePlanes, OrbitsIteratedTogetherAreThoseIteratedAlone) {
  struct Case {
    EscapePlane plane;
    const char *x, *y, *width;
  };
  const DecimalPoint julia{Decimal(-0.15), Decimal(-0.42)};
  const Case cases[] = {
      {{.family = PlaneFamily::power}, "-0.4", "0.5", "1.5"},
      {{.family = PlaneFamily::power}, "-2.0", "0.0", "1e-40"},
      {{.family = PlaneFamily::power}, "-2.0", "0.0", "1e-320"},
      {{.family = PlaneFamily::power, .power = 5}, "-0.4", "0.5", "1.5"},
      {{.family = PlaneFamily::conjugate, .power = 3}, "-0.4", "0.5", "1.5"},
      {{.family = PlaneFamily::folded}, "-0.4", "-0.5", "1.5"},
      {{.julia = julia}, "0.1", "0.2", "1.5"},
      {{.julia = julia}, "1.2", "0.3", "1e-40"},
  };
  for (const Case& one : cases) {
    const World world = world_of(one.plane);
    Camera camera = looking_at(one.x, one.y, one.width);
    camera.window.center = {exactly(one.x, 330), exactly(one.y, 330)};
    const Budget budget = stepping(60, 40, PlaneNumber::perturbation, 777);
    const Frame together = render(world, camera, budget, test::with_layers(counted));
    // Traps are looked at along every orbit, step by step and without skips.
    const Frame alone = render(world, camera, budget,
                               test::with_layers({Layer::steps, Layer::ending, Layer::trap}));
    int other = 0;
    int escaped = 0;
    for (int y = 0; y < 40; ++y) {
      for (int x = 0; x < 60; ++x) {
        const bool out = static_cast<Ending>(alone.codes(Layer::ending)(x, y)) == Ending::escaped;
        escaped += out;
        other += together.codes(Layer::ending)(x, y) != alone.codes(Layer::ending)(x, y) ||
                 (out && together.codes(Layer::steps)(x, y) != alone.codes(Layer::steps)(x, y));
      }
    }
    EXPECT_LE(other, 5) << name_of(one.plane.family) << ", width " << one.width;
    EXPECT_GT(escaped, 100) << name_of(one.plane.family) << ", width " << one.width;
    EXPECT_EQ(together.tally.lanes, 2400u);
    EXPECT_EQ(together.tally.hits + together.tally.escaped + together.tally.spent, 2400u);
  }
}

TEST(EscapePlanes, NobodyEscapesPastTheLimit) {
  for (const PlaneNumber number : {PlaneNumber::float64, PlaneNumber::perturbation}) {
    const World world = world_of({});
    const Camera camera = looking_at("-0.74", "0.15", "0.02");
    Budget budget = stepping(80, 50, number, 700);
    budget.plane.skipping = false;
    budget.plane.periodicity = false;
    const Frame all = render(world, camera, budget, test::with_layers(counted));
    for (const int limit : {1, 7, 41, 90, 133, 512}) {
      budget.plane.iterations = limit;
      const Frame some = render(world, camera, budget, test::with_layers(counted));
      int wrong = 0;
      std::uint64_t steps = 0;
      for (int y = 0; y < 50; ++y) {
        for (int x = 0; x < 80; ++x) {
          const bool out = static_cast<Ending>(all.codes(Layer::ending)(x, y)) == Ending::escaped;
          const std::uint32_t count = all.codes(Layer::steps)(x, y);
          const auto ending = static_cast<Ending>(some.codes(Layer::ending)(x, y));
          const bool known = ending == Ending::hit;
          const bool escapes = out && count <= static_cast<std::uint32_t>(limit);
          wrong += escapes ? ending != Ending::escaped || some.codes(Layer::steps)(x, y) != count
                           : !known &&
                                 (ending != Ending::spent || some.codes(Layer::steps)(x, y) !=
                                                                 static_cast<std::uint32_t>(limit));
          steps += some.codes(Layer::steps)(x, y);
        }
      }
      EXPECT_EQ(wrong, 0) << name_of(number) << " to " << limit;
      EXPECT_EQ(some.tally.steps, steps) << "no more are told than were taken";
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

TEST(EscapePlanes, SmoothCountsGoOnFromStepToStep) {
  // Along a line the smooth count has no jumps, whole counts do.
  const EscapePlane plane{.escape_radius = 1000};
  const Frame frame = frame_of(plane, looking_at("0.45", "0.30", "0.05"),
                               stepping(2000, 1, PlaneNumber::float64, 2000));
  float largest = 0;
  int jumps = 0;
  for (int x = 1; x < 2000; ++x) {
    largest = std::max(largest, std::abs(frame.values(Layer::smooth_count)(x, 0) -
                                         frame.values(Layer::smooth_count)(x - 1, 0)));
    jumps += frame.codes(Layer::steps)(x, 0) != frame.codes(Layer::steps)(x - 1, 0);
  }
  EXPECT_GT(jumps, 2);
  EXPECT_LT(largest, 0.02f);
}

TEST(EscapePlanes, DistancesAreThoseOfTheEdge) {
  // Left of -2 the nearest point of the set is -2; the estimate is within a factor of two.
  for (const char* x : {"-2.10", "-2.50", "-3.00"}) {
    for (const PlaneNumber number :
         {PlaneNumber::float64, PlaneNumber::double_double, PlaneNumber::perturbation}) {
      const EscapePlane plane{.escape_radius = 1e5};
      const Frame frame = frame_of(plane, looking_at(x, "0.00", "0.01"), stepping(1, 1, number));
      // In pixels, of which there is one.
      const double truth = (-2 - std::atof(x)) / 0.01;
      EXPECT_GT(frame.values(Layer::edge_distance)(0, 0), 0.5 * truth) << x;
      EXPECT_LT(frame.values(Layer::edge_distance)(0, 0), 2.2 * truth) << x;
    }
  }
  // Of the Julia set of 0, the unit circle, exactly r log r.
  const EscapePlane circle{.julia = DecimalPoint{Decimal(0.0), Decimal(0.0)}, .escape_radius = 1e5};
  for (const PlaneNumber number : {PlaneNumber::float64, PlaneNumber::perturbation}) {
    const Frame frame = frame_of(circle, looking_at("1.5", "0.0", "0.1"), stepping(1, 1, number));
    EXPECT_NEAR(0.1 * frame.values(Layer::edge_distance)(0, 0), 1.5 * std::log(1.5), 1e-5);
  }
}

TEST(EscapePlanes, TrapsAreHowNearOrbitsCome) {
  // 1 goes 1, 2, 5: nearest to 2.2 at 2.
  EscapePlane plane{.escape_radius = 4, .tells = PlaneTells::trap};
  plane.trap = {.shape = TrapShape::point, .x = 2.2};
  for (const PlaneNumber number : {PlaneNumber::float64, PlaneNumber::perturbation}) {
    const auto trap = [&] {
      return frame_of(plane, looking_at("1.00000", "0.00000", "1e-5"), stepping(1, 1, number))
          .values(Layer::trap)(0, 0);
    };
    plane.trap.shape = TrapShape::point;
    EXPECT_NEAR(trap(), 0.2, 1e-4);
    plane.trap.shape = TrapShape::cross;
    EXPECT_NEAR(trap(), 0.0, 1e-4);
    plane.trap.shape = TrapShape::ring;
    plane.trap.radius = 3;
    EXPECT_NEAR(trap(), 0.2, 1e-4) << "5 is 2.8 from 2.2";
  }
}

TEST(EscapePlanes, AutoTakesTheCheapestTypeThatTellsPixelsApart) {
  const auto taken = [](const char* width) {
    const Frame frame = frame_of({}, looking_at(spiral_x, spiral_y, width), [] {
      Budget budget = stepping(64, 40, PlaneNumber::automatic);
      return budget;
    }());
    return frame.plane_report->number;
  };
  const World world = world_of({});
  const auto plainly = [&](const char* width) {
    return render(world, looking_at(spiral_x, spiral_y, width),
                  stepping(64, 40, PlaneNumber::automatic), test::with_layers({Layer::steps}))
        .plane_report->number;
  };
  EXPECT_EQ(plainly("2"), PlaneNumber::float32);
  EXPECT_EQ(taken("2"), PlaneNumber::float64) << "distances are found in double";
  EXPECT_EQ(plainly("1e-4"), PlaneNumber::float64);
  EXPECT_EQ(plainly("1e-16"), PlaneNumber::perturbation);
  EXPECT_EQ(taken("1e-16"), PlaneNumber::double_double) << "distances cost perturbation more";
  EXPECT_EQ(plainly("1e-40"), PlaneNumber::perturbation);
  // A type past its limit says so, and how much of the frame is doubtful.
  const Frame past =
      render(world, looking_at(spiral_x, spiral_y, "1e-14"),
             stepping(64, 40, PlaneNumber::float64, 5000), test::with_layers({Layer::steps}));
  EXPECT_TRUE(past.plane_report->past_limit);
  EXPECT_GT(past.plane_report->doubtful, 0.1);
  const Frame good =
      render(world, looking_at(spiral_x, spiral_y, "1e-14"),
             stepping(64, 40, PlaneNumber::double_double, 5000), test::with_layers({Layer::steps}));
  EXPECT_FALSE(good.plane_report->past_limit);
}

TEST(EscapePlanes, LimitsRiseUntilHardlyAPixelChanges) {
  Budget budget = stepping(160, 100, PlaneNumber::float64, 50);
  const Camera camera = looking_at("-0.7432918908", "0.1312405523", "1e-3");
  const Frame given = frame_of({}, camera, budget);
  EXPECT_GT(given.tally.spent, 1000u);
  budget.plane.limit = PlaneLimit::automatic;
  const Frame raised = frame_of({}, camera, budget);
  EXPECT_GT(raised.plane_report->limit, 400u);
  EXPECT_LT(raised.tally.spent, 100u);
  // As if that limit had been given.
  budget.plane.limit = PlaneLimit::given;
  budget.plane.iterations = static_cast<std::int64_t>(raised.plane_report->limit);
  const Frame again = frame_of({}, camera, budget);
  for (const Layer layer : {Layer::ending, Layer::steps}) {
    EXPECT_EQ(test::hash_of(raised, layer), test::hash_of(again, layer));
  }
}

TEST(EscapePlanes, TheSameBytesForEveryVectorWidthAndThreadCount) {
  using enum PlaneNumber;
  for (const PlaneNumber number : {fixed, float32, float64, double_double, perturbation}) {
    Budget budget = stepping(70, 40, number, 300);
    budget.frame.samples = 2;
    const EscapePlane plane{.family = PlaneFamily::conjugate, .power = 3};
    const World world = world_of(number == perturbation ? EscapePlane{} : plane);
    std::optional<std::vector<std::uint64_t>> expected;
    test::for_each_target([&](const char* target) {
      for (const int threads : {1, 3}) {
        const Frame frame = render(world, looking_at("-0.4", "0.5", "1.5"), budget,
                                   test::with_layers(LayerSet::of_planes(), threads));
        std::vector<std::uint64_t> hashes;
        for (const Layer layer : LayerSet::of_planes().list()) {
          hashes.push_back(test::hash_of(frame, layer));
        }
        if (!expected) expected = hashes;
        EXPECT_EQ(hashes, *expected) << name_of(number) << " by " << target;
      }
    });
  }
}

TEST(EscapePlanes, OrbitsTogetherGiveTheSameBytesForEveryVectorWidth) {
  struct Case {
    EscapePlane plane;
    PlaneNumber number;
    const char* width;
  };
  using enum PlaneNumber;
  const Case cases[] = {
      {{}, perturbation, "1e-30"},
      {{.family = PlaneFamily::folded, .power = 3}, perturbation, "2"},
      {{.julia = DecimalPoint{Decimal(-0.15), Decimal(-0.42)}}, perturbation, "2"},
      {{}, float32, "2"},
      {{}, float64, "2"},
      {{.power = 4}, double_double, "2"},
  };
  for (const Case& one : cases) {
    Budget budget = stepping(90, 40, one.number, 700);
    const World world = world_of(one.plane);
    Camera camera = looking_at("-0.5", "0.5", one.width);
    camera.window.center = {exactly("-0.5"), exactly("0.5")};
    std::optional<std::vector<std::uint64_t>> expected;
    test::for_each_target([&](const char* target) {
      const Frame frame = render(world, camera, budget, test::with_layers(counted, 2));
      std::vector<std::uint64_t> found{frame.tally.steps, frame.tally.hits};
      for (const Layer layer : counted.list()) found.push_back(test::hash_of(frame, layer));
      if (!expected) expected = found;
      EXPECT_EQ(found, *expected) << name_of(one.number) << " by " << target;
    });
  }
}

/// At the edge beside the cusp, where orbits are long enough for pixels to be worth taking over:
/// the inside, smooth counts, and what lies between.
Camera by_the_cusp() { return looking_at("0.2502000", "0.0000030", "1.5e-5"); }

TEST(EscapePlanes, FramesGoOnFromTheOneBefore) {
  const World world = world_of({});
  const Budget budget = stepping(160, 100, PlaneNumber::float64, 3000);
  const Camera first = by_the_cusp();
  const Frame before =
      render(world, first, budget, test::with_layers({Layer::smooth_count, Layer::ending}));
  const LayerSet layers{Layer::color, Layer::smooth_count, Layer::ending};
  for (const double factor : {1.0, 1.3, 3.0}) {
    Camera next = first;
    next.window = zoomed(first.window, {160, 100}, 70, 50, factor);
    const Frame anew = render(world, next, budget, test::with_layers(layers));
    for (const double error : {0.01, 0.2}) {
      const Frame after = render_after(world, next, budget, {&before, first.window, error},
                                       test::with_layers(layers, 2));
      const PlaneReport& report = *after.plane_report;
      EXPECT_LE(report.taken_error, error);
      EXPECT_GT(report.taken, 0.2) << factor;
      EXPECT_LT(report.taken, 1);
      EXPECT_EQ(after.tally.lanes, std::lround((1 - report.taken) * 16000));
      double sum = 0;
      int others = 0;
      for (int y = 0; y < 100; ++y) {
        for (int x = 0; x < 160; ++x) {
          others += after.codes(Layer::ending)(x, y) != anew.codes(Layer::ending)(x, y);
          const float right = anew.values(Layer::smooth_count)(x, y);
          const float told = after.values(Layer::smooth_count)(x, y);
          if (std::isfinite(right) && std::isfinite(told)) {
            sum += (right - told) * (right - told);
          }
        }
      }
      // Of all pixels, where the report tells it of some.
      EXPECT_LE(std::sqrt(sum / (16000 * report.taken)), 3 * error) << factor;
      EXPECT_LE(others, 8) << factor;
      EXPECT_LT(compare(after, anew).rmse, 0.02);
      if (factor == 1) {
        EXPECT_LT(report.taken_error, 1e-4) << "the same pixels";
      }
    }
  }
  const auto refused = [&](const PlaneBefore& one, LayerSet wanted, const World& of) {
    return refusal([&] { render_after(of, first, budget, one, test::with_layers(wanted)); });
  };
  const PlaneBefore good{&before, first.window, 0.1};
  EXPECT_THAT(refused(good, {Layer::steps}, world), HasSubstr("no layer steps"));
  EXPECT_THAT(refused(good, layers, world_of({.tells = PlaneTells::distance})),
              HasSubstr("where colors tell smooth counts, not distance"));
  EXPECT_THAT(refused({&before, first.window, 0}, layers, world), HasSubstr("above 0"));
  EXPECT_THAT(refused({nullptr, first.window, 1}, layers, world), HasSubstr("the one before"));
  const Frame plain = render(world, first, budget, test::with_layers({Layer::color}));
  EXPECT_THAT(refused({&plain, first.window, 1}, layers, world),
              HasSubstr("no layer smooth_count"));
  PlaneBefore turned = good;
  turned.window.rotation = 0.1;
  EXPECT_THAT(refused(turned, layers, world), HasSubstr("another rotation"));
}

TEST(EscapePlanes, ZoomsThatGoOnStayClose) {
  // Every frame from the one before: what is off does not pile up.
  const World world = world_of({});
  Camera camera = looking_at(spiral_x, spiral_y, "1e-8");
  const Size size{120, 80};
  Budget budget = stepping(size.width, size.height, PlaneNumber::automatic, 3000);
  const LayerSet layers{Layer::smooth_count, Layer::ending};
  constexpr double error = 0.05;
  const std::vector<PlaneWindow> windows = zoom_windows(camera.window, size, camera.window.center,
                                                        Decimal(std::string_view("1e-18")), 40);
  Frame before = render(world, camera, budget, test::with_layers(layers));
  double taken = 0;
  for (std::size_t i = 1; i < windows.size(); ++i) {
    camera.window = windows[i];
    Frame after = render_after(world, camera, budget, {&before, windows[i - 1], error},
                               test::with_layers(layers));
    taken += after.plane_report->taken / static_cast<double>(windows.size() - 1);
    before = std::move(after);
  }
  EXPECT_EQ(before.plane_report->number, PlaneNumber::perturbation);
  EXPECT_GT(taken, 0.15);
  const Frame anew = render(world, camera, budget, test::with_layers(layers));
  double sum = 0;
  int both = 0;
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const float told = before.values(Layer::smooth_count)(x, y);
      const float right = anew.values(Layer::smooth_count)(x, y);
      if (!std::isfinite(told) || !std::isfinite(right)) continue;
      sum += (told - right) * (told - right);
      ++both;
    }
  }
  EXPECT_GT(both, 5000);
  EXPECT_LT(std::sqrt(sum / both), 2 * error);
}

TEST(EscapePlanes, FramesThatGoOnAreTheSameBytesForEveryVectorWidthAndThreadCount) {
  for (const PlaneNumber number : {PlaneNumber::float64, PlaneNumber::perturbation}) {
    const World world = world_of({});
    const Budget budget = stepping(100, 60, number, 500);
    const Camera first = looking_at("-0.74", "0.14", "0.05");
    Camera next = first;
    next.window = zoomed(first.window, {100, 60}, 40, 30, 1.5);
    const LayerSet layers{Layer::color, Layer::smooth_count, Layer::ending};
    const Frame before = render(world, first, budget, test::with_layers(layers));
    std::optional<std::vector<std::uint64_t>> expected;
    test::for_each_target([&](const char* target) {
      for (const int threads : {1, 3}) {
        const Frame frame = render_after(world, next, budget, {&before, first.window, 0.1},
                                         test::with_layers(layers, threads));
        std::vector<std::uint64_t> found{frame.tally.lanes, frame.tally.steps};
        for (const Layer layer : layers.list()) found.push_back(test::hash_of(frame, layer));
        if (!expected) expected = found;
        EXPECT_EQ(found, *expected) << name_of(number) << " by " << target;
      }
    });
  }
}

TEST(EscapePlanes, FramesGoOnTurnedOutwardAndIntoOtherSizes) {
  const World world = world_of({});
  Camera first = by_the_cusp();
  first.window.rotation = 0.4;
  const LayerSet layers{Layer::smooth_count, Layer::ending};
  const Budget budget = stepping(160, 100, PlaneNumber::float64, 3000);
  const Frame before = render(world, first, budget, test::with_layers(layers));
  struct Case {
    Size size;
    double factor;
  };
  for (const Case& one : {Case{{160, 100}, 0.7}, Case{{160, 100}, 2}, Case{{90, 120}, 1.7}}) {
    Camera next = first;
    next.window = zoomed(first.window, {160, 100}, 80, 50, one.factor);
    Budget small = budget;
    small.frame = {one.size.width, one.size.height, 1};
    const Frame anew = render(world, next, small, test::with_layers(layers));
    const Frame after =
        render_after(world, next, small, {&before, first.window, 0.1}, test::with_layers(layers));
    EXPECT_GT(after.plane_report->taken, 0.1) << one.factor;
    EXPECT_LE(after.plane_report->taken_error, 0.1);
    int far = 0;
    for (int y = 0; y < one.size.height; ++y) {
      for (int x = 0; x < one.size.width; ++x) {
        const float told = after.values(Layer::smooth_count)(x, y);
        const float right = anew.values(Layer::smooth_count)(x, y);
        far += std::isfinite(told) && std::isfinite(right) && std::abs(told - right) > 0.5;
      }
    }
    EXPECT_LE(far, one.size.width * one.size.height / 500) << one.factor;
  }
}

TEST(EscapePlanes, PointsEndTheSameWhateverIsIteratedWithThem) {
  // Pixels of a 64th, so that places are exact; moved by whole pixels, other points share a batch.
  for (const PlaneNumber number :
       {PlaneNumber::float32, PlaneNumber::float64, PlaneNumber::double_double}) {
    const World world = world_of({});
    Budget budget = stepping(128, 64, number, 3000);
    budget.plane.forms = false;
    const Camera here = looking_at("-0.5", "0.25", "2");
    const Frame frame = render(world, here, budget, test::with_layers(counted));
    for (const int by : {8, 40}) {
      Camera there = here;
      there.window.center = {Decimal(-0.5 + by / 64.0), Decimal(0.0)};
      const Frame moved = render(world, there, budget, test::with_layers(counted));
      int other = 0;
      for (int y = 16; y < 64; ++y) {
        for (int x = by; x < 128; ++x) {
          for (const Layer layer : {Layer::steps, Layer::ending}) {
            other += frame.codes(layer)(x, y) != moved.codes(layer)(x - by, y - 16);
          }
          other += frame.values(Layer::smooth_count)(x, y) !=
                   moved.values(Layer::smooth_count)(x - by, y - 16);
        }
      }
      EXPECT_EQ(other, 0) << name_of(number) << " by " << by;
    }
    EXPECT_GT(frame.tally.hits, 1000u) << "orbits that come round again are told";
  }
}

TEST(EscapePlanes, SamplesAtEdgesAreThoseOfAll) {
  Budget budget = stepping(120, 80, PlaneNumber::float64, 300);
  budget.frame.samples = 9;
  EscapePlane plane;
  plane.tells = PlaneTells::count;
  plane.palette = {{0, 0, 0}, {1, 1, 1}};
  const World world = world_of(plane);
  const Camera camera = looking_at("-0.5", "0.0", "3");
  const Frame edges = render(world, camera, budget, test::with_layers({Layer::color}));
  budget.plane.samples = PlaneSamples::all;
  const Frame all = render(world, camera, budget, test::with_layers({Layer::color}));
  EXPECT_LT(compare(edges, all).rmse, 0.01);
  EXPECT_LT(edges.tally.secondary_steps, all.tally.secondary_steps);
}

TEST(EscapePlanes, EvenedColorsShareThePixels) {
  EscapePlane plane;
  plane.palette = {{0, 0, 0}, {1, 0, 0}};
  plane.equalize = true;
  const Frame frame = render(world_of(plane), looking_at("-0.5", "0.0", "3"),
                             stepping(200, 120, PlaneNumber::float64, 300),
                             test::with_layers({Layer::color, Layer::ending}));
  // From black to red and back once: in any range of red as many pixels as it is wide.
  int below = 0;
  int out = 0;
  for (int y = 0; y < 120; ++y) {
    for (int x = 0; x < 200; ++x) {
      if (frame.codes(Layer::ending)(x, y) != 1) continue;
      ++out;
      below += frame.values(Layer::color, 0)(x, y) < 0.25f;
    }
  }
  EXPECT_NEAR(static_cast<double>(below) / out, 0.25, 0.02);
}

TEST(PlaneWindows, PixelsAndPointsFitTogether) {
  const Size size{640, 400};
  PlaneWindow window{
      .center = {Decimal(std::string_view(spiral_x)), Decimal(std::string_view(spiral_y))},
      .width = Decimal(std::string_view("1e-40")),
      .rotation = degrees(30)};
  for (const Vec2d& at : {Vec2d(0, 0), Vec2d(320, 200), Vec2d(639.5, 12.25)}) {
    const DecimalPoint point = plane_point(window, size, at.x(), at.y());
    EXPECT_LT((frame_place(window, size, point) - at).norm(), 1e-3);
  }
  // What is zoomed about stays; other things go away from it.
  const DecimalPoint held = plane_point(window, size, 100, 50);
  const DecimalPoint other = plane_point(window, size, 120, 50);
  const PlaneWindow near = zoomed(window, size, 100, 50, 8);
  EXPECT_LT((frame_place(near, size, held) - Vec2d(100, 50)).norm(), 1e-2);
  EXPECT_LT((frame_place(near, size, other) - Vec2d(260, 50)).norm(), 1e-2);
  const PlaneWindow moved = panned(window, size, 30, -7);
  EXPECT_LT((frame_place(moved, size, held) - Vec2d(70, 57)).norm(), 1e-2);
  // Pixels are square whatever the frame: the same point is as many pixels off both ways.
  window.rotation = 0;
  const Vec2d corner = frame_place(window, {200, 900}, plane_point(window, size, 640, 0));
  EXPECT_NEAR(corner.x() - 100, 100, 1e-3);
  EXPECT_NEAR(450 - corner.y(), 200 * 200.0 / 640, 1e-3);
}

TEST(PlaneWindows, ZoomsAreSteady) {
  const Size size{64, 40};
  const PlaneWindow from{};
  const DecimalPoint to{Decimal(std::string_view(spiral_x)), Decimal(std::string_view(spiral_y))};
  const auto windows = zoom_windows(from, size, to, Decimal(std::string_view("1e-60")), 31);
  ASSERT_EQ(windows.size(), 31u);
  EXPECT_EQ(windows.front().width, from.width);
  EXPECT_EQ(windows.back().center, to);
  for (std::size_t i = 1; i < windows.size(); ++i) {
    EXPECT_NEAR(windows[i].width.log10() - windows[i - 1].width.log10(),
                (-60 - std::log10(3.5)) / 30, 1e-9);
    validate(windows[i]);
  }
  // The point comes to the middle without turning back.
  double before = 1e9;
  for (const PlaneWindow& window : windows) {
    const double off = (frame_place(window, size, to) - Vec2d(32, 20)).norm();
    EXPECT_LE(off, before + 1e-3);
    before = off;
  }
  EXPECT_LT(before, 1e-3);
}

TEST(PlaneWindows, RefuseWhatCannotBe) {
  const auto of_window = [](const char* x, const char* y, const char* width) {
    return refusal(
        [&] { frame_of({}, looking_at(x, y, width), stepping(4, 4, PlaneNumber::automatic)); });
  };
  EXPECT_THAT(of_window("0", "0", "0"), HasSubstr("width: found 0, expected a number above 0"));
  EXPECT_THAT(of_window("0", "0", "-2"), HasSubstr("above 0"));
  EXPECT_THAT(
      of_window("-0.75", "0", "1e-6"),
      HasSubstr("the real part has 2 decimal places, a width of 1e-6 needs 6: 4 are missing"));
  EXPECT_EQ(of_window("-0.750000", "0", "1e-6"), "nothing refused");
  EXPECT_THAT(refusal([] { Decimal(std::string_view("1.2.3")); }), HasSubstr("decimal number"));
  EXPECT_THAT(refusal([] { zoomed({}, {4, 4}, 0, 0, 0); }), HasSubstr("above 0"));
  EXPECT_THAT(refusal([] {
                zoom_windows({}, {4, 4}, {}, Decimal(1.0), 1);
              }),
              HasSubstr("2 or more"));
}

TEST(EscapePlanes, RefuseWhatCannotBe) {
  const auto of_plane = [](const EscapePlane& plane, const Budget& budget) {
    return refusal([&] { frame_of(plane, looking_at("0", "0", "3"), budget); });
  };
  const Budget good = stepping(4, 4, PlaneNumber::float64);
  EXPECT_THAT(of_plane({.palette = {}}, good), HasSubstr("palette: no colors"));
  EXPECT_THAT(of_plane({.power = 9}, good), HasSubstr("power"));
  Budget budget = good;
  budget.plane.iterations = 0;
  EXPECT_THAT(of_plane({}, budget), HasSubstr("plane.iterations"));
  budget = stepping(4, 4, PlaneNumber::fixed);
  budget.plane.integer_bits = 1;
  EXPECT_THAT(of_plane({}, budget), HasSubstr("the first step needs"));
  budget.plane.integer_bits = 10;
  budget.plane.fraction_bits = 60;
  EXPECT_THAT(of_plane({}, budget), HasSubstr("64 or fewer"));
  EXPECT_THAT(refusal([&] { render(world_of({}), {}, good, test::with_layers({Layer::depth})); }),
              HasSubstr("planes have no layer depth"));
}

}  // namespace
}  // namespace photonlane
