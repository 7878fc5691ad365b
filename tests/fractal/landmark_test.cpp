// Small copies and branchings of planes: closed forms, and orbits worked out another way.

#include <gtest/gtest.h>
#include <mpfr.h>

#include <cmath>
#include <numbers>

#include "photonlane/photonlane.hpp"

namespace photonlane {
namespace {

Decimal decimal(const char* text) { return Decimal(std::string_view(text)); }

LandmarkSearch at(const char* x, const char* y, const char* within,
                  LandmarkKind kind = LandmarkKind::copy) {
  return {
      .near = {decimal(x), decimal(y)}, .within = decimal(within), .kind = kind, .progress = {}};
}

/// The orbit of 0 at a place, by MPFR with 1200 bits: how far two of its steps are apart, as a
/// power of ten.
double apart_log10(int power, const DecimalPoint& place, std::uint64_t one, std::uint64_t other) {
  constexpr mpfr_prec_t bits = 1200;
  mpfr_t cx, cy, x, y, a, b, px, py, keep_x, keep_y;
  mpfr_inits2(bits, cx, cy, x, y, a, b, px, py, keep_x, keep_y, nullptr);
  mpfr_set_str(cx, place.x.text().c_str(), 10, MPFR_RNDN);
  mpfr_set_str(cy, place.y.text().c_str(), 10, MPFR_RNDN);
  mpfr_set_zero(x, 1);
  mpfr_set_zero(y, 1);
  for (std::uint64_t k = 0; k <= std::max(one, other); ++k) {
    if (k == one) {
      mpfr_set(keep_x, x, MPFR_RNDN);
      mpfr_set(keep_y, y, MPFR_RNDN);
    }
    if (k == std::max(one, other)) break;
    mpfr_set(px, x, MPFR_RNDN);
    mpfr_set(py, y, MPFR_RNDN);
    for (int m = 1; m < power; ++m) {
      mpfr_fmms(a, px, x, py, y, MPFR_RNDN);
      mpfr_fmma(b, px, y, py, x, MPFR_RNDN);
      mpfr_set(px, a, MPFR_RNDN);
      mpfr_set(py, b, MPFR_RNDN);
    }
    mpfr_add(x, px, cx, MPFR_RNDN);
    mpfr_add(y, py, cy, MPFR_RNDN);
  }
  mpfr_sub(a, x, keep_x, MPFR_RNDN);
  mpfr_sub(b, y, keep_y, MPFR_RNDN);
  mpfr_hypot(a, a, b, MPFR_RNDN);
  mpfr_log10(a, a, MPFR_RNDN);
  const double result = mpfr_get_d(a, MPFR_RNDN);
  mpfr_clears(cx, cy, x, y, a, b, px, py, keep_x, keep_y, nullptr);
  return result;
}

TEST(Landmarks, CopiesHaveTheSizesThatClosedFormsSay) {
  struct Case {
    int power;
    const char *x, *y, *within;
    std::uint64_t period;
    double place_x, place_y, size, turned;
  };
  // Of period 2 and power 2: z2 = c^2 + c, size 1/(1 * 2) at -1. Of power 3: c = +-i, size
  // 1/(2 sqrt(3)). Of period 3 on the axis: c^3 + 2 c^2 + c + 1 = 0.
  const double three = -1.7548776662466927;
  const double a = three * three + three;
  const double size_three = 1 / std::abs((2 * a * (2 * three + 1) + 1) * (2 * three) * (2 * a));
  const Case cases[] = {{2, "0.01", "0.02", "0.1", 1, 0, 0, 1, 0},
                        {2, "-1.02", "0.01", "0.1", 2, -1, 0, 0.5, 0},
                        {2, "-1.76", "0.003", "0.02", 3, three, 0, size_three, 0},
                        {3, "0.02", "0.97", "0.1", 2, 0, 1, 0.5 / std::sqrt(3.0), 0},
                        {5, "0.001", "0", "0.1", 1, 0, 0, 1, 0}};
  for (const Case& one : cases) {
    const EscapePlane plane{.power = one.power};
    const auto found = find_landmark(plane, at(one.x, one.y, one.within));
    ASSERT_TRUE(found) << one.x;
    EXPECT_EQ(found->period, one.period) << one.x;
    EXPECT_NEAR(found->place.x.value(), one.place_x, 1e-15);
    EXPECT_NEAR(found->place.y.value(), one.place_y, 1e-15);
    EXPECT_NEAR(found->size.value(), one.size, 1e-10 * one.size) << one.x;
    if (one.power == 2) {
      EXPECT_NEAR(found->turned, one.turned, 1e-9) << one.x;
    }
  }
}

TEST(Landmarks, ZeroComesBackAtCopiesHoweverDeep) {
  // Places from a search by eye, and around each of the last ones.
  struct Case {
    int power;
    const char *x, *y, *within;
  };
  const Case cases[] = {{2, "-0.743291890852430", "0.131240552308800", "1e-6"},
                        {2, "-0.743291890852430", "0.131240552308800", "1e-13"},
                        {2, "-0.16", "1.034", "0.01"},
                        {3, "0.05", "1.0", "0.08"},
                        {4, "-0.55", "0.6", "0.15"}};
  for (const Case& one : cases) {
    const EscapePlane plane{.power = one.power};
    LandmarkSearch search = at(one.x, one.y, one.within);
    for (int depth = 0; depth < 3; ++depth) {
      const auto found = find_landmark(plane, search);
      if (!found && depth > 0) break;
      ASSERT_TRUE(found) << one.x << " " << depth;
      // z_n is within its slope times the digits that are told of 0; no step before it is.
      const double digits = -static_cast<double>(found->place.x.last_place());
      const double back = apart_log10(one.power, found->place, 0, found->period);
      EXPECT_LT(back, -digits + 1 - found->size.log10()) << one.x << " " << depth;
      for (std::uint64_t k = 1; k < found->period; ++k) {
        ASSERT_GT(apart_log10(one.power, found->place, 0, k), back + 6)
            << k << " of " << found->period;
        if (k > 40) break;
      }
      const Vec2d off{found->place.x.value() - search.near.x.value(),
                      found->place.y.value() - search.near.y.value()};
      EXPECT_LE(off.norm(), search.within.value() * (1 + 1e-6) + 1e-15);
      // Beside the copy, about as far off as it is large, are others.
      search.near = plane_point({found->place, found->size, 0}, {100, 100}, 10, 40);
      search.within = Decimal(0.3 * found->size.value());
    }
  }
}

TEST(Landmarks, ACopyIsSeenAsTheWholeIs) {
  const EscapePlane plane;
  Scene scene;
  scene.plane = plane;
  const World world = compile(scene);
  const auto found = find_landmark(plane, at("-0.743291890852430", "0.131240552308800", "1e-6"));
  ASSERT_TRUE(found);
  Budget budget;
  budget.frame.width = 160;
  budget.frame.height = 120;
  budget.plane.iterations = 200;
  const auto inside = [&](const PlaneWindow& window) {
    Camera camera;
    camera.window = window;
    std::vector<bool> all;
    const Frame frame = render(world, camera, budget, {.layers = {Layer::ending}});
    for (int y = 0; y < 120; ++y) {
      for (const std::uint32_t code : frame.codes(Layer::ending).row(y)) {
        all.push_back(static_cast<Ending>(code) != Ending::escaped);
      }
    }
    return all;
  };
  const PlaneWindow small = window_of(*found, {});
  const std::vector<bool> whole = inside({{Decimal(0.0), Decimal(0.0)}, Decimal(4.0), 0});
  budget.plane.iterations = 200 * static_cast<std::int64_t>(found->period);
  const std::vector<bool> copy = inside(small);
  std::size_t other = 0;
  std::size_t in = 0;
  for (std::size_t i = 0; i < whole.size(); ++i) {
    other += whole[i] != copy[i] ? 1 : 0;
    in += whole[i] ? 1 : 0;
  }
  EXPECT_GT(in, whole.size() / 20);
  EXPECT_LT(static_cast<double>(other), 0.02 * static_cast<double>(whole.size()));
}

TEST(Landmarks, BranchingsComeIntoTheirCycle) {
  struct Case {
    int power;
    const char *x, *y, *within;
    std::uint64_t preperiod, period;
    double place_x, place_y;
  };
  const Case cases[] = {{2, "-1.99", "0.01", "0.05", 2, 1, -2, 0},
                        {2, "0.01", "0.98", "0.05", 2, 2, 0, 1},
                        {2, "-1.543", "0", "0.01", 3, 1, -1.5436890126920764, 0}};
  for (const Case& one : cases) {
    const auto found =
        find_landmark(EscapePlane{}, at(one.x, one.y, one.within, LandmarkKind::branching));
    ASSERT_TRUE(found) << one.x;
    EXPECT_EQ(found->preperiod, one.preperiod);
    EXPECT_EQ(found->period, one.period);
    EXPECT_NEAR(found->place.x.value(), one.place_x, 1e-15);
    EXPECT_NEAR(found->place.y.value(), one.place_y, 1e-15);
  }
  for (const auto& [power, x, y, within] :
       {std::tuple{2, "-0.7432918908", "0.1312405523", "1e-7"},
        // In the middle of a copy, of which all steps are close to 0 again and again.
        {2, "-0.74464257936963184381", "0.13062780889640383638", "3e-5"},
        {2, "-0.10", "0.95", "0.02"},
        {3, "0.35", "1.26", "0.05"},
        {2, "-0.743291890852430", "0.131240552308800", "1e-11"}}) {
    const auto found =
        find_landmark(EscapePlane{.power = power}, at(x, y, within, LandmarkKind::branching));
    ASSERT_TRUE(found) << x;
    const double digits = -static_cast<double>(found->place.x.last_place());
    // In the cycle from that step on, and not before.
    const std::uint64_t q = found->preperiod;
    const std::uint64_t n = found->period;
    const double in = apart_log10(power, found->place, q, q + n);
    EXPECT_LT(in, -0.5 * digits) << x;
    EXPECT_GT(apart_log10(power, found->place, q - 1, q - 1 + n), in + 6) << x;
    for (std::uint64_t k = 1; k < n; ++k) {
      EXPECT_GT(apart_log10(power, found->place, q, q + k), in + 6) << x << " " << k;
    }
  }
}

TEST(Landmarks, AreNotFoundWhereNoneAreAndStopWhenTold) {
  EXPECT_FALSE(find_landmark(EscapePlane{}, at("2", "2", "0.01")));
  EXPECT_FALSE(find_landmark(EscapePlane{}, at("0.4", "0.4", "1e-3", LandmarkKind::branching)));
  // Within a disc of the figure there is its middle alone.
  EXPECT_FALSE(find_landmark(EscapePlane{}, {.near = {Decimal(0.1), Decimal(0.1)},
                                             .within = Decimal(1e-4),
                                             .most_steps = 300,
                                             .progress = {}}));
  const auto refused = [](const EscapePlane& plane, const LandmarkSearch& search) {
    try {
      find_landmark(plane, search);
    } catch (const Error& error) {
      return error.kind();
    }
    return ErrorKind::file;
  };
  EXPECT_EQ(refused(EscapePlane{.family = PlaneFamily::folded}, at("0", "0", "1")),
            ErrorKind::usage);
  EXPECT_EQ(
      refused(EscapePlane{.julia = DecimalPoint{Decimal(0.1), Decimal(0.0)}}, at("0", "0", "1")),
      ErrorKind::usage);
  EXPECT_EQ(refused(EscapePlane{}, at("0", "0", "0")), ErrorKind::input);
  LandmarkSearch search = at("0.1", "0.1", "1e-40");
  search.progress = [] { return false; };
  EXPECT_EQ(refused(EscapePlane{}, search), ErrorKind::cancelled);
}

}  // namespace
}  // namespace photonlane
