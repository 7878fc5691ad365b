#pragma once

#include <string>
#include <vector>

#include "live/sitting.hpp"

namespace photonlane::live {

/// The page of results of what was tried, as `photonlane sweep` makes it of a sweep: those settings
/// whose error is known.
std::string report_of(const std::vector<Tried>& tried, const Settings& base, const Budget& best,
                      const std::string& title, const std::string& scene);

}  // namespace photonlane::live
