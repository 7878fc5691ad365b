#include "fractal/plane_number.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "fractal/escape_fixed.hpp"
#include "fractal/precise.hpp"
#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

/// Neighbors must be so many times as far apart as the last bit of their places, or rounding shows
/// along the orbits.
constexpr double room_for_rounding = 4096;

/// What the last bit of a number is worth, for a number of 1.
double last_bit(PlaneNumber number, const PlaneBudget& budget, double reach) {
  switch (number) {
    case PlaneNumber::fixed:
      return std::ldexp(1.0, -budget.fraction_bits) / reach;
    case PlaneNumber::float32:
      return 0x1p-24;
    case PlaneNumber::float64:
      return 0x1p-53;
    default:
      return 0x1p-104;
  }
}

}  // namespace

PlaneView::PlaneView(const PlaneWindow& window, Size size)
    : center_x_(double_double(window.center.x)),
      center_y_(double_double(window.center.y)),
      middle_x_(0.5 * size.width),
      middle_y_(0.5 * size.height),
      pixel_(window.width.value() / size.width),
      log_pixel_(window.width.log10() - std::log10(size.width)) {
  const FarComplex width = far(window.width);
  power_ = width.power;
  far_pixel_ = width.part.x / size.width;
  const auto [sine, cosine] = sine_cosine(window.rotation);
  sine_ = sine;
  cosine_ = cosine;
  const double corner = pixel_ * std::hypot(middle_x_, middle_y_);
  reach_ = std::max(std::abs(center_x_.high), std::abs(center_y_.high)) + corner;
}

void PlaneView::points(const std::vector<double>& x, const std::vector<double>& y,
                       PlanePoints& points) const {
  const PlaneView view = *this;
  const std::size_t size = points.size();
  const double* __restrict from_x = x.data();
  const double* __restrict from_y = y.data();
  const auto turn = [&](const DoubleDouble& center, double by_x, double by_y,
                        double* __restrict high, double* __restrict low) {
    for (std::size_t i = 0; i < size; ++i) {
      const double u = (from_x[i] - view.middle_x_) * view.pixel_;
      const double v = (view.middle_y_ - from_y[i]) * view.pixel_;
      const DoubleDouble at = add(center, u * by_x + v * by_y);
      high[i] = at.high;
      low[i] = at.low;
    }
  };
  turn(center_x_, cosine_, -sine_, points.high_x.data(), points.low_x.data());
  turn(center_y_, sine_, cosine_, points.high_y.data(), points.low_y.data());
}

void PlaneView::distances(const std::vector<double>& x, const std::vector<double>& y,
                          PlanePoints& points) const {
  const std::size_t size = points.size();
  for (std::size_t i = 0; i < size; ++i) {
    const double u = (x[i] - middle_x_) * far_pixel_;
    const double v = (middle_y_ - y[i]) * far_pixel_;
    points.high_x[i] = u * cosine_ - v * sine_;
    points.high_y[i] = u * sine_ + v * cosine_;
  }
  std::fill(points.low_x.begin(), points.low_x.end(), 0.0);
  std::fill(points.low_y.begin(), points.low_y.end(), 0.0);
}

double PlaneView::far_corner() const { return far_pixel_ * std::hypot(middle_x_, middle_y_); }

namespace {

/// How far apart neighbors of a Julia set are when they are told apart worst within their first
/// steps, in what their places are then: near 0 a step brings all that is around together. By a
/// disc around the middle of the window.
double closest_after_steps(const EscapePlane& plane, const PlaneView& view) {
  const Complex c{plane.julia->x.value(), plane.julia->y.value()};
  Complex z{view.center_x(), view.center_y()};
  const double n = plane.power;
  double log_least = std::numeric_limits<double>::infinity();
  // Logarithms to the base of ten: windows may be narrower than doubles go.
  double log_apart = view.log_pixel();
  double log_spread = view.log_spread();
  constexpr int steps = 200;
  for (int step = 0; step < steps; ++step) {
    const double size = std::sqrt(z.square());
    const double log_size = size > 0 ? std::log10(size) : -std::numeric_limits<double>::infinity();
    // A step of the steps before has made this of the places.
    if (step > 0) {
      log_least = std::min(log_least, log_apart - std::log10(std::max(size, 1.0)));
    }
    if (log_spread > -1 || !(size < 100)) break;
    // All but the hundredth part of the window that is nearest to 0.
    const double log_near = std::max(log_size, log_spread - 1);
    // The change of z^n by a distance: n z^(n-1) times it, or its power where that is more.
    const auto changed = [&](double log_distance) {
      return std::max(std::log10(n) + (n - 1) * log_near + log_distance, n * log_distance);
    };
    log_apart = changed(log_apart);
    const double log_far = std::max(log_size, log_spread);
    log_spread = std::log10(n) + (n - 1) * log_far + log_spread;
    if (plane.family == PlaneFamily::conjugate) z.y = -z.y;
    if (plane.family == PlaneFamily::folded) z = {std::abs(z.x), std::abs(z.y)};
    Complex power = z;
    for (int k = 1; k < plane.power; ++k) power = power * z;
    z = power + c;
  }
  return log_least;
}

}  // namespace

