#include "photonlane/fractal/landmark.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>
#include <vector>

#include "fractal/far_number.hpp"
#include "fractal/precise.hpp"
#include "fractal/precise_number.hpp"

namespace photonlane {
namespace {

struct Point {
  Precise x, y;

  friend Point operator+(const Point& a, const Point& b) { return {a.x + b.x, a.y + b.y}; }
  friend Point operator-(const Point& a, const Point& b) { return {a.x - b.x, a.y - b.y}; }
  friend Point operator*(const Point& a, const Point& b) {
    return {a.x * b.x - a.y * b.y, a.x * b.y + a.y * b.x};
  }
  friend Point operator/(const Point& a, const Point& b) {
    const Precise square = b.x * b.x + b.y * b.y;
    return {(a.x * b.x + a.y * b.y) / square, (a.y * b.x - a.x * b.y) / square};
  }
  Precise square() const { return x * x + y * y; }
  bool zero() const { return x == 0 && y == 0; }
};

FarComplex far(const Point& point) {
  const auto part = [](const Precise& value) {
    long power = 0;
    const double share = mpfr_get_d_2exp(&power, value.backend().data(), MPFR_RNDN);
    return std::pair(share, power);
  };
  const auto [x, x_power] = part(point.x);
  const auto [y, y_power] = part(point.y);
  return FarComplex({x, 0}, x_power) + FarComplex({0, y}, y_power);
}

Point read(const DecimalPoint& point) { return {Precise(point.x.text()), Precise(point.y.text())}; }

DecimalPoint written(const Point& point, int places) {
  const auto text = [&](const Precise& value) {
    return Decimal(std::string_view(value.str(places, std::ios_base::fixed)));
  };
  return {text(point.x), text(point.y)};
}

/// An orbit of 0 with how it changes with c.
struct Orbit {
  int power;
  Point c, z{0, 0}, slope{0, 0};

  void step() {
    // z^(p-1), of which z^p and its derivative are made.
    Point most = z;
    for (int k = 2; k < power; ++k) most = most * z;
    const Precise times(power);
    const Point change = most * slope;
    slope = {times * change.x + 1, times * change.y};
    z = most * z + c;
  }
};

class Search {
 public:
  Search(const EscapePlane& plane, const LandmarkSearch& search)
      : power_(plane.power), search_(search) {
    const double places = -search.within.log10();
    if (!search.within.positive() || !std::isfinite(places)) {
      throw Error(ErrorKind::input, "within: expected a number above 0");
    }
    radius_log2_ = -places * std::log2(10.0);
    digits_ = static_cast<int>(std::clamp(places, 0.0, 100000.0)) + 25;
    // Newton's first steps may lie anywhere in the disc, later ones far below it.
    digits_ = std::max({digits_, digits_of(search.near.x), digits_of(search.near.y)});
  }

  std::optional<PlaneLandmark> copy() {
    const Digits digits(static_cast<unsigned>(digits_));
    Orbit orbit{power_, read(search_.near)};
    for (std::uint64_t n = 1; n <= search_.most_steps; ++n) {
      go_on(n);
      orbit.step();
      const FarComplex z = far(orbit.z);
      const FarComplex slope = far(orbit.slope);
      if (z.log2() <= radius_log2_ + slope.log2()) {
        if (auto found = copy_of(n, orbit.c)) return found;
      }
      // Far outside the disc's image is no disc any more.
      if (z.log2() > 20) return std::nullopt;
    }
    return std::nullopt;
  }

