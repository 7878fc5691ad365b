#pragma once

#include <cstdint>
#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// How a lane steps through a cell map.
enum class CellMethod {
  boundary,   ///< exact: from one cell boundary to the next, no cell skipped
  increment,  ///< equal small steps: clips corners and tunnels through thin walls
  leap,       ///< the same hits as boundary, with empty space skipped by a distance map
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<CellMethod>{"boundary", "increment",
                                                                          "leap"};

/// The number type lanes are traced in.
enum class NumberType { float32, float64 };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<NumberType>{"float", "double"};

/// Which rays make a frame.
enum class Rays {
  automatic,  ///< columns where they are exact, else pixels
  columns,    ///< one lane a column: level cameras only
  pixels,     ///< one lane a pixel
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<Rays>{"auto", "columns", "pixels"};

/// How a texture becomes one color.
enum class TextureSampling {
  nearest,   ///< the nearest texel
  bilinear,  ///< between the four nearest texels
  filtered,  ///< over what the pixel covers: no shimmer far away
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<TextureSampling>{
    "nearest", "bilinear", "filtered"};

struct FrameBudget {
  int width = 1280;
  int height = 800;
  int samples = 1;  ///< color samples a pixel; layers other than color sit at its center

  Size size() const { return {width, height}; }
};

struct CellBudget {
  CellMethod method = CellMethod::leap;
  std::int64_t steps = 100000;
  double increment = 0.02;  ///< meters; used by CellMethod::increment alone
};

struct TextureBudget {
  TextureSampling sampling = TextureSampling::filtered;
  int taps = 4;  ///< lookups along the longer side of a pixel's footprint
};

struct PassBudget {
  int limit = 12;  ///< surfaces a lane may look through
};

/// Everything a frame may spend. Turn the knobs one by one, measure, keep the cheapest setting
/// that is good enough.
struct Budget {
  FrameBudget frame;
  CellBudget cells;
  TextureBudget texture;
  PassBudget passes;
  Rays rays = Rays::automatic;
  NumberType number = NumberType::float32;
  double far_limit = 4096;  ///< meters; a lane that gets there has escaped

  /// The most accurate setting of everything that can be wrong, for the frame to measure against:
  /// exact stepping in double, with a step limit that is not met. What the picture is of (size,
  /// samples, far limit) stays.
  Budget reference() const;
};

/// The table of every knob in a Budget.
std::span<const Knob<Budget>> budget_knobs();

}  // namespace photonlane
