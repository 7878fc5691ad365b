#pragma once

#include "fractal/escape_kernel.hpp"

namespace photonlane {

/// A split of the bits of whole numbers: those before the point, with the sign, and those behind.
struct FixedSplit {
  int integer_bits = 4;
  int fraction_bits = 28;
  /// What does not fit is this and more in size.
  double reach() const;
};

/// Iterates points in whole numbers of such bits. Products lose what is below their last bit, as a
/// shift does; what no longer fits has escaped.
void iterate_fixed(const EscapeRule& rule, const EscapeStop& stop, const FixedSplit& split,
                   const PlanePoints& points, EscapeEnds& ends);

}  // namespace photonlane
