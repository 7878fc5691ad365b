#pragma once

#include <array>
#include <functional>
#include <string>

#include "photonlane/grid/cell_map.hpp"

namespace photonlane::io {

/// How start and goal are shown, in drawings and in pictures.
inline constexpr char start_letter = '<';
inline constexpr char goal_letter = '>';
inline constexpr std::array<std::uint8_t, 3> start_color{0x7f, 0xb0, 0x69};
inline constexpr std::array<std::uint8_t, 3> goal_color{0xd9, 0x6c, 0x8a};

/// A map as lines of letters, north first, each after `indent`; `letter` gets a cell's id.
std::string draw_map(const CellMap& map, const std::string& indent,
                     const std::function<char(std::size_t)>& letter);

}  // namespace photonlane::io
