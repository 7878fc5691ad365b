#include "photonlane/fractal/escape_plane.hpp"

#include <fmt/format.h>

#include <cmath>

#include "fractal/precise.hpp"
#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

/// Decimal places that tell apart what lies a thousandth of a pixel from one another.
long long places_for(const PlaneWindow& window, Size size) {
  return static_cast<long long>(std::ceil(std::log10(size.width) - window.width.log10())) + 3;
}

/// A way across the frame, in parts of its width, as it lies in the plane.
Vec2d turned(const PlaneWindow& window, Vec2d way) {
  const auto [sine, cosine] = sine_cosine(window.rotation);
  return {way.x() * cosine - way.y() * sine, way.x() * sine + way.y() * cosine};
}

Vec2d from_middle(Size size, double x, double y) {
  return Vec2d(x - 0.5 * size.width, 0.5 * size.height - y) / size.width;
}

DecimalPoint moved_by(const PlaneWindow& window, Size size, const Vec2d& way, int more) {
  const long long places = places_for(window, size) + more;
  return {moved(window.center.x, way.x(), window.width, places),
          moved(window.center.y, way.y(), window.width, places)};
}

}  // namespace

std::span<const Knob<EscapePlane>> escape_plane_knobs() {
  using P = EscapePlane;
  static const Knob<P> table[] = {
      knob<&P::family>("family", "", {},
                       "what each step does to z before the power: power nothing, conjugate turns "
                       "the sign of the imaginary part, folded drops the signs of both parts"),
      knob<&P::power>("power", "", {2, 8}, "exponent p of a step z^p + c"),
      knob<&P::julia>("julia", "", {},
                      "the constant c of a Julia set, where z starts at the point; none: c is the "
                      "point and z starts at 0"),
      knob<&P::escape_radius>("escape_radius", "", {2, 1e6},
                              "distance from 0 beyond which a point has escaped"),
      knob<&P::tells>("tells", "", {},
                      "what colors show of points that escape: the count of steps, the smooth "
                      "count, the distance to the set, or the distance to the trap"),
      knob<&P::palette_length>("palette_length", "", {0, 1e9, true},
                               "how much of what is shown passes through the whole palette once: "
                               "steps, pixels of distance, or units of the plane"),
      knob<&P::palette_shift>("palette_shift", "", {-1e6, 1e6},
                              "shift of the palette, as a share of its length"),
      knob<&P::equalize>("equalize", "", {},
                         "choose colors so that each of the palette covers as many pixels"),
      knob<&P::inside>("inside", "", {0, 1}, "the color of points that never escape"),
  };
  return table;
}

std::span<const Knob<OrbitTrap>> orbit_trap_knobs() {
  static const Knob<OrbitTrap> table[] = {
      knob<&OrbitTrap::shape>("shape", "", {},
                              "a point, two lines along the axes that cross there, or a ring"),
      knob<&OrbitTrap::x>("x", "", {-1e3, 1e3}, "real part of its middle"),
      knob<&OrbitTrap::y>("y", "", {-1e3, 1e3}, "imaginary part of its middle"),
      knob<&OrbitTrap::radius>("radius", "", {0, 1e3, true}, "radius of the ring"),
  };
  return table;
}

std::span<const Knob<PlaneWindow>> plane_window_knobs() {
  static const Knob<PlaneWindow> table[] = {
      knob<&PlaneWindow::center>("center", "", {}, "the point in the frame's middle"),
      knob<&PlaneWindow::width>("width", "", {0, 1e3, true}, "width of the frame in the plane"),
      knob<&PlaneWindow::rotation>("rotation", "degrees", {-360, 360},
                                   "angle by which the picture is turned counterclockwise",
                                   degrees(1)),
  };
  return table;
}

void validate(const EscapePlane& plane) {
  validate_knobs(escape_plane_knobs(), plane);
  validate_knobs(orbit_trap_knobs(), plane.trap);
  if (plane.palette.empty()) {
    throw Error(ErrorKind::input, "palette: no colors, expected one or more");
  }
}

