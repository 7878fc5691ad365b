#pragma once

#include "fractal/double_double.hpp"
#include "fractal/far_number.hpp"
#include "photonlane/base/decimal.hpp"

namespace photonlane {

/// The nearest number of two doubles.
DoubleDouble double_double(const Decimal& value);

/// As a number far beyond doubles, with an imaginary part of 0.
FarComplex far(const Decimal& value);

/// a + factor * unit, rounded to so many decimal places.
Decimal moved(const Decimal& a, double factor, const Decimal& unit, long long places);
/// (a - b) / unit.
double ratio(const Decimal& a, const Decimal& b, const Decimal& unit);
/// a * factor, to 20 digits.
Decimal scaled(const Decimal& a, double factor);

}  // namespace photonlane
