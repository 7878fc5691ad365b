#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "photonlane/measure/sweep.hpp"

namespace photonlane::io {

/// A knob's last word, where no other knob of the sweep ends in it; else all of it.
std::string short_name(const Sweep& sweep, const std::string& knob);

/// What settings are ranked by, in tables and plots.
struct RankWords {
  std::string_view head;    ///< of a column for people
  std::string_view column;  ///< for programs
  std::string_view axis;
};
const RankWords& words_of(RankBy by);

/// What series settings fall into: by the values of a knob, or by which knob was turned. Of sweeps
/// of one knob, and of those with too many series, all are of one named "".
std::vector<std::string> series_of(const Sweep& sweep);

/// A setting by its knobs' names and values: "samples=4, corners=none".
std::string setting_words(const Sweep& sweep, const Setting& setting);

}  // namespace photonlane::io
