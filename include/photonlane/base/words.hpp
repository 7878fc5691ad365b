#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace photonlane {

/// The candidate nearest to a misspelled word, or nothing when none is near enough to suggest.
/// Near is at most one edit for every three letters: insertion, removal, replacement or a swap
/// of neighbors (Damerau, "A Technique for Computer Detection and Correction of Spelling
/// Errors", 1964). The last part of a dotted word counts by itself too.
std::optional<std::string> nearest_word(std::string_view word,
                                        std::span<const std::string_view> candidates);

/// "; did you mean X?", or nothing.
std::string suggestion(std::string_view word, std::span<const std::string_view> candidates);

}  // namespace photonlane
