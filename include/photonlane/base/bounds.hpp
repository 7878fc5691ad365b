#pragma once

#include "photonlane/base/vector.hpp"

namespace photonlane {

/// A box along the axes; infinite where what it holds has no end.
struct Bounds {
  Vec3d low, high;
  bool finite() const { return low.allFinite() && high.allFinite(); }
};

}  // namespace photonlane
