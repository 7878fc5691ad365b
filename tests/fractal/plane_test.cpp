// Planes of escape times: closed forms, other ways to count, number types, layers and limits.

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>

#include "support/planes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace test;  // NOLINT: all of it is about planes
using ::testing::HasSubstr;

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
