// Windows of planes, and frames that go on from the one before.

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>

#include "support/planes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace test;  // NOLINT: all of it is about planes
using ::testing::HasSubstr;

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

}  // namespace
}  // namespace photonlane
