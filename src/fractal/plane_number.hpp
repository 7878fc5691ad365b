#pragma once

#include <cmath>
#include <optional>
#include <string>

#include "fractal/perturbation.hpp"
#include "photonlane/lane/budget.hpp"

namespace photonlane {

/// Where the places of a frame are in the plane.
class PlaneView {
 public:
  PlaneView(const PlaneWindow& window, Size size);

  /// The points at places of the frame, in pixels from its top left corner; as many as there are.
  void points(const std::vector<double>& x, const std::vector<double>& y,
              PlanePoints& points) const;
  /// The same as their distances from the middle, in units of 2^power().
  void distances(const std::vector<double>& x, const std::vector<double>& y,
                 PlanePoints& points) const;
  std::int64_t power() const { return power_; }
  /// How far points are from the middle at most, in those units.
  double far_corner() const;

  /// How wide a pixel is; and in those units.
  double pixel() const { return pixel_; }
  double far_pixel() const { return far_pixel_; }
  /// The logarithm of how wide it is, to the base of ten.
  double log_pixel() const { return log_pixel_; }
  /// The logarithm of how far points are from the middle at most, the same.
  double log_spread() const { return log_pixel_ + std::log10(std::hypot(middle_x_, middle_y_)); }
  double center_x() const { return center_x_.high; }
  double center_y() const { return center_y_.high; }
  /// The size of the numbers that tell the points apart.
  double reach() const { return reach_; }

 private:
  DoubleDouble center_x_, center_y_;
  double middle_x_, middle_y_;  ///< of the frame
  double pixel_, far_pixel_, log_pixel_;
  std::int64_t power_;
  double sine_, cosine_;
  double reach_;
};

/// The number type a frame is made in.
struct NumberChoice {
  PlaneNumber number = PlaneNumber::float64;
  std::string why;
  bool past_limit = false;            ///< neighbors are hardly told apart, or not at all
  std::optional<PlaneNumber> better;  ///< the next one, where there is one
};
/// The cheapest type that is right, or the one asked for; with `extras` none cheaper than double,
/// in which those are found. Throws Error (input) for splits of bits
/// that hold no step.
NumberChoice choose_number(const EscapePlane& plane, const PlaneView& view,
                           const PlaneBudget& budget, bool extras);

EscapeRule escape_rule(const EscapePlane& plane);
EscapeStop escape_stop(const EscapePlane& plane, const PlaneBudget& budget, PlaneNumber number);

/// Iterates points in a number type; by perturbation those are distances.
void iterate_points(const EscapeRule& rule, const EscapeStop& stop, const EscapeExtras& extras,
                    PlaneNumber number, const PlaneBudget& budget, const Perturbation* perturbation,
                    const PlanePoints& points, EscapeEnds& ends);

}  // namespace photonlane
