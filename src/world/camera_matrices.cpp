#include "photonlane/world/camera_matrices.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <cmath>

#include "world/camera_axes.hpp"

namespace photonlane {
namespace {

using Mat4d = Eigen::Matrix4d;

Mat4d matrix(const std::array<double, 16>& numbers, MatrixOrder order) {
  for (const double number : numbers) {
    if (!std::isfinite(number)) {
      throw Error(ErrorKind::input, "a matrix with a number that is not finite");
    }
  }
  using Rows = Eigen::Matrix<double, 4, 4, Eigen::RowMajor>;
  const Mat4d read = Eigen::Map<const Rows>(numbers.data());
  return order == MatrixOrder::rows ? read : Mat4d(read.transpose());
}

/// From their world to ours, but for the unit.
Mat3d axes(WorldAxes world) {
  Mat3d turn = Mat3d::Identity();
  switch (world) {
    case WorldAxes::z_up:
      break;
    case WorldAxes::y_up:
      turn << 1, 0, 0, 0, 0, -1, 0, 1, 0;
      break;
    case WorldAxes::z_up_left_handed:
      turn << 1, 0, 0, 0, -1, 0, 0, 0, 1;
      break;
    case WorldAxes::y_up_left_handed:
      turn << 1, 0, 0, 0, 0, 1, 0, 1, 0;
      break;
  }
  return turn;
}

/// What makes clip coordinates of a place of ours in meters, and the parts of it.
struct Clip {
  Mat4d all;
  Vec3d forward;     ///< of unit length
  double along = 1;  ///< w for a meter along it
  Vec3d eye{0, 0, 0};
};

Clip clip_of(const CameraMatrices& theirs) {
  validate_knobs(camera_matrices_knobs(), theirs);
  const Mat4d projection = matrix(theirs.projection, theirs.order);
  const Mat4d view = matrix(theirs.view, theirs.order);
  Mat4d from_ours = Mat4d::Identity();
  from_ours.topLeftCorner<3, 3>() = axes(theirs.world).transpose() / theirs.unit;
  Clip clip;
  clip.all = projection * view * from_ours;
  const auto row = [&](int which) { return Vec3d(clip.all.block<1, 3>(which, 0).transpose()); };
  clip.along = row(3).norm();
  // What is no perspective has a w that is everywhere the same.
  const double largest = clip.all.cwiseAbs().maxCoeff();
  if (!(clip.along > 1e-12 * largest)) {
    throw Error(ErrorKind::input,
                "matrices that are no perspective, expected w to grow along the view axis (is the "
                "order of their numbers the other one?)");
  }
  clip.forward = row(3) / clip.along;
  Mat3d three;
  three << row(0).transpose(), row(1).transpose(), row(3).transpose();
  const Eigen::FullPivLU<Mat3d> solver(three);
  if (solver.rcond() < 1e-12) {
    throw Error(ErrorKind::input,
                "matrices that flatten the picture, expected ones with an inverse");
  }
  clip.eye = solver.solve(-Vec3d(clip.all(0, 3), clip.all(1, 3), clip.all(3, 3)));
  return clip;
}

}  // namespace

std::span<const Knob<CameraMatrices>> camera_matrices_knobs() {
  static const Knob<CameraMatrices> table[] = {
      knob<&CameraMatrices::order>("order", "", {},
                                   "how the 16 numbers make a matrix that stands left of points: "
                                   "row after row, or column after column"),
      knob<&CameraMatrices::clip_y>("clip_y", "", {}, "where y of the projected picture grows to"),
      knob<&CameraMatrices::clip_depth>(
          "clip_depth", "", {},
          "between which numbers the projection puts what it does not clip away"),
      knob<&CameraMatrices::world>("world", "", {},
                                   "which axis of their world leads upward, and whether it is "
                                   "left-handed"),
      knob<&CameraMatrices::unit>("unit", "meters", {1e-9, 1e9}, "meters for 1 of their world"),
  };
  return table;
}

Vec3d from_world(const CameraMatrices& theirs, const Vec3d& place) {
  return axes(theirs.world) * place * theirs.unit;
}

Vec3d to_world(const CameraMatrices& theirs, const Vec3d& place) {
  return axes(theirs.world).transpose() * place / theirs.unit;
}

Camera camera_of(const CameraMatrices& theirs, Size size) {
  const Clip clip = clip_of(theirs);
  const double up_sign = theirs.clip_y == ClipY::up ? 1 : -1;
  const Vec3d across = clip.all.block<1, 3>(0, 0).transpose() / clip.along;
  const Vec3d upward = up_sign * clip.all.block<1, 3>(1, 0).transpose() / clip.along;
  const double shift_x = across.dot(clip.forward);
  const double shift_y = upward.dot(clip.forward);
  const Vec3d right = across - shift_x * clip.forward;
  const Vec3d up = upward - shift_y * clip.forward;
  const double wide = right.norm();
  const double high = up.norm();
  if (!(wide > 0) || !(high > 0)) {
    throw Error(ErrorKind::input,
                "matrices that flatten the picture, expected ones with an inverse");
  }
  if (std::abs(right.dot(up)) > 1e-6 * wide * high) {
    throw Error(ErrorKind::input, "matrices that shear the picture, expected upright pixels");
  }
  if (right.cross(clip.forward).dot(up) < 0) {
    throw Error(ErrorKind::input,
                "matrices that mirror the picture: is clip_y the other one, or the world "
                "left-handed?");
  }
  Camera camera{.eye = clip.eye};
  turn_camera(clip.forward, up / high, camera);
  const double focal_x = 0.5 * wide * size.width;
  const double focal_y = 0.5 * high * size.height;
  camera.field_axis = FieldAxis::vertical;
  camera.field_of_view = 2 * std::atan2(0.5 * size.height, focal_y);
  camera.pixel_aspect = focal_y / focal_x;
  if (std::abs(camera.pixel_aspect - 1) < 1e-12) camera.pixel_aspect = 1;
  camera.shift_x = 0.5 * shift_x;
  camera.shift_y = 0.5 * shift_y;
  viewing(camera, size);
  return camera;
}

BufferDepth buffer_depth(const CameraMatrices& theirs) {
  const Clip clip = clip_of(theirs);
  const Vec3d row = clip.all.block<1, 3>(2, 0);
  // Along the axis: (a w + b) / w, in clip coordinates.
  const double a = row.dot(clip.forward) / clip.along;
  const double b = (row.dot(clip.eye) + clip.all(2, 3)) / clip.along;
  const double across = (row - row.dot(clip.forward) * clip.forward).norm();
  if (across > 1e-6 * clip.along || b == 0) {
    throw Error(ErrorKind::input,
                "a projection whose depth is not that of the view axis alone, expected one for "
                "depth buffers");
  }
  if (theirs.clip_depth == ClipDepth::zero_to_one) return {a, b};
  return {0.5 * a + 0.5, 0.5 * b};
}

}  // namespace photonlane
