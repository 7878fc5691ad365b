#pragma once

///   const Material water{.base = {1, 1, 1}, .opacity = 0.02f, .specular = 0.04f, .index = 1.33};

#include <array>
#include <span>
#include <string_view>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// A pattern in space, by the place in the room, so that whatever is cut from it shows it.
enum class SurfacePattern {
  none,
  checks,   ///< cubes of two colors
  stripes,  ///< layers of two colors across an axis
  noise     ///< soft patches of two colors
};
template <>
inline constexpr std::array<std::string_view, 4> choice_names<SurfacePattern>{"none", "checks",
                                                                              "stripes", "noise"};
enum class PatternAxis { x, y, z };
template <>
inline constexpr std::array<std::string_view, 3> choice_names<PatternAxis>{"x", "y", "z"};

/// What a surface looks like.
struct Material {
  Color base{0.6f, 0.6f, 0.6f};
  int texture = -1;    ///< index into the scene's textures, whose colors multiply `base`; -1: none
  double tile = 1;     ///< meters the texture is wide; as high as its texels are square
  double opacity = 1;  ///< below 1 what is behind shows through, times `tint`
  double density = 0;  ///< above 0 a soft body: a meter of it hides 1 - exp(-density)
  double glow = 0;     ///< how much of its color it shows whatever the light
  Color emission{0, 0, 0};  ///< radiance it emits beside that; 1 is the white of the display
  double wetness = 0;       ///< of floors: how much of water's reflection is seen on it
  double roughness = 0;     ///< of reflections and highlights: 0 a mirror, 1 wide
  Color tint{1, 1, 1};
  double specular = 0;  ///< how much light a surface throws back seen straight on
  double metal = 0;     ///< 1: all it shows is thrown back, in its own color
  double index =
      1;  ///< above 1 what is behind is seen bent, as through glass (1.5) or water (1.33)
  Color absorption{0, 0, 0};  ///< of a body of such: a meter of it leaves exp(-absorption)
  SurfacePattern pattern = SurfacePattern::none;
  double pattern_size = 0.5;  ///< meters: side of a check, width of a stripe, size of a patch
  PatternAxis pattern_axis = PatternAxis::z;  ///< across which stripes lie
  Color second{0.2f, 0.2f, 0.2f};             ///< the pattern's other color

  /// Whether it throws light back as a mirror or bends it.
  bool glossy() const { return specular > 0 || metal > 0 || bends(); }
  bool bends() const { return index > 1 && opacity < 1; }
  bool emits() const { return glow > 0 || (emission > 0).any(); }
};
std::span<const Knob<Material>> material_knobs();

/// What a lane that ran out of budget shows in the color layers: a violet that no scene uses by
/// accident, never faded by fog.
inline const Color spent_color{0.55f, 0.0f, 0.85f};

}  // namespace photonlane
