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

/// Slopes of unit length at the same corners: all along x, then along y, then along z.
template <class Number>
const Number* noise_slopes();

/// The steepest that what lies between the corners can be, in cells: of values that are blended, or
/// of slopes.
double noise_slope(bool slopes);

}  // namespace photonlane
