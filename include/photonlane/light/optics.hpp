#pragma once

namespace photonlane {

/// The share of unpolarized light that the boundary to another medium throws back (Fresnel, as in
/// Born and Wolf, "Principles of Optics", 1959, 1.5.2). `cosine` is that of the angle to the
/// normal, at most 1; `index` is the refractive index beyond the boundary over that before it.
float reflectance(float cosine, float index);

/// The same of a mirror that throws back `straight` seen straight on, about (Schlick, "An
/// Inexpensive BRDF Model for Physically-based Rendering", 1994).
float mirror_reflectance(float cosine, float straight);

/// What a surface as rough as `roughness` shows of a light: the share thrown toward the eye, times
/// pi over the light that arrives. Facets are spread as by Walter and others, "Microfacet Models
/// for Refraction through Rough Surfaces", 2007, and hide one another as by Heitz, "Understanding
/// the Masking-Shadowing Function", 2014. Cosines to the normal of the light, the eye and halfway
/// between, and of the light to that.
struct Facets {
  float light, eye, half, light_to_half;
};
float highlight(const Facets& cosines, float roughness);

/// A direction bent where it goes into another medium, by Snell's law. False where all is thrown
/// back.
struct Bent {
  bool through = false;
  float x = 0, y = 0, z = 0;
};
Bent bend(float x, float y, float z, float normal_x, float normal_y, float normal_z, float index);

}  // namespace photonlane
