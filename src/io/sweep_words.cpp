#include "io/sweep_words.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>
#include <set>

#include "photonlane/io/report.hpp"

namespace photonlane::io {

const RankWords& words_of(RankBy by) {
  static constexpr std::array<RankWords, choice_names<RankBy>.size()> table{{
      {"ms", "total_ms", "milliseconds a frame, median, bars to the quartiles"},
      {"cpu ms", "cpu_ms", "milliseconds of all threads a frame, median, bars to the quartiles"},
      {"work", "work_ms", "counted work a frame, about milliseconds of a plain machine"},
  }};
  return table[static_cast<std::size_t>(by)];
}

std::string short_name(const Sweep& sweep, const std::string& knob) {
  const std::string word = knob.substr(knob.rfind('.') + 1);
  const auto alike = std::count_if(
      sweep.knobs.begin(), sweep.knobs.end(),
      [&](const std::string& other) { return other.substr(other.rfind('.') + 1) == word; });
  return alike > 1 ? knob : word;
}

std::vector<std::string> series_of(const Sweep& sweep) {
  constexpr std::size_t most = 6;
  std::vector<std::string> series(sweep.settings.size());
  if (sweep.one_by_one) {
    if (sweep.knobs.size() > most) return series;
    const Setting& base = sweep.settings.front();
    for (std::size_t i = 0; i < series.size(); ++i) {
      const Setting& setting = sweep.settings[i];
      for (std::size_t k = 0; k < sweep.knobs.size(); ++k) {
        if (setting.values[k] == "-" || setting.values[k] == base.values[k]) continue;
        series[i] = series[i].empty() ? sweep.knobs[k] : "several knobs";
      }
      if (series[i].empty()) series[i] = "base";
    }
    return series;
  }
  // Of the knobs with several values the one with the fewest.
  std::optional<std::size_t> by;
  std::size_t fewest = most + 1;
  for (std::size_t k = 0; k < sweep.knobs.size() && sweep.knobs.size() > 1; ++k) {
    std::set<std::string> values;
    for (const Setting& setting : sweep.settings) values.insert(setting.values[k]);
    if (values.size() < 2 || values.size() >= fewest) continue;
    fewest = values.size();
    by = k;
  }
  for (std::size_t i = 0; by && i < series.size(); ++i) {
    const std::string& value = sweep.settings[i].values[*by];
    series[i] = fmt::format("{} = {}", sweep.knobs[*by], value == "-" ? "any" : value);
  }
  return series;
}

std::string setting_words(const Sweep& sweep, const Setting& setting) {
  if (sweep.one_by_one) return setting_label(sweep, setting);
  std::string words;
  for (std::size_t k = 0; k < setting.values.size(); ++k) {
    if (setting.values[k] == "-") continue;
    words += fmt::format("{}{}={}", words.empty() ? "" : ", ", short_name(sweep, sweep.knobs[k]),
                         setting.values[k]);
  }
  return words;
}

}  // namespace photonlane::io
