#pragma once

#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

struct Material {
  Color base{0.6f, 0.6f, 0.6f};
};
std::span<const Knob<Material>> material_knobs();

/// What a lane that ran out of budget shows in the color layers: a violet that no scene uses by
/// accident, never faded by fog.
inline const Color spent_color{0.55f, 0.0f, 0.85f};

}  // namespace photonlane
