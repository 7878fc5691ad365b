#pragma once

///   const int bricks = scene.add(make_texture({.pattern = Pattern::brick, .width = 128}),
///   "bricks"); scene.materials.front().texture = bricks;

#include <cstdint>
#include <initializer_list>
#include <memory>
#include <string_view>
#include <utility>
#include <vector>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// The texels of a texture. Copies share them until one is changed, so that scenes are cheap to
/// copy and a world can tell what it has already.
class Texels {
 public:
  Texels() = default;
  Texels(std::vector<std::uint32_t> values)  // NOLINT: is one
      : values_(std::make_shared<std::vector<std::uint32_t>>(std::move(values))) {}
  Texels(std::initializer_list<std::uint32_t> values) : Texels(std::vector(values)) {}

  const std::vector<std::uint32_t>& values() const {
    static const std::vector<std::uint32_t> none;
    return values_ != nullptr ? *values_ : none;
  }
  std::size_t size() const { return values().size(); }
  auto begin() const { return values().begin(); }
  auto end() const { return values().end(); }
  std::uint32_t operator[](std::size_t i) const { return (*values_)[i]; }
  bool operator==(const Texels& other) const { return shares(other) || values() == other.values(); }
  /// Whether both are the same in memory.
  bool shares(const Texels& other) const { return values_ == other.values_; }

  /// To be changed: its own from now on.
  std::vector<std::uint32_t>& own() {
    if (values_ == nullptr) {
      values_ = std::make_shared<std::vector<std::uint32_t>>();
    } else if (values_.use_count() > 1) {
      values_ = std::make_shared<std::vector<std::uint32_t>>(*values_);
    }
    return *values_;
  }
  void push_back(std::uint32_t texel) { own().push_back(texel); }

 private:
  std::shared_ptr<std::vector<std::uint32_t>> values_;
};

/// A picture to lay on surfaces: sRGB bytes packed as red | green << 8 | blue << 16 | alpha << 24,
/// row after row from the top. Alpha tells how much of the surface is there.
struct Texture {
  static constexpr int largest_side = 16384;
  /// Of all textures of a scene together.
  static constexpr std::size_t most_texels = std::size_t{1} << 27;

  int width = 0;
  int height = 0;
  Texels texels;

  std::uint32_t at(int x, int y) const { return texels[static_cast<std::size_t>(y) * width + x]; }
  std::uint32_t& at(int x, int y) { return texels.own()[static_cast<std::size_t>(y) * width + x]; }
};

/// Throws Error (input) for textures without a texel, with a side over the largest, or with another
/// number of texels than the sides say.
void validate(const Texture& texture);

/// A texel from linear light and alpha, both in [0, 1].
std::uint32_t pack_texel(const Color& color, float alpha = 1);

/// What make_texture draws. All but the last three go on without a seam when laid side by side.
enum class Pattern {
  tiles,    ///< square or oblong tiles with joints
  planks,   ///< boards along the texture's width
  brick,    ///< courses of bricks, every other one shifted by half
  leaf,     ///< leaves lying over one another
  noise,    ///< soft patches
  glazing,  ///< panes in bars; panes are mostly clear
  plant,    ///< one plant, the rest clear
  moth,     ///< one moth seen from above, the rest clear
  glow,     ///< a soft round light, clear toward its rim
};
template <>
inline constexpr std::array<std::string_view, 9> choice_names<Pattern>{
    "tiles", "planks", "brick", "leaf", "noise", "glazing", "plant", "moth", "glow"};

/// How a texture of our own is drawn. The same recipe draws the same texels everywhere.
struct TextureRecipe {
  Pattern pattern = Pattern::tiles;
  int width = 256;   ///< texels
  int height = 256;  ///< texels
  Color color{0.42f, 0.36f, 0.30f};
  Color second{0.16f, 0.14f, 0.12f};  ///< joints, bars, veins, the other patches
  int columns = 4;                    ///< tiles, bricks, boards or panes across
  int rows = 4;                       ///< the same from top to bottom
  double joint = 0.05;                ///< width of joints and bars, of a tile's shorter side
  double variation = 0.25;            ///< how much the tiles differ from one another
  double clear = 0.75;                ///< how clear the panes are
  std::int64_t seed = 1;
};
std::span<const Knob<TextureRecipe>> texture_recipe_knobs();

/// Throws Error (input) for a recipe out of range.
Texture make_texture(const TextureRecipe& recipe);

}  // namespace photonlane
