#include "photonlane/light/material.hpp"

namespace photonlane {

std::span<const Knob<Material>> material_knobs() {
  static const Knob<Material> table[] = {
      knob<&Material::base>("base", "", {0, 1}, "color of the surface"),
      knob<&Material::tile>(
          "tile", "meters", {1e-6, 100000},
          "width of one copy of the texture; its height follows from its texels, which are square"),
      knob<&Material::opacity>("opacity", "", {0, 1},
                               "opacity; below 1 what is behind shows through"),
      knob<&Material::density>("density", "per meter", {0, 1e6},
                               "above 0 a soft body: each meter of it hides 1 - exp(-density) of "
                               "what is behind"),
      knob<&Material::glow>("glow", "", {0, 1000},
                            "emission: the surface is at least this share of its color bright; "
                            "where light.transport is paths, it emits so many times its color"),
      knob<&Material::emission>("emission", "radiance", {0, 1e6},
                                "light the surface emits beside glow, whatever its color; 1 is as "
                                "bright as the display's white"),
      knob<&Material::wetness>("wetness", "", {0, 1},
                               "share of the reflection of water on a floor"),
      knob<&Material::roughness>("roughness", "", {0, 1},
                                 "roughness of reflections and highlights; 0 is a mirror"),
      knob<&Material::tint>("tint", "", {0, 1}, "color filter of what shows through"),
      knob<&Material::specular>(
          "specular", "", {0, 1},
          "specular reflectance at normal incidence (0.04 for water, glass and most else)"),
      knob<&Material::metal>(
          "metal", "", {0, 1},
          "1 for metals, which have no diffuse color and reflect in their base color"),
      knob<&Material::index>("index", "", {1, 4},
                             "index of refraction; above 1, with opacity below 1, light is "
                             "refracted: water 1.33, glass 1.5"),
      knob<&Material::absorption>("absorption", "per meter", {0, 1e6},
                                  "absorption of a refracting body: exp(-absorption) of the light "
                                  "is left after a meter (Beer's law)"),
      knob<&Material::pattern>(
          "pattern", "", {},
          "second color laid over the base by place in the room: checks, stripes or noise"),
      knob<&Material::pattern_size>("pattern_size", "meters", {1e-4, 1e5},
                                    "side of a check, width of a stripe, size of a patch"),
      knob<&Material::pattern_axis>("pattern_axis", "", {}, "axis along which stripes alternate", 1,
                                    "pattern=stripes"),
      knob<&Material::second>("second", "", {0, 1}, "the pattern's other color"),
  };
  return table;
}

}  // namespace photonlane
