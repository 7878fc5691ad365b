#pragma once

/// How a surface throws light on, for light that goes by paths. Directions point away from the
/// surface, of unit length, in a frame whose z is the normal on the side light comes to the eye on.
///
///   const ScatterSurface brass{.base = {0.9f, 0.7f, 0.3f}, .metal = 1, .roughness = 0.3f};
///   const Scattering scattering(brass);
///   const ScatterSample sample = scattering.sample(toward_eye, 0.3f, 0.7f, 0.1f);
///
/// Radiance is counted per square of the index of refraction, so that it is the same before and
/// behind glass. Scattering is the same both ways for every bit of cosine times solid angle times
/// that square.

#include "photonlane/base/color.hpp"

namespace photonlane {

/// A direction in a surface's frame.
struct Way {
  float x = 0, y = 0, z = 1;
};

/// A surface where a path meets it.
struct ScatterSurface {
  Color base{0.6f, 0.6f, 0.6f};  ///< diffuse albedo, or what a metal reflects straight on
  float opacity = 1;             ///< what is not reflected goes on by 1 - opacity
  Color tint{1, 1, 1};           ///< filters what goes on
  float metal = 0;
  float specular = 0;  ///< reflectance straight on, of what is no metal
  float film = 1;      ///< share of the surface that is specular, as a wet floor's
  float roughness = 0;
  float index = 1;    ///< beyond the surface over before it
  bool body = false;  ///< light that goes on is bent; else it goes straight, as through a pane
  bool leaf = false;  ///< diffuse light goes to both sides alike
};

/// Where a path goes on.
struct ScatterSample {
  Way way;
  Color weight{0, 0, 0};  ///< throughput: value / density; 0: it goes nowhere
  float density = 0;      ///< per steradian; 0 for mirrors, glass and panes
  bool sharp = false;     ///< it goes the only way there is
  bool straight = false;  ///< it goes on as if nothing was there
  bool through = false;   ///< it is bent to the other side
};

/// Scattering of one surface: a diffuse part under a microfacet layer with GGX's distribution
/// (Walter and others, "Microfacet Models for Refraction through Rough Surfaces", 2007), sampled by
/// visible normals (Heitz, "Sampling the GGX Distribution of Visible Normals", 2018). What facets
/// throw at one another is given back (Kulla and Conty, "Revisiting Physically Based Shading at
/// Imageworks", 2017), and what the layer reflects does not reach the diffuse part, either way
/// (Kelemen and Szirmay-Kalos, "A Microfacet Based Coupled Specular-Matte BRDF Model with
/// Importance Sampling", 2001). Of rough
/// bodies it comes out on both sides alike.
class Scattering {
 public:
  explicit Scattering(const ScatterSurface& surface);

  /// Scattering function times the cosine to the normal, without what goes the only way there is.
  Color value(const Way& out, const Way& in) const;
  /// What goes straight through a pane.
  Color straight(const Way& out) const;
  /// Density per steradian by which sample() finds a direction.
  float density(const Way& out, const Way& in) const;
  /// A direction for three numbers in [0, 1).
  ScatterSample sample(const Way& out, float choice, float u, float v) const;
  /// Whether light from a lamp can be thrown on: not by mirrors alone.
  bool takes_light() const { return diffuse_share_ > 0 || !mirror_; }

 private:
  struct Shares {
    float facets, diffuse, straight;
  };
  Color layer(float cosine) const;
  Shares shares(const Color& layer_out) const;
  float diffuse_chance(const Way& out) const;
  float thrown_chance(float along) const;
  float left_over(float cosine, bool behind) const;
  float behind_share() const;
  float scattered(const Way& out, const Way& in) const;
  float body_density(const Way& out, const Way& in) const;
  ScatterSample sample_body(const Way& out, float choice, float u, float v) const;

  ScatterSurface surface_;
  Color straight_on_;  ///< reflectance of the layer straight on
  Color mean_layer_;   ///< of all directions alike
  Color again_;        ///< what facets throw at one another comes out by
  bool layered_ = false;
  bool mirror_ = true;
  bool thin_glass_ = false;
  float width_ = 0;  ///< alpha of the distribution
  float diffuse_share_ = 0;
  float mean_single_ = 1;
};

/// Share of light that a layer of facets that reflect all of it lets out after one reflection, for
/// a cosine to the normal and a roughness; what is missing was thrown at other facets.
float single_reflection(float cosine, float roughness);

}  // namespace photonlane
