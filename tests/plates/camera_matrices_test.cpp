// Cameras of other programs, by their two matrices: each is what projecting places by those
// matrices says.

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <Eigen/Geometry>

#include "photonlane/photonlane.hpp"

namespace photonlane {
namespace {

using Mat4d = Eigen::Matrix4d;

/// A camera drawn at random, and how a program with conventions of its own would write it down.
struct Drawn {
  Camera camera;
  CameraMatrices theirs;
  double near = 0.1, far = 0;  // 0: at infinity
  bool reversed = false;
};

/// Their world's axes in ours, written out.
Vec3d ours(WorldAxes world, const Vec3d& p) {
  switch (world) {
    case WorldAxes::y_up:
      return {p.x(), -p.z(), p.y()};
    case WorldAxes::z_up_left_handed:
      return {p.x(), -p.y(), p.z()};
    case WorldAxes::y_up_left_handed:
      return {p.x(), p.z(), p.y()};
    case WorldAxes::z_up:
      break;
  }
  return p;
}

void put(const Mat4d& matrix, MatrixOrder order, std::array<double, 16>& numbers) {
  for (int row = 0; row < 4; ++row) {
    for (int column = 0; column < 4; ++column) {
      numbers[static_cast<std::size_t>(
          order == MatrixOrder::rows ? 4 * row + column : 4 * column + row)] = matrix(row, column);
    }
  }
}

/// View space looks along +z or -z, as programs have it.
Drawn draw(std::uint64_t seed, Size size) {
  std::uint64_t at = 0;
  const auto random = [&](double low, double high) {
    return low + (high - low) * random_uniform({.seed = seed}, at++);
  };
  const auto pick = [&](int count) { return static_cast<int>(random(0, count)); };
  Drawn drawn;
  Camera& camera = drawn.camera;
  const double far_out = pick(3) == 0 ? 1e5 : 10;
  camera.eye = {random(-far_out, far_out), random(-far_out, far_out), random(-3, 30)};
  camera.heading = random(-3.1, 3.1);
  camera.pitch = random(-1.5, 1.5);
  camera.roll = pick(2) == 0 ? 0 : random(-3.1, 3.1);
  camera.field_of_view = random(0.1, 2.6);
  camera.shift_x = pick(2) == 0 ? 0 : random(-0.7, 0.7);
  camera.shift_y = pick(2) == 0 ? 0 : random(-0.7, 0.7);
  camera.pixel_aspect = pick(2) == 0 ? 1 : random(0.5, 2);
  CameraMatrices& theirs = drawn.theirs;
  theirs.order = static_cast<MatrixOrder>(pick(2));
  theirs.clip_y = static_cast<ClipY>(pick(2));
  theirs.clip_depth = static_cast<ClipDepth>(pick(2));
  theirs.world = static_cast<WorldAxes>(pick(4));
  theirs.unit = pick(2) == 0 ? 1 : random(0.001, 10);
  drawn.near = random(0.01, 2);
  drawn.far = pick(2) == 0 ? 0 : drawn.near * random(2, 1e4);
  drawn.reversed = pick(2) == 0;

  // Their view space has x to the right, y up, and z ahead or behind; lengths in their unit.
  const double ahead = pick(2) == 0 ? 1 : -1;
  const Viewing seen = viewing(camera, size);
  Mat3d turn;
  turn << seen.right.transpose(), seen.up.transpose(), ahead * seen.forward.transpose();
  Mat3d world;
  for (int axis = 0; axis < 3; ++axis) world.col(axis) = ours(theirs.world, Vec3d::Unit(axis));
  Mat4d view = Mat4d::Identity();
  view.topLeftCorner<3, 3>() = turn * world;
  view.topRightCorner<3, 1>() = -turn * camera.eye / theirs.unit;
  // Clip coordinates, from the definition of what a pixel shows.
  const double n = drawn.near / theirs.unit;
  const double f = drawn.far / theirs.unit;
  const double low = theirs.clip_depth == ClipDepth::zero_to_one ? 0 : -1;
  const double at_near = drawn.reversed ? 1 : low;
  const double at_far = drawn.reversed ? low : 1;
  // value = a + b / distance, at the near plane and at the far one.
  const double over_far = drawn.far > 0 ? 1 / f : 0;
  const double b = (at_near - at_far) / (1 / n - over_far);
  const double a = at_far - b * over_far;
  const double up = theirs.clip_y == ClipY::up ? 1 : -1;
  Mat4d projection = Mat4d::Zero();
  projection(0, 0) = 2 * seen.focal / size.width;
  projection(0, 2) = ahead * (2 * seen.center_x / size.width - 1);
  projection(1, 1) = up * 2 * seen.focal_y / size.height;
  projection(1, 2) = up * ahead * (1 - 2 * seen.center_y / size.height);
  projection(2, 2) = ahead * a;
  projection(2, 3) = b;
  projection(3, 2) = ahead;
  // Clip coordinates mean the same times any number.
  projection *= pick(2) == 0 ? 1 : random(0.1, 10);
  put(projection, theirs.order, theirs.projection);
  put(view, theirs.order, theirs.view);
  return drawn;
}

Mat4d matrix_of(const std::array<double, 16>& numbers, MatrixOrder order) {
  Mat4d matrix;
  for (int row = 0; row < 4; ++row) {
    for (int column = 0; column < 4; ++column) {
      matrix(row, column) = numbers[static_cast<std::size_t>(
          order == MatrixOrder::rows ? 4 * row + column : 4 * column + row)];
    }
  }
  return matrix;
}

TEST(CameraMatrices, ShowEveryPlaceWhereProjectingItDoes) {
  const Size size{640, 360};
  for (std::uint64_t seed = 1; seed <= 400; ++seed) {
    const Drawn drawn = draw(seed, size);
    const Camera camera = camera_of(drawn.theirs, size);
    const Viewing seen = viewing(camera, size);
    const Mat4d projection = matrix_of(drawn.theirs.projection, drawn.theirs.order);
    const Mat4d view = matrix_of(drawn.theirs.view, drawn.theirs.order);
    EXPECT_LT((camera.eye - drawn.camera.eye).norm(), 1e-6 * (1 + drawn.camera.eye.norm())) << seed;
    const BufferDepth buffer = buffer_depth(drawn.theirs);
    for (std::uint64_t k = 0; k < 8; ++k) {
      const auto random = [&](std::uint64_t n) {
        return random_uniform({.seed = seed, .pixel = k + 1}, n);
      };
      // A place before the camera, through their matrices to a pixel.
      const double distance = drawn.near * (1 + 40 * random(0));
      const double u = 2 * random(1) - 1;
      const double v = 2 * random(2) - 1;
      const Viewing exact = viewing(drawn.camera, size);
      const Vec3d place =
          drawn.camera.eye + distance * (exact.forward + u * exact.right + v * exact.up);
      const Vec3d theirs = to_world(drawn.theirs, place);
      EXPECT_LT((from_world(drawn.theirs, theirs) - place).norm(), 1e-9 * (1 + place.norm()));
      EXPECT_LT((ours(drawn.theirs.world, theirs) * drawn.theirs.unit - place).norm(),
                1e-9 * (1 + place.norm()));
      const Eigen::Vector4d clip =
          projection * view * Eigen::Vector4d(theirs.x(), theirs.y(), theirs.z(), 1);
      const double up = drawn.theirs.clip_y == ClipY::up ? 1 : -1;
      const double px = 0.5 * (1 + clip.x() / clip.w()) * size.width;
      const double py = 0.5 * (1 - up * clip.y() / clip.w()) * size.height;
      // The camera's lane through that pixel, as far along its axis, is there.
      const Vec3d way = seen.forward + seen.u(px) * seen.right + seen.v(py) * seen.up;
      EXPECT_LT((camera.eye + distance * way - place).norm(), 1e-5 * distance) << seed;
      // And the depth buffer says how far that is.
      double value = clip.z() / clip.w();
      if (drawn.theirs.clip_depth == ClipDepth::minus_one_to_one) value = 0.5 + 0.5 * value;
      EXPECT_NEAR(buffer.b / (value - buffer.a), distance, 1e-5 * distance) << seed;
    }
  }
}

TEST(CameraMatrices, LookStraightDownAndUp) {
  for (const double pitch : {-90.0, 90.0}) {
    for (const double heading : {0.0, 70.0, -130.0}) {
      Camera camera{.eye = {1, 2, 3}, .heading = degrees(heading), .pitch = degrees(pitch)};
      camera.roll = degrees(20);
      const Viewing seen = viewing(camera, {64, 48});
      Mat4d view = Mat4d::Identity();
      Mat3d turn;
      turn << seen.right.transpose(), seen.up.transpose(), seen.forward.transpose();
      view.topLeftCorner<3, 3>() = turn;
      view.topRightCorner<3, 1>() = -turn * camera.eye;
      Mat4d projection = Mat4d::Zero();
      projection(0, 0) = 2 * seen.focal / 64;
      projection(1, 1) = 2 * seen.focal_y / 48;
      projection(2, 3) = 0.1;
      projection(3, 2) = 1;
      CameraMatrices theirs;
      put(projection, theirs.order, theirs.projection);
      put(view, theirs.order, theirs.view);
      const Viewing made = viewing(camera_of(theirs, {64, 48}), {64, 48});
      EXPECT_LT((made.forward - seen.forward).norm(), 1e-7);
      EXPECT_LT((made.right - seen.right).norm(), 1e-7) << pitch << " " << heading;
      EXPECT_LT((made.up - seen.up).norm(), 1e-7) << pitch << " " << heading;
    }
  }
}

TEST(CameraMatrices, RefuseWhatIsNoCamera) {
  using ::testing::HasSubstr;
  const auto message = [](const CameraMatrices& theirs) -> std::string {
    try {
      camera_of(theirs, {64, 48});
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  CameraMatrices good = draw(5, {64, 48}).theirs;
  ASSERT_EQ(message(good), "nothing");
  CameraMatrices zero;
  EXPECT_THAT(message(zero), HasSubstr("no perspective"));
  CameraMatrices level = good;
  level.projection = level.view = {1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1};
  EXPECT_THAT(message(level), HasSubstr("no perspective"));
  CameraMatrices nan = good;
  nan.view[3] = std::nan("");
  EXPECT_THAT(message(nan), HasSubstr("not finite"));
  CameraMatrices mirrored = good;
  mirrored.clip_y = good.clip_y == ClipY::up ? ClipY::down : ClipY::up;
  EXPECT_THAT(message(mirrored), HasSubstr("mirror"));
  CameraMatrices flat = good;
  for (int k = 0; k < 4; ++k) {
    flat.projection[static_cast<std::size_t>(good.order == MatrixOrder::rows ? k : 4 * k)] = 0;
  }
  EXPECT_THAT(message(flat), HasSubstr("flatten"));
}

TEST(Camera, ShiftsMoveTheAxisAndPixelsMayBeWide) {
  // What a shifted camera shows is a part of what a larger frame shows.
  const Camera plain{.eye = {0, -3, 1.4}, .heading = degrees(90), .pitch = degrees(-25)};
  Scene scene;
  const int red = static_cast<int>(material_of(scene.wall({.base = {0.8f, 0.2f, 0.1f}})));
  scene.room().add(field::sphere(0.8).made_of(red));
  scene.room().add(field::place({0.9, 0.5, 0.3}, field::box({0.6, 0.6, 0.9})).made_of(red));
  const World world = compile(scene);
  const Budget large{.frame = {120, 80, 1}};
  const Frame whole = render(world, plain, large, {.layers = {Layer::depth}});
  Camera part = plain;
  // The right upper quarter: half as high, so half the tangent, and the axis at its corner.
  part.field_of_view = 2 * std::atan(0.5 * std::tan(0.5 * plain.field_of_view));
  part.shift_x = -0.5;
  part.shift_y = -0.5;
  const Budget small{.frame = {60, 40, 1}};
  const Frame quarter = render(world, part, small, {.layers = {Layer::depth}});
  int met = 0;
  for (int y = 0; y < 40; ++y) {
    for (int x = 0; x < 60; ++x) {
      const float expected = whole.values(Layer::depth)(x + 60, y);
      const float found = quarter.values(Layer::depth)(x, y);
      if (!std::isfinite(expected) || expected > 100) continue;
      ++met;
      EXPECT_NEAR(found, expected, 1e-4f * expected) << x << " " << y;
    }
  }
  EXPECT_GT(met, 100);
  // Pixels twice as wide: every second column's middle is between two of the other's.
  Camera wide = plain;
  wide.pixel_aspect = 2;
  const Frame few = render(world, wide, {.frame = {60, 80, 1}}, {.layers = {Layer::depth}});
  for (int y = 0; y < 80; ++y) {
    const float left = whole.values(Layer::depth)(58, y);
    const float right = whole.values(Layer::depth)(59, y);
    if (!(left < 100 && right < 100)) continue;
    EXPECT_NEAR(few.values(Layer::depth)(29, y), 0.5f * (left + right), 2e-3f);
  }
}

}  // namespace
}  // namespace photonlane
