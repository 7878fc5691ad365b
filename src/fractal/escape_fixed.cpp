#include "fractal/escape_fixed.hpp"

#include <algorithm>
#include <cmath>
#include <cstdlib>

#include "fractal/far_number.hpp"

namespace photonlane {
namespace {

__extension__ using Wide = __int128;

struct Orbit {
  std::int64_t x = 0, y = 0;
};

class FixedNumbers {
 public:
  explicit FixedNumbers(const FixedSplit& split)
      : shift_(split.fraction_bits),
        top_(static_cast<std::int64_t>(
            (std::uint64_t{1} << (split.integer_bits + split.fraction_bits - 1)) - 1)) {}

  bool fits(Wide value) const { return value <= top_ && value >= -Wide(top_) - 1; }
  /// The nearest one; of those that fit.
  std::int64_t of(const DoubleDouble& value) const {
    const long double scaled = std::ldexp(static_cast<long double>(value.high), shift_) +
                               std::ldexp(static_cast<long double>(value.low), shift_);
    const long double most = static_cast<long double>(top_);
    return static_cast<std::int64_t>(std::clamp(std::floor(scaled + 0.5L), -most - 1, most));
  }
  double value(Wide number) const { return std::ldexp(static_cast<double>(number), -shift_); }
  Wide times(Wide a, Wide b) const { return (a * b) >> shift_; }

 private:
  int shift_;
  std::int64_t top_;
};

/// One step; false where something on the way no longer fits, with where that is.
bool step(const FixedNumbers& numbers, const EscapeRule& rule, const Orbit& c, Orbit& z,
          double& out_x, double& out_y) {
  Wide x = z.x;
  Wide y = z.y;
  if (rule.family == PlaneFamily::folded) {
    x = x < 0 ? -x : x;
    y = y < 0 ? -y : y;
  } else if (rule.family == PlaneFamily::conjugate) {
    y = -y;
  }
  Wide px = x;
  Wide py = y;
  for (int k = 1; k < rule.power; ++k) {
    const Wide re = numbers.times(px, x) - numbers.times(py, y);
    py = numbers.times(px, y) + numbers.times(py, x);
    px = re;
    if (k + 1 < rule.power && !(numbers.fits(px) && numbers.fits(py))) {
      // What overflows on the way has left; where to is told in doubles.
      const Complex from{numbers.value(x), numbers.value(y)};
      Complex power = from;
      for (int m = 1; m < rule.power; ++m) power = power * from;
      out_x = power.x + numbers.value(c.x);
      out_y = power.y + numbers.value(c.y);
      return false;
    }
  }
  px += c.x;
  py += c.y;
  if (!numbers.fits(px) || !numbers.fits(py)) {
    out_x = numbers.value(px);
    out_y = numbers.value(py);
    return false;
  }
  z = {static_cast<std::int64_t>(px), static_cast<std::int64_t>(py)};
  return true;
}

}  // namespace

double FixedSplit::reach() const { return std::ldexp(1.0, integer_bits - 1); }

void iterate_fixed(const EscapeRule& rule, const EscapeStop& stop, const FixedSplit& split,
                   const PlanePoints& points, EscapeEnds& ends) {
  ends.resize(points.size());
  const FixedNumbers numbers(split);
  const double square = stop.radius * stop.radius;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const Orbit point{numbers.of(points.x(i)), numbers.of(points.y(i))};
    const Orbit c = rule.julia ? Orbit{numbers.of(rule.julia_x), numbers.of(rule.julia_y)} : point;
    Orbit z = rule.julia ? point : Orbit{};
    Orbit kept = z;
    std::uint64_t window = 8;
    std::uint64_t since = 0;
    ends.count[i] = stop.limit;
    ends.ending[i] = Ending::spent;
    const auto escapes = [&](std::uint64_t count, double x, double y) {
      ends.count[i] = count;
      ends.ending[i] = Ending::escaped;
      ends.x[i] = x;
      ends.y[i] = y;
    };
    for (std::uint64_t count = 0;; ++count) {
      const double x = numbers.value(z.x);
      const double y = numbers.value(z.y);
      if (x * x + y * y > square) {
        escapes(count, x, y);
        break;
      }
      if (count == stop.limit) break;
      double out_x = 0;
      double out_y = 0;
      if (!step(numbers, rule, c, z, out_x, out_y)) {
        escapes(count + 1, out_x, out_y);
        break;
      }
      if (!stop.periodicity) continue;
      if (z.x == kept.x && z.y == kept.y) {
        ends.count[i] = count + 1;
        ends.ending[i] = Ending::hit;
        break;
      }
      if (++since == window) {
        since = 0;
        window *= 2;
        kept = z;
      }
    }
    ends.steps += ends.count[i];
  }
}

}  // namespace photonlane
