#pragma once

#include <fmt/format.h>

#include <string>

namespace photonlane::io {

/// Where run_sweep() leaves the picture of a setting, and of the reference of the first one.
inline std::string setting_picture(const std::string& folder, std::size_t setting) {
  return fmt::format("{}/pictures/setting-{:04}.png", folder, setting + 1);
}
inline std::string reference_picture(const std::string& folder) {
  return folder + "/pictures/reference.png";
}
/// Where run_tune() leaves the first view by the budget as it was, and by what was found.
inline std::string tuned_picture(const std::string& folder, bool found) {
  return fmt::format("{}/pictures/{}.png", folder, found ? "found" : "before");
}

}  // namespace photonlane::io
