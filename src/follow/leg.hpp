#pragma once

#include <algorithm>

#include "lane/surfaces.hpp"
#include "light/paint.hpp"
#include "photonlane/lane/budget.hpp"

namespace photonlane {

struct Onward;

/// Bodies that bend light, which lanes start in.
struct LaneMedium {
  bool inside[Surfaces::capacity] = {};
  float red[Surfaces::capacity];  ///< absorption per meter
  float green[Surfaces::capacity];
  float blue[Surfaces::capacity];

  bool any() const {
    return std::find(inside, inside + Surfaces::capacity, true) != inside + Surfaces::capacity;
  }
  /// Takes from colors what is lost on the way to them (Beer's law), and the fog from that way: it
  /// stays as it was `before`.
  void absorb(const Surfaces& surfaces, const float* before, Colors& colors, float* fogged) const;
};

/// How lanes look that do not come straight from the eye.
struct Leg {
  const LightBudget* light = nullptr;  ///< what lights what they see
  const Onward* lanes = nullptr;       ///< what they carry; null: nothing, and none goes on
  const float* travelled = nullptr;    ///< meters in each room so far, a row a lane
  const LaneMedium* medium = nullptr;  ///< null: they start in none
};

/// Light by no rays at all.
inline constexpr LightBudget rayless{
    SunShadows::none, 1, LampShadows::none, Corners::none, 1, WetFloor::none, Softness::hard, 1,
    FogLight::quick,  1};

}  // namespace photonlane
