#pragma once

#include "fractal/escape_kernel.hpp"
#include "fractal/far_number.hpp"

namespace photonlane {

/// Whether an orbit of a Julia set, at z, is drawn in by a cycle: it comes back to where it is, and
/// what is around it is nearer to it then. That an orbit has drawn its surroundings together once
/// says less: it may have come near to 0, where every step does, and go anywhere from there.
bool returns_drawn_in(const EscapeRule& rule, const Complex& z);

}  // namespace photonlane
