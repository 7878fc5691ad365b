#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <optional>

#include "photonlane/measure/named_setting.hpp"
#include "photonlane/measure/sweep.hpp"

namespace photonlane {
namespace {

std::optional<double> whole_number(std::string_view text) {
  double value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc() || end != text.data() + text.size() || !std::isfinite(value)) {
    return std::nullopt;
  }
  return value;
}

/// "from..to/count" or "from..to//count"; nothing where it is not a range.
std::optional<std::vector<double>> range_values(std::string_view text) {
  const auto dots = text.find("..");
  const auto slash = text.find('/');
  if (dots == text.npos) return std::nullopt;
  if (slash == text.npos && whole_number(text.substr(0, dots)) &&
      whole_number(text.substr(dots + 2))) {
    throw Error(
        ErrorKind::input,
        fmt::format("found '{}', expected how many values too: {}/COUNT for equal differences "
                    "or {}//COUNT for equal ratios",
                    text, text, text));
  }
  if (slash == text.npos || slash < dots) return std::nullopt;
  const bool ratios = text.substr(slash).starts_with("//");
  const auto from = whole_number(text.substr(0, dots));
  const auto to = whole_number(text.substr(dots + 2, slash - dots - 2));
  const auto count = whole_number(text.substr(slash + (ratios ? 2 : 1)));
  const bool good = from && to && count && *count >= 2 && *count <= 1000 &&
                    *count == std::floor(*count) && (!ratios || (*from > 0 && *to > 0));
  if (!good) {
    throw Error(ErrorKind::input,
                fmt::format("found '{}', expected FROM..TO/COUNT for equal differences or "
                            "FROM..TO//COUNT for equal ratios, both ends above 0 there, COUNT 2 "
                            "to 1000",
                            text));
  }
  std::vector<double> values;
  const int last = static_cast<int>(*count) - 1;
  for (int i = 0; i <= last; ++i) {
    const double share = static_cast<double>(i) / last;
    values.push_back(i == last ? *to
                     : ratios  ? *from * std::pow(*to / *from, share)
                               : *from + (*to - *from) * share);
  }
  return values;
}

}  // namespace

Vary parse_vary(std::string_view text) {
  const auto equals = text.find('=');
  Vary vary{std::string(text.substr(0, equals)), {}};
  const std::optional<KnobInfo> info = find_setting(vary.knob);
  Settings scratch;
  try {
    if (!info) set_by_name(scratch, vary.knob, "");
    if (equals == text.npos || equals + 1 == text.size()) {
      throw Error(ErrorKind::usage, "expected KNOB=VALUES");
    }
    const std::string_view values = text.substr(equals + 1);
    std::vector<std::string> written;
    if (const auto range = range_values(values)) {
      for (const double value : *range) {
        written.push_back(info->kind == KnobKind::integer ? fmt::format("{:.0f}", value)
                                                          : fmt::format("{:.4g}", value));
      }
    } else {
      for (std::string_view rest = values;;) {
        const auto comma = rest.find(',');
        written.emplace_back(rest.substr(0, comma));
        if (comma == rest.npos) break;
        rest = rest.substr(comma + 1);
      }
    }
    for (const std::string& value : written) {
      set_by_name(scratch, vary.knob, value);
      const std::string canonical = setting_text(scratch, vary.knob);
      if (std::find(vary.values.begin(), vary.values.end(), canonical) == vary.values.end()) {
        vary.values.push_back(canonical);
      }
    }
  } catch (const Error& error) {
    throw Error(error.kind(), fmt::format("{}: {}", vary.knob, error.message()));
  }
  return vary;
}

}  // namespace photonlane
