#pragma once

///   Camera camera = Camera::look_at({0, -4, 1.6}, {0, 0, 1}, degrees(50));
///   camera.projection = Projection::cylindrical;

#include <limits>
#include <optional>
#include <span>
#include <string>

#include "photonlane/base/knob.hpp"
#include "photonlane/fractal/escape_plane.hpp"

namespace photonlane {

/// Along which side of the frame the field of view is measured.
enum class FieldAxis { vertical, horizontal };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<FieldAxis>{"vertical", "horizontal"};

/// How directions become columns: planar keeps straight walls straight, cylindrical gives every
/// column the same angle.
enum class Projection { planar, cylindrical };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<Projection>{"planar", "cylindrical"};

/// Where a frame is seen from. Heading counts counterclockwise seen from above: 0 looks along +x
/// (east), a quarter turn along +y (north). Pitch looks up, roll tilts the camera clockwise.
struct Camera {
  Vec3d eye{0, 0, 1.6};                ///< meters; z is the height of the eye above the floor
  double heading = 0;                  ///< radians
  double pitch = 0;                    ///< radians, above the horizon
  double roll = 0;                     ///< radians
  double field_of_view = degrees(50);  ///< radians, along `field_axis`
  FieldAxis field_axis = FieldAxis::vertical;
  Projection projection = Projection::planar;
  /// The view axis lies so far right of and above the middle of the frame, as shares of its width
  /// and height; angles of the field of view are those of a frame that is not shifted.
  double shift_x = 0, shift_y = 0;
  double pixel_aspect = 1;  ///< width of a pixel over its height
  /// Radial distortion of a planar camera's lens: what lies at the tangent r from the view axis is
  /// seen at r (1 + k1 r^2 + k2 r^4) (Brown, "Close-Range Camera Calibration", 1971). Below 0 as
  /// barrels are, above 0 as pincushions. Angles of the field of view are those without it.
  double distortion_k1 = 0, distortion_k2 = 0;
  std::string room;    ///< the name of the room the eye is in; empty: the first
  PlaneWindow window;  ///< of a plane, of which all else here says nothing

  /// Level cameras see every column of a cell map by one lane.
  bool level() const { return pitch == 0 && roll == 0; }
  bool distorted() const { return distortion_k1 != 0 || distortion_k2 != 0; }

  /// A camera at `eye` whose middle shows `target`.
  static Camera look_at(const Vec3d& eye, const Vec3d& target, double field_of_view);
};

/// The knobs of a camera; angles in degrees. Options name them with "camera." in front.
std::span<const Knob<Camera>> camera_knobs();

/// What a frame's size makes of a camera. A column at pixel position px from the left lies at
/// u = (px - width / 2) / focal: the tangent of the angle from the view axis where planar, the
/// angle itself where cylindrical. A row at py from the top lies at v = (height / 2 - py) /
/// focal_y, the tangent of its angle above the middle row at the column's reach. Shifts move the
/// middle.
struct Viewing {
  Vec3d forward{1, 0, 0};
  Vec3d right{0, -1, 0};
  Vec3d up{0, 0, 1};
  double focal = 1;    ///< pixels across
  double focal_y = 1;  ///< pixels down
  double center_x = 0, center_y = 0;
  bool planar = true;
  double k1 = 0, k2 = 0;  ///< as Camera::distortion_k1, distortion_k2
  /// The tangent from the view axis up to which distortion keeps places apart.
  double farthest = std::numeric_limits<double>::infinity();

  /// Direction in the plan of a level camera's column at u, of unit length.
  struct Direction {
    double x, y;
    double length;  ///< plan distance = reach * length
    double axis;    ///< distance along the view axis = reach * axis
  };
  Direction direction(double u) const;
  /// Direction of the ray at (u, v) for any camera, of unit length.
  Vec3d ray(double u, double v) const;
  bool straight() const { return k1 == 0 && k2 == 0; }
  /// Where what is seen at (u, v) would be without distortion.
  Vec2d straightened(double u, double v) const;
  /// The pixel position of what lies in a direction of any length; none where that is behind the
  /// picture's plane, or beyond what a distorted lens shows.
  std::optional<Vec2d> pixel(const Vec3d& way) const;
  double u(double pixel_x) const { return (pixel_x - center_x) / focal; }
  double v(double pixel_y) const { return (center_y - pixel_y) / focal_y; }
};

/// Throws Error (input) for a field of view that a flat picture (180 degrees and more) or one
/// round (more than 360 degrees across) cannot show, for eyes that are not finite, and for
/// distortions of round pictures and those that show one direction at two pixels.
Viewing viewing(const Camera& camera, Size size);

/// The camera whose frame is a part of another one's, or reaches out around it. Throws as
/// viewing().
Camera part_camera(const Camera& camera, Size size, const PixelPart& part);

}  // namespace photonlane
