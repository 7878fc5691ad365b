#include "photonlane/light/material.hpp"

namespace photonlane {

std::span<const Knob<Material>> material_knobs() {
  static const Knob<Material> table[] = {
      knob<&Material::base>("base", "", {0, 1}, "color of the surface"),
  };
  return table;
}

}  // namespace photonlane
