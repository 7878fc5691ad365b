#pragma once

#include <string>

namespace photonlane::io {

/// Draws what a gnuplot script says, as both kinds of pictures; why not where that fails, and the
/// names are then empty.
std::string draw_plot(const std::string& script, std::string& png, std::string& svg);

}  // namespace photonlane::io
