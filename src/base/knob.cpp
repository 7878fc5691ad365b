#include "photonlane/base/knob.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <charconv>
#include <cmath>

namespace photonlane {
namespace {

/// As people write numbers: 1000000, not 1e+06; 1e9 where that is shorter by much.
std::string bound_text(double value) {
  if (value == std::floor(value) && std::fabs(value) < 1e8) return fmt::format("{:.0f}", value);
  std::string text = fmt::format("{}", value);
  if (const auto plus = text.find("e+"); plus != text.npos) text.erase(plus + 1, 1);
  if (const auto zero = text.find("e0"); zero != text.npos) text.erase(zero + 1, 1);
  if (const auto zero = text.find("e-0"); zero != text.npos) text.erase(zero + 2, 1);
  return text;
}

std::string range_text(const Range& range) {
  const bool low = std::isfinite(range.low);
  const bool high = std::isfinite(range.high);
  if (low && high && !range.open_low && !range.open_high) {
    return fmt::format(", {} to {}", bound_text(range.low), bound_text(range.high));
  }
  std::string text;
  if (low) {
    text = fmt::format(", {} {}", range.open_low ? "more than" : "at least", bound_text(range.low));
  }
  if (high) {
    text += fmt::format("{} {} {}", low ? " and" : ",", range.open_high ? "less than" : "at most",
                        bound_text(range.high));
  }
  return text;
}

[[noreturn]] void refuse(const KnobInfo& info, std::string_view text) {
  throw Error(ErrorKind::input,
              fmt::format("found '{}', expected {}", text.substr(0, 60), info.expected()));
}

std::string_view trimmed(std::string_view text) {
  const auto first = text.find_first_not_of(" \t");
  if (first == std::string_view::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

/// One finite number that fills the whole text and lies in the range, or a refusal that shows
/// all of the value it is part of.
double number_in(std::string_view text, const KnobInfo& info, std::string_view whole) {
  text = trimmed(text);
  if (text.starts_with('+')) text.remove_prefix(1);
  double value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  const Range& range = info.range;
  const bool inside = range.open_low ? value > range.low : value >= range.low;
  const bool below = range.open_high ? value < range.high : value <= range.high;
  if (problem != std::errc() || end != text.data() + text.size() || !std::isfinite(value) ||
      !inside || !below) {
    refuse(info, whole);
  }
  return value;
}

std::array<double, 3> three_numbers(std::string_view text, const KnobInfo& info) {
  std::array<double, 3> values{};
  std::string_view rest = trimmed(text);
  if (rest.starts_with('[') && rest.ends_with(']')) rest = rest.substr(1, rest.size() - 2);
  for (int i = 0; i < 3; ++i) {
    const auto comma = rest.find(',');
    if ((comma == std::string_view::npos) != (i == 2)) refuse(info, text);
    values[i] = number_in(rest.substr(0, comma), info, text);
    rest = comma == std::string_view::npos ? std::string_view() : rest.substr(comma + 1);
  }
  return values;
}

}  // namespace

std::string KnobInfo::expected() const {
  const std::string in_unit = unit.empty() ? "" : fmt::format(", in {}", unit);
  switch (kind) {
    case KnobKind::integer:
      return "integer" + range_text(range) + in_unit;
    case KnobKind::number:
      return "number" + range_text(range) + in_unit;
    case KnobKind::flag:
      return "true or false";
    case KnobKind::choice:
      return fmt::format("one of {}", fmt::join(choices, ", "));
    case KnobKind::text:
      return "text";
    case KnobKind::point:
      return "three numbers [x, y, z]" + range_text(range) + in_unit;
    case KnobKind::decimal:
      return "decimal number of any length" + range_text(range) + in_unit;
    case KnobKind::place:
      return "two decimal numbers of any length [real, imaginary]";
    case KnobKind::color:
      return "a color [red, green, blue] of linear light" + range_text(range) + ", or \"#rrggbb\"";
  }
  return {};
}

namespace detail {

void assign(double& value, const KnobInfo& info, std::string_view text) {
  value = number_in(text, info, text) * info.factor;
}

void assign(float& value, const KnobInfo& info, std::string_view text) {
  value = static_cast<float>(number_in(text, info, text) * info.factor);
}

void assign(std::int64_t& value, const KnobInfo& info, std::string_view text) {
  const double number = number_in(text, info, text);
  if (number != std::floor(number) || std::fabs(number) > 9e15) refuse(info, text);
  value = static_cast<std::int64_t>(number);
}

void assign(int& value, const KnobInfo& info, std::string_view text) {
  std::int64_t wide = 0;
  assign(wide, info, text);
  if (wide != static_cast<int>(wide)) refuse(info, text);
  value = static_cast<int>(wide);
}

void assign(bool& value, const KnobInfo& info, std::string_view text) {
  if (text == "true") {
    value = true;
  } else if (text == "false") {
    value = false;
  } else {
    refuse(info, text);
  }
}

void assign(std::string& value, const KnobInfo&, std::string_view text) { value = text; }

void assign(Vec3d& value, const KnobInfo& info, std::string_view text) {
  const auto numbers = three_numbers(text, info);
  value = Vec3d(numbers[0], numbers[1], numbers[2]) * info.factor;
}

void assign(Color& value, const KnobInfo& info, std::string_view text) {
  if (text.starts_with('#')) {
    value = color_from_hex(text);
    return;
  }
  const auto numbers = three_numbers(text, info);
  value = Color(static_cast<float>(numbers[0]), static_cast<float>(numbers[1]),
                static_cast<float>(numbers[2]));
}

std::size_t choice_index(const KnobInfo& info, std::string_view text) {
  for (std::size_t i = 0; i < info.choices.size(); ++i) {
    if (info.choices[i] == text) return i;
  }
  throw Error(ErrorKind::input, fmt::format("found '{}', expected {}{}", text.substr(0, 60),
                                            info.expected(), suggestion(text, info.choices)));
}

std::string read(double value, const KnobInfo& info) {
  // An angle read back in degrees shall be the number that was written, not its neighbor.
  const double shown = value / info.factor;
  const std::string brief = fmt::format("{:.12g}", shown);
  double again = 0;
  std::from_chars(brief.data(), brief.data() + brief.size(), again);
  return again * info.factor == value ? brief : fmt::format("{}", shown);
}

std::string read(float value, const KnobInfo& info) {
  return info.factor == 1 ? fmt::format("{}", value) : read(static_cast<double>(value), info);
}

std::string read(int value, const KnobInfo&) { return fmt::format("{}", value); }
std::string read(std::int64_t value, const KnobInfo&) { return fmt::format("{}", value); }
std::string read(bool value, const KnobInfo&) { return value ? "true" : "false"; }
std::string read(const std::string& value, const KnobInfo&) { return value; }

std::string read(const Vec3d& value, const KnobInfo& info) {
  KnobInfo part = info;
  return fmt::format("[{}, {}, {}]", read(value.x(), part), read(value.y(), part),
                     read(value.z(), part));
}

std::string read(const Color& value, const KnobInfo&) {
  return fmt::format("[{}, {}, {}]", value[0], value[1], value[2]);
}

}  // namespace detail
}  // namespace photonlane
