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

/// Text of a user's as it may be shown on one line of a terminal: control characters, characters
/// that change the direction of text, and bytes that are not UTF-8 are written as escapes (\n,
/// \x1b, \u202e).
std::string one_line(std::string_view text);

/// How many bytes the character at the start of a text has, 1 to 4, or 0 where the text does not
/// start with valid UTF-8 (The Unicode Standard, table 3-7).
std::size_t utf8_length(std::string_view text);

/// Where the first byte stands that is not UTF-8, or nothing.
std::optional<std::size_t> find_invalid_utf8(std::string_view text);

}  // namespace photonlane
