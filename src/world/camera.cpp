#include "photonlane/world/camera.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <cmath>

#include "photonlane/base/trigonometry.hpp"
#include "world/camera_axes.hpp"

namespace photonlane {
namespace {

double tangent(double angle) {
  const auto [sine, cosine] = sine_cosine(angle);
  return sine / cosine;
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
      knob<&Camera::shift_x>("shift_x", "", {-4, 4},
                             "how far the view axis lies right of the frame's middle, as a share "
                             "of its width"),
      knob<&Camera::shift_y>("shift_y", "", {-4, 4},
                             "how far the view axis lies above the frame's middle, as a share of "
                             "its height"),
      knob<&Camera::pixel_aspect>("pixel_aspect", "", {0.01, 100},
                                  "width of a pixel over its height"),
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

Vec3d Viewing::ray(double u, double v) const {
  const auto [sine, cosine] = planar ? SineCosine{u, 1} : sine_cosine(u);
  return (forward * cosine + right * sine + up * v).normalized();
}

}  // namespace photonlane