void validate(const PlaneWindow& window) {
  if (!window.width.positive()) {
    throw Error(ErrorKind::input,
                fmt::format("width: found {}, expected a number above 0", window.width.text()));
  }
  if (window.width.log10() > 3) {
    throw Error(ErrorKind::input,
                fmt::format("width: found {}, expected at most 1000", window.width.text()));
  }
  const auto needs = static_cast<long long>(std::floor(-window.width.log10()));
  for (const auto& [axis, value] :
       {std::pair{"real", &window.center.x}, std::pair{"imaginary", &window.center.y}}) {
    const long long missing = needs + std::min(0LL, value->last_place());
    if (missing <= 0 || !std::isfinite(value->log10())) continue;
    throw Error(ErrorKind::input,
                fmt::format("center: the {} part has {} decimal places, a width of {} needs {}: {} "
                            "{} missing (zeros, where it is meant exactly)",
                            axis, needs - missing, window.width.text(), needs, missing,
                            missing == 1 ? "is" : "are"));
  }
}

DecimalPoint plane_point(const PlaneWindow& window, Size size, double x, double y) {
  // Near the edge a thousandth of a pixel is a world.
  return moved_by(window, size, turned(window, from_middle(size, x, y)), 15);
}

Vec2d frame_place(const PlaneWindow& window, Size size, const DecimalPoint& point) {
  const Vec2d off(ratio(point.x, window.center.x, window.width),
                  ratio(point.y, window.center.y, window.width));
  PlaneWindow back = window;
  back.rotation = -window.rotation;
  const Vec2d way = turned(back, off) * size.width;
  return {way.x() + 0.5 * size.width, 0.5 * size.height - way.y()};
}

PlaneWindow zoomed(const PlaneWindow& window, Size size, double x, double y, double factor) {
  if (!(factor > 0) || !std::isfinite(factor)) {
    throw Error(ErrorKind::input, fmt::format("zoom by {}, expected a factor above 0", factor));
  }
  PlaneWindow result = window;
  result.width = scaled(window.width, 1 / factor);
  const Vec2d way = turned(window, from_middle(size, x, y));
  const long long places = places_for(result, size);
  result.center = {moved(window.center.x, (1 - 1 / factor) * way.x(), window.width, places),
                   moved(window.center.y, (1 - 1 / factor) * way.y(), window.width, places)};
  return result;
}

std::vector<PlaneWindow> zoom_windows(const PlaneWindow& from, Size size, const DecimalPoint& to,
                                      const Decimal& width, int frames) {
  if (frames < 2) {
    throw Error(ErrorKind::input, fmt::format("a zoom of {} frames, expected 2 or more", frames));
  }
  PlaneWindow last = from;
  last.center = to;
  last.width = width;
  validate(from);
  validate(last);
  const double first_log = from.width.log10();
  const double last_log = width.log10();
  // How far the first middle is from the last, in widths.
  const Vec2d off(ratio(from.center.x, to.x, from.width), ratio(from.center.y, to.y, from.width));
  std::vector<PlaneWindow> windows;
  for (int i = 0; i < frames; ++i) {
    PlaneWindow& window = windows.emplace_back(i == frames - 1 ? last : from);
    if (i == 0 || i == frames - 1) continue;
    const double log = first_log + (last_log - first_log) * i / (frames - 1);
    const double whole = std::floor(log);
    window.width =
        Decimal(std::string_view(fmt::format("{:.16g}e{:.0f}", std::pow(10, log - whole), whole)));
    // What is left of the way, against how wide the window is.
    const double left =
        (1 - std::pow(10, last_log - log)) / (1 - std::pow(10, last_log - first_log));
    const double share = last_log == first_log ? 1 - static_cast<double>(i) / (frames - 1) : left;
    const long long places = places_for(window, size);
    window.center = {moved(to.x, share * off.x(), window.width, places),
                     moved(to.y, share * off.y(), window.width, places)};
  }
  return windows;
}

PlaneWindow panned(const PlaneWindow& window, Size size, double right, double down) {
  PlaneWindow result = window;
  result.center = moved_by(window, size, turned(window, Vec2d(right, -down) / size.width), 0);
  return result;
}

}  // namespace photonlane
