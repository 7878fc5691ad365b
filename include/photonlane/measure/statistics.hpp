#pragma once

///   const Statistics times = summarize({4.1, 4.3, 4.0, 9.7});

#include <vector>

namespace photonlane {

/// A handful of timings told honestly: the middle one and how far the middle half spreads.
struct Statistics {
  double median = 0;
  double spread = 0;  ///< half the distance between the quartiles
};

/// The value below which a share of the values lies, between neighbors in proportion. Empty: 0.
double quantile(std::vector<double> values, double share);

/// Where the true value lies with a probability of 90 %, as far as the values tell.
struct Interval {
  double low = 0;
  double high = 0;
  double wide() const { return high - low; }
  bool apart(const Interval& other) const { return high < other.low || other.high < low; }
};

/// The interval of the median of some values, by drawing as many from them again and again, always
/// the same ones (Efron, "Bootstrap Methods: Another Look at the Jackknife", 1979). Of fewer than 3
/// values: from the least to the most.
Interval interval_of_median(const std::vector<double>& values);

/// The same of the median ratio of values that were measured in turns; both of one length.
Interval interval_of_ratio(const std::vector<double>& values, const std::vector<double>& others);

Statistics summarize(const std::vector<double>& values);

}  // namespace photonlane
