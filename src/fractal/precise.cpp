#include "fractal/precise.hpp"

#include <algorithm>

#include "fractal/precise_number.hpp"

namespace photonlane {
namespace {

/// Bits enough for a number of that many decimal places.
unsigned digits_for(const Decimal& a, long long places) {
  const double whole = std::max(0.0, a.log10());
  return static_cast<unsigned>(std::max(0LL, places) + static_cast<long long>(whole) + 25);
}

}  // namespace

DoubleDouble double_double(const Decimal& value) {
  const Digits digits(digits_for(value, std::min(400LL, -value.last_place())));
  const Precise precise(value.text());
  DoubleDouble result;
  result.high = value.value();
  result.low = Precise(precise - result.high).convert_to<double>();
  return result;
}

FarComplex far(const Decimal& value) {
  const Digits digits(40);
  const Precise precise(value.text());
  long power = 0;
  const double part = mpfr_get_d_2exp(&power, precise.backend().data(), MPFR_RNDN);
  return FarComplex(Complex{part, 0}, power);
}

Decimal moved(const Decimal& a, double factor, const Decimal& unit, long long places) {
  const Digits digits(digits_for(a, std::max(places, -a.last_place())));
  const Precise result = Precise(a.text()) + Precise(factor) * Precise(unit.text());
  return Decimal(std::string_view(
      result.str(static_cast<std::streamsize>(std::max(0LL, places)), std::ios_base::fixed)));
}

double ratio(const Decimal& a, const Decimal& b, const Decimal& unit) {
  const Digits digits(
      digits_for(a, std::max({0LL, -a.last_place(), -b.last_place(), -unit.last_place()})));
  return Precise((Precise(a.text()) - Precise(b.text())) / Precise(unit.text()))
      .convert_to<double>();
}

Decimal scaled(const Decimal& a, double factor) {
  const Digits digits(30);
  return Decimal(std::string_view((Precise(a.text()) * Precise(factor)).str(20)));
}

}  // namespace photonlane
