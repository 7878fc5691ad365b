#include "photonlane/world/camera.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>

#include "photonlane/base/trigonometry.hpp"
#include "world/camera_axes.hpp"

namespace photonlane {
namespace {

double tangent(double angle) {
  const auto [sine, cosine] = sine_cosine(angle);
  return sine / cosine;
}

/// How far from the axis a lens shows what is at a tangent r, and how that grows.
struct Distorted {
  double at, slope;
};
Distorted distorted(const Viewing& view, double r) {
  const double square = r * r;
  return {r * (1 + square * (view.k1 + square * view.k2)),
          1 + square * (3 * view.k1 + square * 5 * view.k2)};
}

/// Takes over a camera's distortion. What the picture shows has to be within the tangents at which
/// the lens shows every direction once.
void distort(const Camera& camera, Size size, Viewing& view) {
  view.k1 = camera.distortion_k1;
  view.k2 = camera.distortion_k2;
  if (view.straight()) return;
  if (!view.planar) {
    throw Error(ErrorKind::input,
                "camera.distortion_k1 and distortion_k2 are of planar cameras, expected 0 for a "
                "cylindrical one");
  }
  // The least square at which the slope 1 + 3 k1 s + 5 k2 s^2 is 0.
  const double half = 1.5 * view.k1;
  const double inside = half * half - 5 * view.k2;
  const double infinite = std::numeric_limits<double>::infinity();
  double square = infinite;
  if (inside >= 0) {
    const double below = -half + std::sqrt(inside);
    const double above = -half - std::sqrt(inside);
    // The roots of a quadratic by the form that does not cancel: 1 / (-half -+ root).
    for (const double inverse : {below, above}) {
      if (inverse > 0) square = std::min(square, 1 / inverse);
    }
  }
  view.farthest = std::sqrt(square);
  double corner = 0;
  for (const double x : {0.0, static_cast<double>(size.width)}) {
    for (const double y : {0.0, static_cast<double>(size.height)}) {
      corner = std::max(corner, std::hypot(view.u(x), view.v(y)));
    }
  }
  if (std::isfinite(view.farthest) && !(corner < distorted(view, view.farthest).at * (1 - 1e-9))) {
    throw Error(ErrorKind::input,
                fmt::format("camera.distortion_k1: {} and {} show nothing {:.4g} from the view "
                            "axis, where the frame's corners are; expected less distortion",
                            camera.distortion_k1, camera.distortion_k2, corner));
  }
}

}  // namespace

std::span<const Knob<Camera>> camera_knobs() {
  static const Knob<Camera> table[] = {
      knob<&Camera::eye>("eye", "meters", {-1e7, 1e7}, "where the eye is; z is its height"),
      knob<&Camera::heading>("heading", "degrees", {-36000, 36000},
                             "direction of view, counterclockwise from east (+x)", degrees(1)),
      knob<&Camera::pitch>("pitch", "degrees", {-90, 90},
                           "how far the view axis points above the horizon", degrees(1)),
      knob<&Camera::roll>("roll", "degrees", {-36000, 36000},
                          "how far the camera is tilted clockwise", degrees(1)),
      knob<&Camera::field_of_view>("field_of_view", "degrees", {0, 360, true},
                                   "angle seen along field_axis; below 180 where planar",
                                   degrees(1)),
      knob<&Camera::field_axis>("field_axis", "", {},
                                "the side of the frame the field of view is measured along"),
      knob<&Camera::projection>("projection", "", {},
                                "planar keeps straight walls straight, cylindrical gives every "
                                "column the same angle"),
      knob<&Camera::shift_x>("shift_x", "", {-1e6, 1e6},
                             "how far the view axis lies right of the frame's middle, as a share "
                             "of its width"),
      knob<&Camera::shift_y>("shift_y", "", {-1e6, 1e6},
                             "how far the view axis lies above the frame's middle, as a share of "
                             "its height"),
      knob<&Camera::pixel_aspect>("pixel_aspect", "", {0.01, 100},
                                  "width of a pixel over its height"),
      knob<&Camera::distortion_k1>(
          "distortion_k1", "", {-10, 10},
          "radial distortion of the lens: what lies at the tangent r from the view axis is seen at "
          "r (1 + k1 r^2 + k2 r^4)"),
      knob<&Camera::distortion_k2>("distortion_k2", "", {-10, 10}, "the same, of the fourth power"),
      knob<&Camera::room>("room", "", {}, "the room the eye is in, by name; empty: the first"),
  };
  return table;
}

Viewing viewing(const Camera& camera, Size size) {
  validate_knobs(camera_knobs(), camera);
  const bool planar = camera.projection == Projection::planar;
  const bool vertical = camera.field_axis == FieldAxis::vertical;
  const double field = camera.field_of_view;
  if ((planar || vertical) && field >= pi * (1 - 1e-9)) {
    throw Error(
        ErrorKind::input,
        fmt::format("camera.field_of_view: found {:.6g} degrees, expected less than 180 "
                    "for a {} field of view in {} projection",
                    field / degrees(1), name_of(camera.field_axis), name_of(camera.projection)));
  }
  Viewing view;
  view.planar = planar;
  view.center_x = 0.5 * size.width;
  view.center_y = 0.5 * size.height;
  if (vertical) {
    view.focal_y = view.center_y / tangent(field / 2);
    view.focal = view.focal_y / camera.pixel_aspect;
  } else {
    view.focal = planar ? view.center_x / tangent(field / 2) : size.width / field;
    view.focal_y = view.focal * camera.pixel_aspect;
  }
  view.center_x += camera.shift_x * size.width;
  view.center_y -= camera.shift_y * size.height;
  if (!planar && size.width / view.focal > 2 * pi * (1 + 1e-9)) {
    throw Error(ErrorKind::input,
                fmt::format("camera.field_of_view: a frame of {}x{} pixels would show {:.6g} "
                            "degrees across, expected at most 360",
                            size.width, size.height, size.width / view.focal / degrees(1)));
  }
  distort(camera, size, view);
  const auto [sine, cosine] = sine_cosine(camera.heading);
  const auto [pitch_sine, pitch_cosine] = sine_cosine(camera.pitch);
  const auto [roll_sine, roll_cosine] = sine_cosine(camera.roll);
  const Vec3d ahead(cosine, sine, 0);
  const Vec3d aside(sine, -cosine, 0);
  const Vec3d above(0, 0, 1);
  view.forward = ahead * pitch_cosine + above * pitch_sine;
  const Vec3d upright = above * pitch_cosine - ahead * pitch_sine;
  view.right = aside * roll_cosine - upright * roll_sine;
  view.up = upright * roll_cosine + aside * roll_sine;
  return view;
}

void turn_camera(const Vec3d& forward, const Vec3d& up, Camera& camera) {
  const double level = std::hypot(forward.x(), forward.y());
  camera.pitch = std::atan2(forward.z(), level);
  // Straight up or down the heading is that of the picture's upper edge.
  const bool steep = level < 1e-9;
  const Vec3d ahead = steep ? Vec3d(up * (forward.z() > 0 ? -1 : 1)) : forward;
  camera.heading = std::atan2(ahead.y(), ahead.x());
  camera.roll = 0;
  if (steep) return;
  const Vec3d aside(std::sin(camera.heading), -std::cos(camera.heading), 0);
  const Vec3d upright = aside.cross(forward);
  camera.roll = std::atan2(up.dot(aside), up.dot(upright));
}

Camera Camera::look_at(const Vec3d& eye, const Vec3d& target, double field_of_view) {
  const Vec3d way = target - eye;
  const double across = std::hypot(way.x(), way.y());
  Camera camera{.eye = eye, .field_of_view = field_of_view};
  camera.heading = across == 0 ? 0 : std::atan2(way.y(), way.x());
  camera.pitch = way.z() == 0 ? 0 : std::atan2(way.z(), across);
  return camera;
}

Viewing::Direction Viewing::direction(double u) const {
  if (planar) {
    const double length = std::sqrt(1 + u * u);
    return {(forward.x() + u * right.x()) / length, (forward.y() + u * right.y()) / length, length,
            1};
  }
  const auto [sine, cosine] = sine_cosine(u);
  return {cosine * forward.x() + sine * right.x(), cosine * forward.y() + sine * right.y(), 1,
          cosine};
}

Vec2d Viewing::straightened(double u, double v) const {
  const double seen = std::hypot(u, v);
  if (straight() || seen == 0) return {u, v};
  // Newton's method between a tangent that is seen nearer and one that is seen farther out.
  double low = 0;
  double high = farthest;
  if (!std::isfinite(high)) {
    for (high = seen; distorted(*this, high).at < seen; high *= 2) {
    }
  }
  double r = std::min(seen, high);
  for (int round = 0; round < 100; ++round) {
    const Distorted here = distorted(*this, r);
    (here.at < seen ? low : high) = r;
    double next = r - (here.at - seen) / here.slope;
    if (!(next > low && next < high)) next = 0.5 * (low + high);
    if (std::abs(next - r) <= 1e-15 * r) break;
    r = next;
  }
  return {u * (r / seen), v * (r / seen)};
}

std::optional<Vec2d> Viewing::pixel(const Vec3d& way) const {
  const double ahead = way.dot(forward);
  const double aside = way.dot(right);
  const double above = way.dot(up);
  if (!planar) {
    const double level = std::hypot(ahead, aside);
    if (!(level > 0)) return std::nullopt;
    return Vec2d(center_x + focal * std::atan2(aside, ahead), center_y - focal_y * above / level);
  }
  if (!(ahead > 0)) return std::nullopt;
  double u = aside / ahead;
  double v = above / ahead;
  if (!straight()) {
    const double r = std::hypot(u, v);
    if (!(r < farthest)) return std::nullopt;
    const double factor = r > 0 ? distorted(*this, r).at / r : 1;
    u *= factor;
    v *= factor;
  }
  return Vec2d(center_x + focal * u, center_y - focal_y * v);
}

Camera part_camera(const Camera& camera, Size size, const PixelPart& part) {
  const Viewing view = viewing(camera, size);
  Camera result = camera;
  const auto [width, height] = part.size;
  const double middle_x = view.center_x - part.x;
  const double middle_y = view.center_y - part.y;
  if (camera.field_axis == FieldAxis::vertical) {
    result.field_of_view = 2 * std::atan(0.5 * height / view.focal_y);
  } else {
    result.field_of_view =
        view.planar ? 2 * std::atan(0.5 * width / view.focal) : width / view.focal;
  }
  result.shift_x = middle_x / width - 0.5;
  result.shift_y = 0.5 - middle_y / height;
  viewing(result, part.size);
  return result;
}

Vec3d Viewing::ray(double u, double v) const {
  if (!straight()) {
    const Vec2d at = straightened(u, v);
    return (forward + right * at.x() + up * at.y()).normalized();
  }
  const auto [sine, cosine] = planar ? SineCosine{u, 1} : sine_cosine(u);
  return (forward * cosine + right * sine + up * v).normalized();
}

}  // namespace photonlane
