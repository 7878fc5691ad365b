#pragma once

#include <string>
#include <utility>
#include <vector>

#include "io/page.hpp"
#include "photonlane/io/report.hpp"

namespace photonlane::io {

/// How results were made, as a page lists it.
std::vector<std::pair<std::string, std::string>> facts_of(const RunFacts& facts);

PageCell number_cell(double value, std::string text);

/// A frame as it is shown.
Picture picture_of(const Frame& frame);

}  // namespace photonlane::io
