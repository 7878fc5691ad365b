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

Statistics summarize(const std::vector<double>& values);

}  // namespace photonlane