  std::optional<PlaneLandmark> branching() {
    const Digits digits(static_cast<unsigned>(digits_));
    const auto steps = std::min<std::uint64_t>(search_.most_steps, 2000);
    std::vector<FarComplex> z, slope;
    struct Meeting {
      double by;  ///< log2 of how far off the place is in the disc, in its radius
      std::uint64_t step;
      int root;
    };
    std::vector<Meeting> meetings;
    Orbit orbit{power_, read(search_.near)};
    for (std::uint64_t j = 1; j <= steps; ++j) {
      go_on(j);
      orbit.step();
      z.push_back(far(orbit.z));
      slope.push_back(far(orbit.slope));
      // The step after meets a cycle where this one is as the one before that, but for a root of 1.
      meetings.clear();
      for (std::uint64_t i = 1; i < j; ++i) {
        for (int root = 1; root < power_; ++root) {
          const double angle = 2 * std::numbers::pi * root / power_;
          const FarComplex turn(Complex{-std::cos(angle), -std::sin(angle)});
          const FarComplex apart = z[j - 1] + turn * z[i - 1];
          const FarComplex change = slope[j - 1] + turn * slope[i - 1];
          const double by = apart.log2() - change.log2() - radius_log2_;
          if (by <= 0) meetings.push_back({by, i, root});
        }
      }
      // Where the disc's image is large it holds nearly all steps: the likeliest are tried.
      const auto tried = std::min<std::size_t>(meetings.size(), 8);
      std::partial_sort(meetings.begin(), meetings.begin() + static_cast<std::ptrdiff_t>(tried),
                        meetings.end(),
                        [](const Meeting& a, const Meeting& b) { return a.by < b.by; });
      for (std::size_t k = 0; k < tried; ++k) {
        if (auto found = branching_of(meetings[k].step, j, meetings[k].root)) return found;
        if (worked_ > most_work) return std::nullopt;
      }
      if (z.back().log2() > 20) return std::nullopt;
    }
    return std::nullopt;
  }

 private:
  static int digits_of(const Decimal& value) {
    const double whole = std::max(0.0, value.log10());
    return static_cast<int>(std::max(0LL, -value.last_place()) + static_cast<long long>(whole)) + 5;
  }
  void go_on(std::uint64_t step) const {
    if (step % 64 == 0 && search_.progress && !search_.progress()) {
      throw Error(ErrorKind::cancelled, "stopped by the caller");
    }
  }
  /// Whether a point lies in the disc that was asked for.
  bool within(const Point& c) const {
    return far(c - read(search_.near)).log2() <= radius_log2_ + 1e-9;
  }

  /// Where a function of c is 0, by Newton's method from a point, to all digits there are; nothing
  /// where that leaves the disc or comes to no end, nor nearer to one in so many steps.
  template <class Function>
  std::optional<Point> solve(Point c, const Function& function, int patience = 80) const {
    constexpr int most = 80;
    const double enough = -3.32 * (static_cast<double>(Precise::default_precision()) - 8);
    double least = std::numeric_limits<double>::infinity();
    int since = 0;
    for (int step = 0; step < most; ++step) {
      const auto [value, change] = function(c);
      if (change.zero()) return std::nullopt;
      const Point by = value / change;
      c = c - by;
      if (!within(c)) return std::nullopt;
      const double moved = far(by).log2();
      if (by.zero() || moved < enough) return c;
      since = moved < least - 0.5 ? 0 : since + 1;
      least = std::min(least, moved);
      if (since > patience) return std::nullopt;
    }
    return std::nullopt;
  }

  std::optional<PlaneLandmark> copy_of(std::uint64_t period, const Point& start) const {
    std::optional<Point> c = start;
    PlaneLandmark found{.kind = LandmarkKind::copy, .place = {}, .period = period, .size = {}};
    for (int digits = digits_;;) {
      const Digits more(static_cast<unsigned>(digits));
      // Its numbers get the digits there are now.
      const Point from = read(written(*c, digits));
      c = solve(from, [&](const Point& at) {
        Orbit orbit{power_, at};
        for (std::uint64_t k = 0; k < period; ++k) {
          go_on(k);
          orbit.step();
        }
        return std::pair(orbit.z, orbit.slope);
      });
      if (!c) return std::nullopt;
      Orbit orbit{power_, *c};
      FarComplex along(Complex{1, 0});
      for (std::uint64_t k = 1; k < period; ++k) {
        orbit.step();
        FarComplex change(Complex{static_cast<double>(power_), 0});
        const FarComplex z = far(orbit.z);
        // It came back before, and n is some times its period.
        if (period % k == 0 && z.log2() < -3.32 * digits_ / 2) return copy_of(k, *c);
        for (int m = 1; m < power_; ++m) change = change * z;
        along = along * change;
      }
      orbit.step();
      const FarComplex slope = far(orbit.slope);
      // 1 / (slope * along^(1/(p-1))), by logarithms.
      const double root = 1.0 / (power_ - 1);
      const double log10 = -(slope.log2() + root * along.log2()) * std::log10(2.0);
      const auto angle = [](const FarComplex& number) {
        return std::atan2(number.part.y, number.part.x);
      };
      found.turned = std::remainder(-(angle(slope) + root * angle(along)), 2 * std::numbers::pi);
      const int needed = static_cast<int>(std::ceil(std::max(0.0, -log10))) + 15;
      if (digits >= needed + 8) {
        const double whole = std::floor(log10);
        found.size = Decimal(std::string_view(fmt::format(
            "{:.12g}e{}", std::pow(10.0, log10 - whole), static_cast<long long>(whole))));
        found.place = written(*c, needed);
        return found;
      }
      digits = needed + 12;
    }
  }

