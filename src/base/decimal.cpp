#include "photonlane/base/decimal.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>

#include "photonlane/base/knob.hpp"

namespace photonlane {
namespace {

/// A number's parts: digits with no point, and the power of ten its last digit counts.
struct Parts {
  std::string digits;  ///< without leading zeros
  long long last = 0;
  bool good = false;
};

Parts parts_of(std::string_view text) {
  Parts parts;
  if (text.starts_with('-') || text.starts_with('+')) text.remove_prefix(1);
  bool point = false;
  bool any = false;
  std::size_t i = 0;
  for (; i < text.size(); ++i) {
    const char c = text[i];
    if (c == '.' && !point) {
      point = true;
    } else if (c >= '0' && c <= '9') {
      any = true;
      if (c != '0' || !parts.digits.empty()) parts.digits += c;
      parts.last -= point;
    } else {
      break;
    }
  }
  if (!any) return parts;
  if (i < text.size()) {
    if (text[i] != 'e' && text[i] != 'E') return parts;
    std::string_view exponent = text.substr(i + 1);
    if (exponent.starts_with('+')) exponent.remove_prefix(1);
    long long value = 0;
    const auto [end, problem] =
        std::from_chars(exponent.data(), exponent.data() + exponent.size(), value);
    // More would not fit into any memory.
    if (problem != std::errc() || end != exponent.data() + exponent.size() ||
        std::abs(value) > 1'000'000) {
      return parts;
    }
    parts.last += value;
  }
  parts.good = true;
  return parts;
}

}  // namespace

Decimal::Decimal(double value) : text_(fmt::format("{}", value)) {
  if (!std::isfinite(value)) {
    throw Error(ErrorKind::input, fmt::format("{} is no decimal number", value));
  }
}

Decimal::Decimal(std::string_view text) : text_(text) {
  if (!parts_of(text_).good) {
    throw Error(ErrorKind::input,
                fmt::format("found '{}', expected a decimal number", text.substr(0, 60)));
  }
  if (text_.starts_with('+')) text_.erase(0, 1);
}

double Decimal::value() const {
  double value = 0;
  const auto [end, problem] = std::from_chars(text_.data(), text_.data() + text_.size(), value);
  (void)end;
  if (problem == std::errc()) return value;
  const double size = log10() > 0 ? std::numeric_limits<double>::infinity() : 0.0;
  return text_.starts_with('-') ? -size : size;
}

double Decimal::log10() const {
  const Parts parts = parts_of(text_);
  if (parts.digits.empty()) return -std::numeric_limits<double>::infinity();
  const std::string leading = parts.digits.substr(0, 17);
  double value = 0;
  std::from_chars(leading.data(), leading.data() + leading.size(), value);
  return std::log10(value) + static_cast<double>(parts.digits.size() - leading.size()) +
         static_cast<double>(parts.last);
}

long long Decimal::last_place() const { return parts_of(text_).last; }

namespace detail {

void assign(Decimal& value, const KnobInfo& info, std::string_view text) {
  const auto refuse = [&] {
    throw Error(ErrorKind::input,
                fmt::format("found '{}', expected {}", text.substr(0, 60), info.expected()));
  };
  if (!parts_of(text).good) refuse();
  const Decimal given(text);
  if (info.range.open_low && info.range.low == 0 && !given.positive()) refuse();
  value = given;
}

void assign(DecimalPoint& value, const KnobInfo& info, std::string_view text) {
  std::string_view rest = text;
  if (rest.starts_with('[') && rest.ends_with(']')) rest = rest.substr(1, rest.size() - 2);
  const auto comma = rest.find(',');
  const auto part = [&](std::string_view one) {
    const auto first = one.find_first_not_of(' ');
    if (first != one.npos) one = one.substr(first, one.find_last_not_of(' ') - first + 1);
    if (!parts_of(one).good) {
      throw Error(ErrorKind::input,
                  fmt::format("found '{}', expected {}", text.substr(0, 60), info.expected()));
    }
    return Decimal(one);
  };
  const Decimal x = part(rest.substr(0, comma));
  value = {x, part(comma == rest.npos ? std::string_view() : rest.substr(comma + 1))};
}

void assign(std::optional<DecimalPoint>& value, const KnobInfo& info, std::string_view text) {
  if (text == "none") {
    value.reset();
    return;
  }
  DecimalPoint point;
  assign(point, info, text);
  value = point;
}

std::string read(const Decimal& value, const KnobInfo&) { return value.text(); }

std::string read(const DecimalPoint& value, const KnobInfo&) {
  return fmt::format("[{}, {}]", value.x.text(), value.y.text());
}

std::string read(const std::optional<DecimalPoint>& value, const KnobInfo& info) {
  return value ? read(*value, info) : "none";
}

}  // namespace detail

}  // namespace photonlane
