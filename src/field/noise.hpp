#pragma once

#include <cstddef>

namespace photonlane {

/// Values from -1 to 1 at the corners of a lattice that comes again after `noise_side` cells along
/// each axis; x runs fastest.
inline constexpr int noise_side = 16;
inline constexpr std::size_t noise_size =
    static_cast<std::size_t>(noise_side) * noise_side * noise_side;
template <class Number>
const Number* noise_lattice();

/// The steepest that the values blended across a cell can be, in cells.
double noise_slope();

}  // namespace photonlane
