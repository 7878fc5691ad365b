#include "photonlane/light/material.hpp"

namespace photonlane {

std::span<const Knob<Material>> material_knobs() {
  static const Knob<Material> table[] = {
      knob<&Material::base>("base", "", {0, 1}, "color of the surface"),
      knob<&Material::tile>("tile", "meters", {0, 100000, true},
                            "width a texture is laid at; its height goes by its texels"),
      knob<&Material::opacity>("opacity", "", {0, 1},
                               "how much of it is seen; below 1 what is behind shows through"),
      knob<&Material::density>("density", "per meter", {0, 1e6},
                               "above 0 a soft body: each meter of it hides 1 - exp(-density) of "
                               "what is behind"),
      knob<&Material::glow>("glow", "", {0, 1}, "how much it shines by itself"),
      knob<&Material::wetness>("wetness", "", {0, 1},
                               "of floors: how much of water's reflection is seen"),
      knob<&Material::roughness>("roughness", "", {0, 1}, "of that reflection: 0 is a mirror"),
      knob<&Material::tint>("tint", "", {0, 1}, "color of what shows through"),
  };
  return table;
}

}  // namespace photonlane
