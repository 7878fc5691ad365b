#pragma once

#include "photonlane/field/field.hpp"

namespace photonlane {

/// What sort of fractal is invented.
enum class FractalKind {
  any,
  tree,      ///< stems that carry smaller stems
  folds,     ///< mirrors, turns and a scale, around a base
  box_ball,  ///< a box and a ball folded, scaled, and the start added
  bulb,
  julia
};
template <>
inline constexpr std::array<std::string_view, 6> choice_names<FractalKind>{
    "any", "tree", "folds", "box_ball", "bulb", "julia"};

struct FractalRecipe {
  std::int64_t seed = 1;
  FractalKind kind = FractalKind::any;
};
std::span<const Knob<FractalRecipe>> fractal_recipe_knobs();

/// A fractal of invented parameters, within ranges that give good ones, about a meter in radius
/// around the origin: the same for the same recipe. Fractals that are too thin to be seen, hardly
/// differ from a ball or have no usable distance estimate are drawn again. Throws Error (input) for
/// values out of range.
Field make_fractal(const FractalRecipe& recipe = {});

}  // namespace photonlane