NumberChoice choose_number(const EscapePlane& plane, const PlaneView& view,
                           const PlaneBudget& budget, bool extras) {
  const double log_closest =
      plane.julia ? std::min(view.log_pixel(), closest_after_steps(plane, view)) : view.log_pixel();
  // By how many powers of ten pixels are farther apart than a number's last bit.
  const auto apart = [&](PlaneNumber number) {
    // Orbits are of a size of 1 and more, wherever their points are.
    const double reach = std::max(view.reach(), 1.0);
    return log_closest - std::log10(last_bit(number, budget, reach) * reach);
  };
  // Whether the largest numbers of an orbit, where it leaves, are numbers of the type.
  const auto holds = [&](PlaneNumber number) {
    const double most = number == PlaneNumber::float32 ? 38 : 300;
    return plane.power * std::log10(plane.escape_radius) < most;
  };
  // Numbers by their logarithms: pixels may be nearer than doubles go.
  const auto written = [](double log) {
    if (std::abs(log) < 3) return fmt::format("{:.3g}", std::pow(10, log));
    return fmt::format("{:.2f}e{:.0f}", std::pow(10, log - std::floor(log)), std::floor(log));
  };
  const auto text = [&](PlaneNumber number) {
    const bool far = number == PlaneNumber::perturbation;
    const PlaneNumber told = far ? PlaneNumber::float64 : number;
    if (!holds(told)) {
      return fmt::format("{} cannot hold {:g} to the power of {}, where orbits leave",
                         name_of(told), plane.escape_radius, plane.power);
    }
    return fmt::format("pixels are {} apart{}, {} times what {} tells apart", written(log_closest),
                       log_closest < view.log_pixel() ? " after their first steps" : "",
                       written(apart(told)), name_of(told));
  };
  const double enough = std::log10(room_for_rounding);
  NumberChoice choice;
  choice.number = budget.number;
  if (budget.number == PlaneNumber::automatic) {
    choice.number = PlaneNumber::float32;
    if (extras || apart(PlaneNumber::float32) < enough || !holds(PlaneNumber::float32)) {
      choice.number = PlaneNumber::float64;
    }
    if (apart(PlaneNumber::float64) < enough) {
      // Perturbation costs less than pairs of doubles; distances and traps cost it more.
      const bool pairs = extras && apart(PlaneNumber::double_double) >= enough;
      choice.number = pairs ? PlaneNumber::double_double : PlaneNumber::perturbation;
    }
  }
  choice.why = text(choice.number);
  if (choice.number == PlaneNumber::fixed) {
    const FixedSplit split{budget.integer_bits, budget.fraction_bits};
    const double c =
        plane.julia ? std::max(std::abs(plane.julia->x.value()), std::abs(plane.julia->y.value()))
                    : 0;
    const double needs = std::max({view.reach(), c, 2.0});
    if (split.reach() < needs) {
      throw Error(ErrorKind::input,
                  fmt::format("plane.integer_bits: {} with the sign hold less than {:g}, the first "
                              "step needs {:g}, expected {} or more",
                              split.integer_bits, split.reach(), needs,
                              static_cast<int>(std::ceil(std::log2(needs))) + 1));
    }
  }
  if (choice.number == PlaneNumber::perturbation) return choice;
  choice.past_limit = apart(choice.number) < enough || !holds(choice.number);
  // The cheapest type that is right tells what is doubtful: one that is only a little better may be
  // wrong in the same way.
  choice.better = PlaneNumber::perturbation;
  for (const PlaneNumber one :
       {PlaneNumber::float64, PlaneNumber::double_double, PlaneNumber::perturbation}) {
    if (one <= choice.number) continue;
    if (one == PlaneNumber::perturbation || apart(one) >= enough) {
      choice.better = one;
      break;
    }
  }
  return choice;
}

EscapeRule escape_rule(const EscapePlane& plane) {
  EscapeRule rule;
  rule.family = plane.family;
  rule.power = plane.power;
  rule.julia = plane.julia.has_value();
  if (plane.julia) {
    rule.julia_x = double_double(plane.julia->x);
    rule.julia_y = double_double(plane.julia->y);
  }
  return rule;
}

EscapeStop escape_stop(const EscapePlane& plane, const PlaneBudget& budget, PlaneNumber number) {
  EscapeStop stop;
  stop.limit = static_cast<std::uint64_t>(budget.iterations);
  stop.radius = plane.escape_radius;
  stop.forms = budget.forms;
  stop.periodicity = budget.periodicity;
  stop.derivative = budget.derivative;
  if (number == PlaneNumber::fixed) {
    stop.radius = std::min(stop.radius, FixedSplit{budget.integer_bits, 0}.reach());
  }
  return stop;
}

void iterate_points(const EscapeRule& rule, const EscapeStop& stop, const EscapeExtras& extras,
                    PlaneNumber number, const PlaneBudget& budget, const Perturbation* perturbation,
                    const PlanePoints& points, EscapeEnds& ends) {
  if (number == PlaneNumber::perturbation) {
    perturbation->iterate(rule, stop, extras, points, ends);
    return;
  }
  if (number == PlaneNumber::fixed) {
    iterate_fixed(rule, stop, {budget.integer_bits, budget.fraction_bits}, points, ends);
  } else if (number == PlaneNumber::float32) {
    iterate_float(rule, stop, points, ends);
  } else if (number == PlaneNumber::float64) {
    iterate_double(rule, stop, points, ends);
  } else {
    iterate_double_double(rule, stop, points, ends);
  }
  if (extras.distance || extras.trap) {
    find_extras(rule, extras, number == PlaneNumber::double_double, points, ends);
  }
}

}  // namespace photonlane
