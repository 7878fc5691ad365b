#include "photonlane/light/material.hpp"

namespace photonlane {

std::span<const Knob<Material>> material_knobs() {
  static const Knob<Material> table[] = {
      knob<&Material::base>("base", "", {0, 1}, "color of the surface"),
      knob<&Material::tile>("tile", "meters", {1e-6, 100000},
                            "width a texture is laid at; its height goes by its texels"),
      knob<&Material::opacity>("opacity", "", {0, 1},
                               "how much of it is seen; below 1 what is behind shows through"),
      knob<&Material::density>("density", "per meter", {0, 1e6},
                               "above 0 a soft body: each meter of it hides 1 - exp(-density) of "
                               "what is behind"),
      knob<&Material::glow>("glow", "", {0, 1000}, "how much it shines by itself"),
      knob<&Material::wetness>("wetness", "", {0, 1},
                               "of floors: how much of water's reflection is seen"),
      knob<&Material::roughness>("roughness", "", {0, 1},
                                 "of reflections and highlights: 0 is a mirror"),
      knob<&Material::tint>("tint", "", {0, 1}, "color of what shows through"),
      knob<&Material::specular>("specular", "", {0, 1},
                                "how much light it throws back, seen straight on"),
      knob<&Material::metal>("metal", "", {0, 1},
                             "1: all it shows is thrown back, in its own color"),
      knob<&Material::index>("index", "", {1, 4},
                             "above 1, with opacity below 1, what is behind is seen bent: water "
                             "1.33, glass 1.5"),
      knob<&Material::absorption>("absorption", "per meter", {0, 1e6},
                                  "of bodies that bend light: a meter leaves exp(-absorption)"),
      knob<&Material::pattern>("pattern", "", {},
                               "two colors by the place in the room: checks, stripes or noise"),
      knob<&Material::pattern_size>("pattern_size", "meters", {1e-4, 1e5},
                                    "side of a check, width of a stripe, size of a patch"),
      knob<&Material::pattern_axis>("pattern_axis", "", {}, "across which axis stripes lie", 1,
                                    "pattern=stripes"),
      knob<&Material::second>("second", "", {0, 1}, "the pattern's other color"),
  };
  return table;
}

}  // namespace photonlane
