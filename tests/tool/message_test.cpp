// Where messages about a scene say that something stands, and what they say it is.

#include <gmock/gmock.h>

#include "photonlane/io.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;
using ::testing::Not;
using ::testing::StartsWith;

class Messages : public test::ToolRun {
 protected:
  /// What rendering a scene of these lines is refused with.
  std::string of(const std::string& text, const std::string& options = "") {
    folder.write("scene.yaml", text);
    return refused("render scene.yaml -o a.png --size 32x20 " + options);
  }
  const std::string cells =
      "materials: {stone: {base: \"#888888\"}}\n"
      "room:\n  solids:\n    - cells:\n        cell_size: 0.1\n        legend: {\"#\": stone, "
      "\".\": empty}\n"
      "        map: |\n          ###\n          #.#\n          ###\n";
};

TEST_F(Messages, OfRenderingHaveTheLineOfTheValue) {
  EXPECT_THAT(of(cells + "camera: {eye: [0.15, 0.15, 9]}\n"),
              StartsWith("scene.yaml:11:15: camera.eye: height 9 is not between"));
  EXPECT_THAT(of(cells + "camera:\n  eye: [9000000, 1.5, 1]\n"),
              StartsWith("scene.yaml:12:8: camera.eye: lanes may run"));
  EXPECT_THAT(of(cells + "camera: {eye: [0.15, 0.15, 1]}\nbudget:\n  far_limit: 1e6\n"),
              StartsWith("scene.yaml:13:14: far_limit: lanes may run"));
  // What an option set does not stand in the file.
  EXPECT_THAT(of(cells + "camera: {eye: [0.15, 0.15, 1]}\n", "--set camera.eye=[0.15,0.15,9]"),
              StartsWith("scene.yaml: camera.eye: height 9"));
  EXPECT_THAT(of(cells + "camera: {eye: [0.15, 0.15, 1]}\n", "--set far_limit=1e6"),
              StartsWith("scene.yaml: far_limit: lanes"));
}

TEST_F(Messages, OfViewsHaveTheLineOfTheView) {
  const std::string views =
      "views:\n  - {width: 0.5}\n  - {left: 0.5, width: 0.5, camera: {eye: [0.15, 0.15, 9]}}\n";
  EXPECT_THAT(of(cells + views), StartsWith("scene.yaml:13:5: view 2: camera.eye: height 9"));
  EXPECT_THAT(of(cells + "views:\n  - {left: 0.7, width: 0.5}\n"),
              StartsWith("scene.yaml:12:5: view 1: 16x20 pixels at"));
}

TEST_F(Messages, OfFieldsAndSwellsHaveTheirLine) {
  EXPECT_THAT(
      of("room:\n  solids:\n    - field:\n        around: {count: 100, of: {sphere: {}}}\n"),
      StartsWith("scene.yaml:4:17: around: 100 copies that reach into one another"));
  EXPECT_THAT(of("room:\n  solids: [{field: {sphere: {}}}]\n  swells:\n    - {at: [5, 0, 0]}\n"
                 "    - {at: [6, 0, 0]}\n"),
              StartsWith("scene.yaml:5:7: swells 1 and 2 of a room reach into one another"));
}

TEST_F(Messages, HintOnlyAtWordsThatAreThere) {
  EXPECT_THAT(of("\"\": 1\n"), Not(HasSubstr("did you mean ?")));
  EXPECT_THAT(of("a: 1\n"), Not(HasSubstr("did you mean ?")));
  // Of a range without a count, what is missing.
  folder.write("scene.yaml", cells);
  EXPECT_THAT(refused("sweep scene.yaml -o out --vary far_limit=1..4"),
              HasSubstr("expected how many values too: 1..4/COUNT"));
  folder.write("plane.yaml", "plane: {}\n");
  EXPECT_THAT(refused("zoom plane.yaml -o frames --to -0.75,0.1 --width 1e-9 --frames 3"),
              HasSubstr("--to: center: the real part has 2 decimal places"));
}

TEST_F(Messages, SweepsOfPlanesTellWhatTheyAreMeasuredBy) {
  folder.write("plane.yaml", "plane: {}\n");
  const test::Outcome outcome =
      tool("sweep plane.yaml --size 16x10 --repeats 1 --vary plane.iterations=10,20 -o out");
  EXPECT_EQ(outcome.code, 0) << outcome.errors;
  EXPECT_THAT(outcome.output, HasSubstr("the base with plane.iterations="));
  EXPECT_THAT(outcome.output, Not(HasSubstr("cells.method")));
}

}  // namespace
}  // namespace photonlane
