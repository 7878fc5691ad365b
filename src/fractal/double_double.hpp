#pragma once

namespace photonlane {

/// A number of two doubles, `low` at most half a unit in the last place of `high`.
struct DoubleDouble {
  double high = 0;
  double low = 0;
};

/// Rounded sums: of any two, and of one with a double.
inline DoubleDouble add(const DoubleDouble& a, double b) {
  const double sum = a.high + b;
  const double part = sum - a.high;
  const double rest = (a.high - (sum - part)) + (b - part) + a.low;
  const double high = sum + rest;
  return {high, rest - (high - sum)};
}

}  // namespace photonlane
