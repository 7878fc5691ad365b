#pragma once

#include <cstdint>
#include <vector>

#include "lane/surfaces.hpp"
#include "light/texture_set.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/light/material.hpp"

namespace photonlane {

/// The colors of surfaces, each times its alpha.
struct Colors {
  static constexpr std::size_t padded = Surfaces::capacity + 16;  // rows are read in whole vectors
  alignas(64) float red[padded];
  alignas(64) float green[padded];
  alignas(64) float blue[padded];
  alignas(64) float alpha[padded];
};

/// The materials as one frame looks them up, one array a number. Textures lie by the place in the
/// world; where the eye is within a tile is worked out once, in double.
struct PaintTable {
  PaintTable(const std::vector<Material>& materials, const TextureSet& textures, const Vec3d& eye,
             const TextureBudget& budget, double pixel_angle, float north_shade);

  std::vector<float> red, green, blue, opacity;
  std::vector<std::int32_t> texture;           ///< -1: none
  std::vector<float> across, up;               ///< tiles a meter
  std::vector<float> phase_x, phase_y;         ///< of the eye in a tile, along u
  std::vector<float> phase_up_y, phase_up_z;   ///< the same along v
  const TextureSet* textures;
  TextureSampling sampling;
  float taps;
  float pixel_angle;  ///< width of a pixel at distance 1
  float north_shade;
  bool clear = false;  ///< some material or texture lets light through
};

/// The color of every surface: its material's, times its texture's, on faces toward north and
/// south times `north_shade`. Wall textures run from left to right as one stands before them, their
/// foot at height 0; on the floor up is north. True where some alpha is below 1.
bool paint_surfaces(const Surfaces& surfaces, const PaintTable& table, Colors& colors);

struct FogRow {
  float red, green, blue;
  float start, inverse_range;
};

/// What is left of a pixel's light behind the surfaces in front.
struct Through {
  alignas(64) float red[Surfaces::capacity];
  alignas(64) float green[Surfaces::capacity];
  alignas(64) float blue[Surfaces::capacity];
};

/// Adds `share` of each surface's color, faded by fog over `distance`, to the sums; with `through`
/// weighed by it. `count` values, rounded up to whole vectors.
void add_faded(const Colors& colors, const float* distance, const FogRow& fog, float share,
               const Through* through, std::size_t count, Colors& sums);

}  // namespace photonlane
