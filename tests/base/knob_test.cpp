#include "photonlane/base/knob.hpp"

#include <gmock/gmock.h>

#include "photonlane/photonlane.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;
using ::testing::StartsWith;

std::string refusal(std::string_view name, std::string_view text) {
  Budget budget;
  try {
    set_knob(budget_knobs(), budget, name, text);
  } catch (const Error& error) {
    return error.message();
  }
  return "accepted";
}

TEST(Knobs, EveryKnobReadsBackWhatItWrote) {
  const Budget defaults;
  for (const Knob<Budget>& entry : budget_knobs()) {
    Budget copy;
    const std::string text = knob_text(entry, defaults);
    entry.assign(copy, entry.info, text);
    EXPECT_EQ(knob_text(entry, copy), text) << entry.info.name;
  }
  const Camera camera{.eye = {1.25, -3, 1.7}, .heading = degrees(33.3)};
  for (const Knob<Camera>& entry : camera_knobs()) {
    Camera copy;
    entry.assign(copy, entry.info, knob_text(entry, camera));
    EXPECT_EQ(knob_text(entry, copy), knob_text(entry, camera)) << entry.info.name;
  }
}

TEST(Knobs, AnglesAreDegreesOutsideAndRadiansInside) {
  Camera camera;
  set_knob(camera_knobs(), camera, "heading", "90");
  EXPECT_DOUBLE_EQ(camera.heading, pi / 2);
  for (int angle = -720; angle <= 720; ++angle) {
    camera.heading = degrees(angle);
    EXPECT_EQ(knob_text(*find_knob(camera_knobs(), "heading"), camera), std::to_string(angle));
  }
}

TEST(Knobs, RefuseWhatDoesNotFitAndSayWhatWould) {
  EXPECT_EQ(refusal("cells.steps", "12"), "accepted");
  EXPECT_EQ(refusal("cells.steps", "0"), "found '0', expected integer, 1 to 1000000000");
  EXPECT_THAT(refusal("cells.steps", "1.5"), StartsWith("found '1.5', expected integer"));
  EXPECT_THAT(refusal("cells.steps", "12x"), StartsWith("found '12x'"));
  EXPECT_THAT(refusal("cells.steps", ""), StartsWith("found ''"));
  EXPECT_THAT(refusal("cells.increment", "0"), HasSubstr("more than 0 and at most 1000"));
  for (const char* bad : {"nan", ".nan", "inf", "-inf", ".inf", "1e999", "0x10", "1,5", "--1"}) {
    EXPECT_THAT(refusal("far_limit", bad), StartsWith("found '")) << bad;
  }
  EXPECT_EQ(refusal("cells.method", "leep"),
            "found 'leep', expected one of boundary, increment, leap; did you mean leap?");
}

TEST(Knobs, UnknownNamesGetTheNearestRightOne) {
  EXPECT_EQ(refusal("cells.step", "12"),
            "no such knob; did you mean cells.steps (integer, 1 to 1000000000)?");
  EXPECT_THAT(refusal("cel.steps", "12"), HasSubstr("cells.steps"));
  EXPECT_EQ(refusal("banana", "12"), "no such knob");
}

TEST(Knobs, PointsAndColorsTakeThreeNumbers) {
  Camera camera;
  set_knob(camera_knobs(), camera, "eye", "[1, 2.5, -3]");
  EXPECT_EQ(camera.eye, Vec3d(1, 2.5, -3));
  set_knob(camera_knobs(), camera, "eye", "4,5,6");
  EXPECT_EQ(camera.eye, Vec3d(4, 5, 6));
  for (const char* bad : {"1,2", "1,2,3,4", "[1,2,3", "a,b,c", "1,,3", "1,2,nan"}) {
    EXPECT_THROW(set_knob(camera_knobs(), camera, "eye", bad), Error) << bad;
  }
  Material material;
  set_knob(material_knobs(), material, "base", "#ff0080");
  EXPECT_FLOAT_EQ(material.base[0], 1);
  EXPECT_FLOAT_EQ(material.base[1], 0);
  EXPECT_NEAR(material.base[2], 0.2158605, 1e-6);
  for (const char* bad : {"#ff008", "#ff00800", "#gg0000", "red", "0.1,0.2,1.1", "-0.1,0,0"}) {
    EXPECT_THROW(set_knob(material_knobs(), material, "base", bad), Error) << bad;
  }
}

TEST(Knobs, FlagsAreTrueOrFalse) {
  CellMap map;
  set_knob(cell_map_knobs(), map, "repeat", "true");
  EXPECT_TRUE(map.repeat);
  EXPECT_THROW(set_knob(cell_map_knobs(), map, "repeat", "yes"), Error);
}

TEST(Knobs, SomeApplyOnlyBesideOthers) {
  const Knob<Budget>& increment = *find_knob(budget_knobs(), "cells.increment");
  Budget budget;
  EXPECT_FALSE(knob_applies(budget_knobs(), increment, budget));
  budget.cells.method = CellMethod::increment;
  EXPECT_TRUE(knob_applies(budget_knobs(), increment, budget));
  // What a knob names as its condition must itself be a knob.
  for (const Knob<Budget>& entry : budget_knobs()) {
    const std::string_view condition = entry.info.only_with;
    if (condition.empty()) continue;
    set_knob(budget_knobs(), budget, condition.substr(0, condition.find('=')),
             condition.substr(condition.find('=') + 1));
    EXPECT_TRUE(knob_applies(budget_knobs(), entry, budget));
  }
}

}  // namespace
}  // namespace photonlane
