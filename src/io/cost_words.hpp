#pragma once

#include <string>
#include <string_view>

#include "photonlane/base/stages.hpp"

namespace photonlane::io {

/// What stages of a frame's cost are called in tables.
std::string_view lanes_in_words(LaneKind kind);
std::string_view work_in_words(Work work);
/// How many lanes were worked at together: a full batch has 128, and several go together where
/// fields are large. Nothing where they are not counted.
std::string at_a_time(const Stage& stage);

}  // namespace photonlane::io
