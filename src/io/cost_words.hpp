#pragma once

#include <string_view>

#include "photonlane/base/stages.hpp"

namespace photonlane::io {

/// What stages of a frame's cost are called in tables.
std::string_view lanes_in_words(LaneKind kind);
std::string_view work_in_words(Work work);

}  // namespace photonlane::io
