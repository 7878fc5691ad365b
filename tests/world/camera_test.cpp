#include "photonlane/world/camera.hpp"

#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

double angle_of(const Viewing::Direction& direction) {
  return std::atan2(direction.y, direction.x);
}

TEST(Camera, TheMiddleOfTheFrameLooksAlongTheHeading) {
  for (const Projection projection : {Projection::planar, Projection::cylindrical}) {
    for (int heading = -170; heading <= 180; heading += 10) {
      const Camera camera{.heading = degrees(heading), .projection = projection};
      const Viewing view = viewing(camera, {640, 400});
      EXPECT_NEAR(angle_of(view.direction(view.u(320))), degrees(heading), 1e-12);
      EXPECT_NEAR(view.v(200), 0, 1e-12);
    }
  }
}

TEST(Camera, RightOfTheFrameIsClockwise) {
  const Viewing view = viewing(Camera{.heading = degrees(90)}, {640, 400});
  EXPECT_GT(view.direction(view.u(639)).x, 0);
  EXPECT_LT(view.direction(view.u(1)).x, 0);
}

TEST(Camera, TheFieldOfViewFillsTheSideItIsMeasuredAlong) {
  for (const double field : {1.0, 35.0, 90.0, 140.0, 179.0}) {
    Camera camera{.field_of_view = degrees(field)};
    const Viewing vertical = viewing(camera, {640, 400});
    EXPECT_NEAR(std::atan(vertical.v(0)) - std::atan(vertical.v(400)), degrees(field), 1e-9);
    camera.field_axis = FieldAxis::horizontal;
    const Viewing horizontal = viewing(camera, {640, 400});
    const double left = angle_of(horizontal.direction(horizontal.u(0)));
    const double right = angle_of(horizontal.direction(horizontal.u(640)));
    EXPECT_NEAR(left - right, degrees(field), 1e-9);
    // Pixels stay square: one focal length serves both sides.
    EXPECT_NEAR(horizontal.u(1) - horizontal.u(0), horizontal.v(0) - horizontal.v(1), 1e-12);
  }
}

TEST(Camera, CylindricalColumnsAreEqualAngles) {
  const Camera camera{.field_of_view = degrees(360),
                      .field_axis = FieldAxis::horizontal,
                      .projection = Projection::cylindrical};
  const Viewing view = viewing(camera, {720, 300});
  for (int x = 0; x < 720; ++x) {
    const Viewing::Direction direction = view.direction(view.u(x + 0.5));
    const double expected = std::remainder(degrees(179.75 - 0.5 * x), 2 * pi);
    EXPECT_NEAR(std::remainder(angle_of(direction) - expected, 2 * pi), 0, 1e-12);
    EXPECT_NEAR(direction.axis, std::cos(expected), 1e-12);
    EXPECT_EQ(direction.length, 1);
  }
}

TEST(Camera, DirectionsAreUnitLengthAndScaleToTheViewAxis) {
  const Camera camera{.heading = 0.7, .field_of_view = degrees(110)};
  const Viewing view = viewing(camera, {500, 300});
  for (int x = 0; x <= 500; x += 20) {
    const Viewing::Direction direction = view.direction(view.u(x));
    EXPECT_NEAR(std::hypot(direction.x, direction.y), 1, 1e-14);
    const double along = direction.x * view.forward.x() + direction.y * view.forward.y();
    EXPECT_NEAR(along * direction.length, direction.axis, 1e-13);
  }
}

TEST(Camera, RefusesFieldsOfViewThatCannotBeShown) {
  const auto refused = [](Camera camera, Size size) {
    try {
      viewing(camera, size);
      return false;
    } catch (const Error& error) {
      return error.kind() == ErrorKind::input;
    }
  };
  for (const Projection projection : {Projection::planar, Projection::cylindrical}) {
    for (const double field : {0.0, -10.0, 180.0, 200.0, std::nan("")}) {
      EXPECT_TRUE(refused({.field_of_view = degrees(field), .projection = projection}, {64, 40}));
    }
  }
  Camera round{.field_of_view = degrees(360),
               .field_axis = FieldAxis::horizontal,
               .projection = Projection::cylindrical};
  EXPECT_FALSE(refused(round, {64, 40}));
  round.field_of_view = degrees(361);
  EXPECT_TRUE(refused(round, {64, 40}));
  // A vertical field on a very wide frame would go round more than once.
  EXPECT_TRUE(
      refused({.field_of_view = degrees(60), .projection = Projection::cylindrical}, {6400, 400}));
  Camera lost;
  lost.eye.x() = std::numeric_limits<double>::infinity();
  EXPECT_TRUE(refused(lost, {64, 40}));
}

}  // namespace
}  // namespace photonlane
