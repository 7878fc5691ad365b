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
  /// Of surfaces, how much of what is behind they hide; of sums, how much of a pixel is backdrop,
  /// where that is asked for.
  alignas(64) float alpha[padded];
};

/// One material on one face, as one frame looks it up. A texture lies by the place in the world:
/// u = x * u_x + y * u_y + u_0 and v = y * v_y + z * v_z + v_0, in tiles, for a place in meters
/// from the eye; where the eye is within a tile is worked out in double.
struct PaintEntry {
  float red, green, blue, opacity;
  float u_x, u_y, u_0;
  float v_y, v_z, v_0;
  float normal_x, normal_y, normal_z;
  float texels;        ///< of the full texture along a meter, across; on panels across all of it
  std::int32_t level;  ///< of the full texture in the set; -1: no texture
  std::int32_t first;  ///< its first texel; without a texture, one that is white
  std::int32_t width, height;
};

/// The materials of a frame, every one on every face.
struct PaintTable {
  static constexpr std::uint32_t faces = choice_names<Face>.size();

  PaintTable(const std::vector<Material>& materials, const TextureSet& textures, const Vec3d& eye,
             const TextureBudget& budget, double pixel_angle, float north_shade);

  const PaintEntry& at(std::uint32_t material, Face face) const {
    return entries[material * faces + static_cast<std::uint32_t>(face)];
  }

  std::vector<PaintEntry> entries;
  const TextureSet* textures;
  TextureSampling sampling;
  float taps;
  float pixel_angle;           ///< width of a pixel at distance 1
  bool clear = false;          ///< some material or texture lets light through
  std::vector<float> density;  ///< by material; empty where none is a soft body
};

/// How far surfaces are from the eye, and the ways lanes look at them; without those, they come
/// straight from where places are counted from.
struct Reach {
  const float* meters;
  const float* way_x = nullptr;
  const float* way_y = nullptr;
  const float* way_z = nullptr;
};

/// The color of every surface: its material's, times its texture's, on faces toward north and
/// south times `north_shade`. By their `reach`
/// pixels cover more or less of a texture. Wall textures run from left to right as one stands
/// before them, their foot at height 0; on the floor up is north. True where some alpha is below 1.
bool paint_surfaces(const Surfaces& surfaces, const PaintTable& table, const Reach& reach,
                    Colors& colors);

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

/// Adds `share` of each surface's color, faded by fog over `distance`, to the sums, or starts them
/// where it is the `first`; with `through` weighed by it. `count` values, rounded up to whole
/// vectors.
void add_faded(const Colors& colors, const float* distance, const FogRow& fog, float share,
               const Through* through, std::size_t count, bool first, Colors& sums);

}  // namespace photonlane
