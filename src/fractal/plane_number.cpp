#include "fractal/plane_number.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

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

NumberChoice choose_number(const EscapePlane& plane, const PlaneView& view,
                           const PlaneBudget& budget, bool extras) {
  // By how many powers of ten pixels are farther apart than a number's last bit.
  const auto apart = [&](PlaneNumber number) {
    // Orbits are of a size of 1 and more, wherever their points are.
    const double reach = std::max(view.reach(), 1.0);
    return view.log_pixel() - std::log10(last_bit(number, budget, reach) * reach);
  };
  // Numbers by their logarithms: pixels may be nearer than doubles go.
  const auto written = [](double log) {
    if (std::abs(log) < 3) return fmt::format("{:.3g}", std::pow(10, log));
    return fmt::format("{:.2f}e{:.0f}", std::pow(10, log - std::floor(log)), std::floor(log));
  };
  const auto text = [&](PlaneNumber number) {
    const bool far = number == PlaneNumber::perturbation;
    const PlaneNumber told = far ? PlaneNumber::float64 : number;
    return fmt::format("pixels are {} apart, {} times what {} tells apart",
                       written(view.log_pixel()), written(apart(told)), name_of(told));
  };
  const double enough = std::log10(room_for_rounding);
  NumberChoice choice;
  choice.number = budget.number;
  if (budget.number == PlaneNumber::automatic) {
    choice.number = PlaneNumber::float32;
    if (extras || apart(PlaneNumber::float32) < enough) choice.number = PlaneNumber::float64;
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
  choice.past_limit = apart(choice.number) < enough;
  switch (choice.number) {
    case PlaneNumber::fixed:
    case PlaneNumber::float32:
      choice.better = PlaneNumber::float64;
      break;
    case PlaneNumber::float64:
      choice.better = PlaneNumber::double_double;
      break;
    default:
      choice.better = PlaneNumber::perturbation;
      break;
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
