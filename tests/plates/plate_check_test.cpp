// Plates of which something is said that does not fit: what check finds.

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "photonlane/photonlane.hpp"
#include "support/plates.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

TEST(PlateCheck, FindsWrongConventions) {
  // Yards seen by cameras at random, their depth written one way and said to be another.
  int found = 0;
  int tried = 0;
  for (std::uint64_t seed = 1; seed <= 100; ++seed) {
    const auto random = [&](std::uint64_t n, double low, double high) {
      return low + (high - low) * random_uniform({.seed = seed}, n);
    };
    const Camera camera{.eye = {random(0, -2, 2), random(1, -6, -3), random(2, 1, 3)},
                        .heading = degrees(random(3, 70, 110)),
                        .pitch = degrees(random(4, -25, -8)),
                        .field_of_view = degrees(random(5, 40, 80))};
    const Size size{80, 50};
    const Frame frame = render(compile(yard(true)), camera, {.frame = {80, 50, 1}},
                               {.layers = {Layer::depth, Layer::ending}});
    const Viewing seen = viewing(camera, size);
    const PlateDepth ways[] = {
        {.kind = DepthKind::axis},
        {.kind = DepthKind::ray},
        {.kind = DepthKind::axis, .unit = 0.01},
        {.kind = DepthKind::buffer, .farthest = 500},
        {.kind = DepthKind::buffer, .farthest = 500, .range = BufferRange::one_to_zero},
        {.kind = DepthKind::buffer, .farthest = 500, .range = BufferRange::minus_one_to_one}};
    const std::size_t is = static_cast<std::size_t>(random(6, 0, 6));
    std::size_t said = static_cast<std::size_t>(random(7, 0, 5));
    if (said >= is) ++said;
    Pixels pixels(size);
    std::vector<PlateMark> marks;
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
        const bool met =
            frame.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::hit);
        const double distance = met ? static_cast<double>(frame.values(Layer::depth)(x, y))
                                    : std::numeric_limits<double>::infinity();
        pixels.depth[pixels.at(x, y)] =
            static_cast<float>(plate_number(ways[is], distance, way.norm()));
        if (met && (x * 7 + y * 13) % 97 == 0) {
          marks.push_back({x + 0.5, y + 0.5, camera.eye + distance * way});
        }
      }
    }
    ASSERT_GE(marks.size(), 8u);
    Plate plate = pixels.plate(camera);
    plate.means = ways[is];
    const bool by_marks = seed % 2 == 0;
    if (by_marks) {
      plate.marks = marks;
    } else {
      plate.ground = 0;
    }
    // As it is, nothing is wrong.
    EXPECT_THAT(find_plate_faults(plate), ::testing::IsEmpty()) << seed;
    plate.means = ways[said];
    // Distances along the axis and along rays differ where the view is wide.
    const std::vector<std::string> faults = find_plate_faults(plate);
    ++tried;
    if (faults.empty()) continue;
    const PlateDepth& right = ways[is];
    const std::string wanted = right.kind == DepthKind::axis ? "along the view axis"
                               : right.kind == DepthKind::ray
                                   ? "along the ray"
                                   : fmt::format("buffer of {}", name_of(right.range));
    found += faults.front().find("looks like") != std::string::npos &&
             faults.front().find(wanted) != std::string::npos;
  }
  EXPECT_GE(found, 95) << "of " << tried;
}

TEST(PlateCheck, FindsPicturesThatAreUpsideDown) {
  PlateYard yard_plate;
  Plate plate = yard_plate.pixels.plate(yard_camera);
  const Viewing seen = viewing(yard_camera, {160, 100});
  for (const auto& [x, y] : {std::pair(20, 80), std::pair(90, 70), std::pair(130, 95)}) {
    const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
    const auto depth = static_cast<double>(plate.depth.at(x, y));
    plate.marks.push_back({x + 0.5, y + 0.5, yard_camera.eye + depth * way});
  }
  EXPECT_THAT(find_plate_faults(plate), ::testing::IsEmpty());
  Plate turned = plate;
  turned.depth.values += 160 * 99;
  turned.depth.down = -160;
  ASSERT_EQ(find_plate_faults(turned).size(), 1u);
  EXPECT_THAT(find_plate_faults(turned).front(), HasSubstr("rows from below"));
  Plate marked = plate;
  for (PlateMark& mark : marked.marks) mark.y = 100 - mark.y;
  ASSERT_FALSE(find_plate_faults(marked).empty());
  EXPECT_THAT(find_plate_faults(marked).front(), HasSubstr("with rows from below"));
  Plate elsewhere = plate;
  elsewhere.camera.heading += degrees(3);
  ASSERT_FALSE(find_plate_faults(elsewhere).empty());
  EXPECT_THAT(find_plate_faults(elsewhere).front(), HasSubstr("pixels off"));
}

}  // namespace
}  // namespace photonlane
