#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <functional>

#include "photonlane/io.hpp"
#include "photonlane/measure/named_setting.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::io {
namespace {

using ::testing::HasSubstr;

const std::string window_scene =
    "title: Stained window\n"
    "plane:\n"
    "  family: folded\n"
    "  power: 3\n"
    "  julia: [-0.12345678901234567890123, 1e-30]\n"
    "  palette: [\"#102030\", [0.5, 0.25, 0.125]]\n"
    "  undecided: [0, 0, 0]\n"
    "  trap: {shape: ring, radius: 2}\n"
    "window: {center: [-0.75000000000000000000000, 0.1], width: 0.25, rotation: 30}\n"
    "budget: {plane: {number: fixed, integer_bits: 5, fraction_bits: 40, iterations: 77}}\n";

std::string refusal(const std::string& text) {
  try {
    parse_scene(text, "scene.yaml");
  } catch (const Error& error) {
    return error.what();
  }
  return "nothing refused";
}

TEST(PlaneFiles, AreReadAndWrittenWithAllDigits) {
  const SceneFile file = parse_scene(window_scene, "scene.yaml");
  ASSERT_TRUE(file.scene.plane);
  const EscapePlane& plane = *file.scene.plane;
  EXPECT_EQ(plane.family, PlaneFamily::folded);
  EXPECT_EQ(plane.power, 3);
  EXPECT_EQ(plane.julia->x.text(), "-0.12345678901234567890123");
  EXPECT_EQ(plane.julia->y.text(), "1e-30");
  ASSERT_EQ(plane.palette.size(), 2u);
  EXPECT_NEAR(plane.palette[1][1], 0.25f, 1e-6f);
  EXPECT_EQ(plane.trap.shape, TrapShape::ring);
  EXPECT_EQ(file.camera.window.center.x.text(), "-0.75000000000000000000000");
  EXPECT_NEAR(file.camera.window.rotation, degrees(30), 1e-12);
  EXPECT_EQ(file.budget.plane.fraction_bits, 40);
  const std::string written = scene_text(file);
  EXPECT_EQ(scene_text(parse_scene(written, "again.yaml")), written);
  EXPECT_THAT(written, HasSubstr("-0.75000000000000000000000"));
}

TEST(PlaneFiles, RefuseWithThePlace) {
  EXPECT_THAT(refusal("plane: {power: 9}\n"), HasSubstr("scene.yaml:1:16: found '9', expected"));
  EXPECT_THAT(refusal("plane: {}\nroom: {}\n"), HasSubstr("room beside a plane"));
  EXPECT_THAT(refusal("plane: {palette: []}\n"), HasSubstr("no colors, expected one or more"));
  EXPECT_THAT(refusal("plane: {}\nwindow: {width: 0}\n"), HasSubstr("scene.yaml:2:17: found '0'"));
  EXPECT_THAT(refusal("plane: {}\nwindow: {center: [0.1]}\n"),
              HasSubstr("expected two decimal numbers of any length"));
  EXPECT_THAT(refusal("plane: {}\nwindow: {center: [0.1, 0], width: 1e-9}\n"),
              HasSubstr("8 are missing"));
  EXPECT_THAT(refusal("plane: {colour: 3}\n"), HasSubstr("no such key 'colour'"));
  EXPECT_THAT(refusal("room: {}\nwindow: {width: 1}\n"), HasSubstr("window without a plane"));
}

TEST(NamedSettings, ReachTheBudgetTheCameraAndTheWindow) {
  Settings settings;
  set_by_name(settings, "plane.iterations", "123");
  set_by_name(settings, "camera.heading", "90");
  set_by_name(settings, "window.width", "1e-400");
  set_by_name(settings, "window.center", "0.25, -1e-3");
  EXPECT_EQ(settings.budget.plane.iterations, 123);
  EXPECT_NEAR(settings.camera.heading, pi / 2, 1e-12);
  EXPECT_NEAR(settings.camera.window.width.log10(), -400, 1e-9);
  EXPECT_EQ(setting_text(settings, "window.center"), "[0.25, -1e-3]");
  EXPECT_TRUE(find_setting("camera.eye"));
  EXPECT_FALSE(find_setting("camera.nose"));
  EXPECT_FALSE(setting_applies(settings, "plane.fraction_bits"));
  const auto message = [&](std::string_view name, std::string_view value) -> std::string {
    try {
      set_by_name(settings, name, value);
    } catch (const Error& error) {
      return error.message();
    }
    return "";
  };
  EXPECT_THAT(message("width", "3"), HasSubstr("did you mean window.width"));
  EXPECT_THAT(message("window.widht", "3"), HasSubstr("did you mean width"));
  EXPECT_THAT(message("plane.iterations", "0"), HasSubstr("integer, 1 to"));
  EXPECT_THAT(message("plane.iterations", "1e20"), HasSubstr("integer, 1 to"));
}

TEST(Sweeps, GoOverTheWindowAndTheNumberType) {
  Scene scene;
  scene.plane = EscapePlane{};
  Camera camera;
  camera.window.center = {Decimal(std::string_view("-0.7432918908524302")),
                          Decimal(std::string_view("0.1312405523087976"))};
  Budget budget{.frame = {48, 30, 1}};
  budget.plane.iterations = 3000;
  const Sweep result =
      sweep(compile(scene), camera, budget,
            {parse_vary("window.width=1e-2,1e-6,1e-14"), parse_vary("plane.number=float,double")},
            {.repeats = 1, .warm_up = 0, .progress = {}});
  ASSERT_EQ(result.settings.size(), 6u);
  // Each width against its own truth: float breaks before double does.
  const auto other = [&](std::size_t i) { return *result.settings[i].error.share_other; };
  EXPECT_LT(other(1), 0.02);
  EXPECT_GT(other(2), 0.2);
  EXPECT_LT(other(3), 0.2);
  EXPECT_GT(other(5), 0.1);
  EXPECT_LT(other(0), other(2));
}

TEST(Sweeps, DrawLinesOfTwoKnobsWhereOneIsOfNumbers) {
  const auto swept = [](std::vector<std::string> knobs,
                        const std::vector<std::vector<std::string>>& values, bool one_by_one) {
    Sweep sweep;
    sweep.knobs = std::move(knobs);
    sweep.metric = "rmse";
    sweep.one_by_one = one_by_one;
    for (const auto& one : values) {
      Setting& setting = sweep.settings.emplace_back();
      setting.values = one;
      setting.error.rmse = 0.01;
      setting.total_ms.median = 2;
    }
    return sweep_lines(sweep, "title");
  };
  const std::vector<std::vector<std::string>> values{{"auto", "1"},   {"auto", "10"},
                                                     {"auto", "200"}, {"fast", "1"},
                                                     {"fast", "10"},  {"fast", "200"}};
  const auto lines = swept({"way", "cells.steps"}, values, false);
  ASSERT_TRUE(lines);
  // Along the numbers, by their powers as they go over more than two.
  EXPECT_THAT(*lines, HasSubstr("$line0 << END\n0 0.01 2\n1 0.01 2\n2.30"));
  EXPECT_THAT(*lines, HasSubstr("title 'fast'"));
  EXPECT_THAT(*lines, HasSubstr("set xlabel 'cells.steps'"));
  EXPECT_FALSE(swept({"way", "cells.steps"}, values, true));
  EXPECT_FALSE(swept({"cells.steps"}, {{"1"}, {"2"}, {"3"}}, false));
  EXPECT_FALSE(swept({"way", "other"}, {{"a", "b"}, {"c", "d"}, {"e", "f"}}, false));
}

TEST(Sweeps, NameKnobsInFullWhereTheirLastWordIsAnothersToo) {
  Sweep sweep;
  sweep.knobs = {"crossings.limit", "bounces.limit", "light.crossings"};
  sweep.metric = "rmse";
  sweep.one_by_one = true;
  for (const auto& values : std::vector<std::vector<std::string>>{
           {"4", "8", "2"}, {"0", "8", "2"}, {"4", "1", "2"}, {"4", "8", "0"}}) {
    sweep.settings.emplace_back().values = values;
  }
  const auto label = [&](std::size_t i) { return setting_label(sweep, sweep.settings[i]); };
  EXPECT_EQ(label(0), "base");
  EXPECT_EQ(label(1), "crossings.limit=0");
  EXPECT_EQ(label(2), "bounces.limit=1");
  EXPECT_EQ(label(3), "crossings=0");
  EXPECT_THAT(sweep_text(sweep), HasSubstr("crossings.limit=0"));
  EXPECT_THAT(sweep_plot(sweep, "title"), HasSubstr("bounces.limit=1"));
}

}  // namespace
}  // namespace photonlane::io
