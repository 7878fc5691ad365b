#include "photonlane/light/texture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace photonlane {

void validate(const Texture& texture) {
  if (texture.width <= 0 || texture.height <= 0) {
    throw Error(ErrorKind::input, "texture is empty, expected at least one texel");
  }
  if (texture.width > Texture::largest_side || texture.height > Texture::largest_side) {
    throw Error(ErrorKind::input,
                fmt::format("texture of {}x{} texels, expected at most {} a side", texture.width,
                            texture.height, Texture::largest_side));
  }
  if (texture.texels.size() != static_cast<std::size_t>(texture.width) * texture.height) {
    throw Error(ErrorKind::input,
                fmt::format("texture of {}x{} texels holds {} of them", texture.width,
                            texture.height, texture.texels.size()));
  }
}

std::uint32_t pack_texel(const Color& color, float alpha) {
  const auto byte = [](float value) {
    return static_cast<std::uint32_t>(std::lround(255 * std::clamp(value, 0.0f, 1.0f)));
  };
  return byte(to_display(color[0])) | byte(to_display(color[1])) << 8 |
         byte(to_display(color[2])) << 16 | byte(alpha) << 24;
}

std::span<const Knob<TextureRecipe>> texture_recipe_knobs() {
  static const Knob<TextureRecipe> table[] = {
      knob<&TextureRecipe::pattern>("pattern", "", {}, "the pattern to draw"),
      knob<&TextureRecipe::width>("width", "texels", {1, 8192}, "width of the texture"),
      knob<&TextureRecipe::height>("height", "texels", {1, 8192}, "height of the texture"),
      knob<&TextureRecipe::color>("color", "", {0, 1}, "main color"),
      knob<&TextureRecipe::second>("second", "", {0, 1},
                                   "color of joints, bars, veins or the other patches"),
      knob<&TextureRecipe::columns>("columns", "", {1, 1024}, "tiles, bricks or panes across"),
      knob<&TextureRecipe::rows>("rows", "", {1, 1024},
                                 "tiles, courses, boards or panes from top to bottom"),
      knob<&TextureRecipe::joint>("joint", "", {0, 0.5},
                                  "width of joints and bars, as a share of a tile's shorter side"),
      knob<&TextureRecipe::variation>("variation", "", {0, 1},
                                      "how much the tiles differ from one another"),
      knob<&TextureRecipe::clear>("clear", "", {0, 1}, "how clear the panes of glazing are"),
      knob<&TextureRecipe::seed>("seed", "", {0, 1e15},
                                 "start of the random numbers of the drawing"),
  };
  return table;
}

}  // namespace photonlane
