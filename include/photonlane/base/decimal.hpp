#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "photonlane/base/error.hpp"

namespace photonlane {

struct KnobInfo;

/// A decimal number of any length and size, kept as it was written: "-0.7436438870371587",
/// "1e-1000".
class Decimal {
 public:
  Decimal() = default;
  /// The shortest text that reads back to the value. Throws Error (input) where it is not finite.
  Decimal(double value);
  /// Throws Error (input) for what is no decimal number.
  explicit Decimal(std::string_view text);

  const std::string& text() const { return text_; }
  /// The nearest double; 0 or infinite where that is out of its range.
  double value() const;
  /// Of its size, to the base of ten; minus infinity for 0.
  double log10() const;
  /// Which power of ten its last digit written counts.
  long long last_place() const;
  bool positive() const { return log10() > -1e300 && !text_.starts_with('-'); }

  bool operator==(const Decimal&) const = default;

 private:
  std::string text_ = "0";
};

/// A place in the plane of complex numbers.
struct DecimalPoint {
  Decimal x, y;
  bool operator==(const DecimalPoint&) const = default;
};

namespace detail {
void assign(Decimal& value, const KnobInfo& info, std::string_view text);
void assign(DecimalPoint& value, const KnobInfo& info, std::string_view text);
/// "none" for no place.
void assign(std::optional<DecimalPoint>& value, const KnobInfo& info, std::string_view text);
std::string read(const Decimal& value, const KnobInfo& info);
std::string read(const DecimalPoint& value, const KnobInfo& info);
std::string read(const std::optional<DecimalPoint>& value, const KnobInfo& info);
}  // namespace detail

}  // namespace photonlane
