#pragma once

#include <span>
#include <string>
#include <string_view>
#include <utility>

#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {

using SphereWord = std::pair<std::string_view, std::string_view>;

/// A column's name. Throws Error (input) for a quantity that is none.
void set_column(std::string_view quantity, std::string_view name, SphereFiles& files);
/// Where numbers lie: stride, type and count, and a place for each quantity, OFFSET,
/// OFFSET:TYPE or OFFSET:TYPE:STRIDE. Throws Error (input); `now` is the word that was at fault.
void set_places(std::span<const SphereWord> words, SphereFiles& files, std::size_t& now);
/// A place as it is read again.
std::string place_word(const SphereField& field);

}  // namespace photonlane::io
