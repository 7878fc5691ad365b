#pragma once

#include <span>

#include "photonlane/base/knob.hpp"

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

/// A level camera. Heading counts counterclockwise seen from above: 0 looks along +x (east), a
/// quarter turn along +y (north). Pixels are square.
struct Camera {
  Vec3d eye{0, 0, 1.6};                ///< meters; z is the height of the eye above the floor
  double heading = 0;                  ///< radians
  double field_of_view = degrees(50);  ///< radians, along `field_axis`
  FieldAxis field_axis = FieldAxis::vertical;
  Projection projection = Projection::planar;
};

/// The knobs of a camera; angles in degrees. Options name them with "camera." in front.
std::span<const Knob<Camera>> camera_knobs();

/// What a frame's size makes of a camera. A column at pixel position px from the left lies at
/// u = (px - width / 2) / focal: the tangent of the angle from the heading where planar, the angle
/// itself where cylindrical. A row at py from the top lies at v = (height / 2 - py) / focal, the
/// tangent of its angle above the horizon at the column's reach.
struct Viewing {
  double forward_x = 1, forward_y = 0;
  double right_x = 0, right_y = -1;
  double focal = 1;  ///< pixels
  double center_x = 0, center_y = 0;
  bool planar = true;

  /// Plan direction of unit length at u; `across` becomes the tangent u where planar, else 0, and
  /// `axis` the cosine that turns reach into distance along the view axis where cylindrical.
  struct Direction {
    double x, y;
    double length;  ///< plan distance = reach * length
    double axis;    ///< distance along the view axis = reach * axis
  };
  Direction direction(double u) const;
  double u(double pixel_x) const { return (pixel_x - center_x) / focal; }
  double v(double pixel_y) const { return (center_y - pixel_y) / focal; }
};

/// Throws Error (input) for a field of view that a flat picture (180 degrees and more) or one
/// round (more than 360 degrees across) cannot show, and for eyes that are not finite.
Viewing viewing(const Camera& camera, Size size);

}  // namespace photonlane