  std::optional<PlaneLandmark> branching_of(std::uint64_t i, std::uint64_t j, int root) {
    const Precise angle = Precise(2 * root) * boost::multiprecision::acos(Precise(-1)) / power_;
    const Point turn{-boost::multiprecision::cos(angle), -boost::multiprecision::sin(angle)};
    // Where 0 itself comes back both steps are 0, and that is no entrance: such middles of copies
    // are divided out of the function once they are met.
    std::optional<Point> c;
    Orbit orbit{power_, {}};
    for (;;) {
      c = solve(
          read(search_.near),
          [&](const Point& at) {
            Orbit along{power_, at};
            for (std::uint64_t k = 0; k < i; ++k) step(along);
            const Point z = turn * along.z;
            const Point slope = turn * along.slope;
            for (std::uint64_t k = i; k < j; ++k) step(along);
            const Point value = along.z + z;
            Point change = along.slope + slope;
            for (const Middle& middle : middles_) {
              const Point off = at - middle.place;
              if (i % middle.period != 0 || j % middle.period != 0 || off.zero()) continue;
              change = change - value / off;
            }
            return std::pair(value, change);
          },
          wandering);
      if (!c) return std::nullopt;
      orbit = {power_, *c};
      std::uint64_t back = 0;
      for (std::uint64_t k = 1; k <= i && back == 0; ++k) {
        step(orbit);
        if (far(orbit.z).log2() < -3.32 * digits_ / 2) back = k;
      }
      if (back == 0) break;
      const auto known = [&](const Middle& middle) {
        return far(middle.place - *c).log2() < -3.32 * digits_ / 2;
      };
      if (std::any_of(middles_.begin(), middles_.end(), known)) return std::nullopt;
      middles_.push_back({*c, back});
    }
    const double tiny = -3.32 * digits_ / 2;
    std::uint64_t period = j - i;
    // The cycle may be a shorter one, gone round several times.
    Orbit entered = orbit;
    entered.step();
    Orbit round = entered;
    for (std::uint64_t k = 1; k < period; ++k) {
      round.step();
      if (period % k == 0 && far(round.z - entered.z).log2() < tiny) period = k;
    }
    PlaneLandmark found{.kind = LandmarkKind::branching, .place = {}, .size = {}};
    found.preperiod = i + 1;
    found.period = period;
    found.place = written(*c, digits_ - 10);
    return found;
  }

  void step(Orbit& orbit) {
    go_on(++worked_);
    orbit.step();
  }

  struct Middle {
    Point place;
    std::uint64_t period;
  };

  /// Many starts are tried for a branching: those that wander about in the disc are given up soon.
  static constexpr int wandering = 8;
  /// Steps of orbits that Newton's method may take for one.
  static constexpr std::uint64_t most_work = 1000000;

  int power_;
  const LandmarkSearch& search_;
  double radius_log2_ = 0;
  int digits_ = 0;
  std::uint64_t worked_ = 0;
  std::vector<Middle> middles_;
};

}  // namespace

LandmarkSearch around(const PlaneWindow& window, LandmarkKind kind) {
  return {.near = window.center, .within = scaled(window.width, 0.5), .kind = kind, .progress = {}};
}

PlaneWindow window_of(const PlaneLandmark& landmark, const PlaneWindow& before) {
  PlaneWindow window = before;
  window.center = landmark.place;
  if (landmark.kind == LandmarkKind::copy) {
    window.width = scaled(landmark.size, 4);
    window.rotation = landmark.turned;
  }
  return window;
}

std::optional<PlaneLandmark> find_landmark(const EscapePlane& plane, const LandmarkSearch& search) {
  if (plane.family != PlaneFamily::power || plane.julia) {
    throw Error(ErrorKind::usage,
                fmt::format("landmarks are found in planes of the power family whose points are c, "
                            "this one is {}",
                            plane.julia ? "a julia plane" : name_of(plane.family)));
  }
  validate(plane);
  Search in(plane, search);
  return search.kind == LandmarkKind::copy ? in.copy() : in.branching();
}

}  // namespace photonlane
