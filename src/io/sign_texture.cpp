#include "io/sign_texture.hpp"

#include <algorithm>
#include <vector>

#include "io/cairo_canvas.hpp"

namespace photonlane::io {
namespace {

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines{""};
  for (const char c : text) {
    if (c == '/') {
      lines.emplace_back();
    } else {
      lines.back() += c;
    }
  }
  return lines;
}

std::array<std::uint8_t, 3> bytes_of(const Color& color) {
  const std::uint32_t texel = pack_texel(color);
  return {static_cast<std::uint8_t>(texel), static_cast<std::uint8_t>(texel >> 8),
          static_cast<std::uint8_t>(texel >> 16)};
}

}  // namespace

Texture sign_texture(const std::string& text, const TextureRecipe& recipe) {
  validate_knobs(texture_recipe_knobs(), recipe);
  if (text.empty() || text.size() > 200) {
    throw Error(ErrorKind::input, "a sign needs a text of 1 to 200 bytes");
  }
  const double width = recipe.width;
  const double height = recipe.height;
  const double rim = 0.04 * std::min(width, height);
  const Canvas canvas(Size{recipe.width, recipe.height});
  canvas.set_color(bytes_of(recipe.color));
  canvas.rectangle(0, 0, width, height);
  canvas.set_color(bytes_of(recipe.second));
  cairo_set_line_width(canvas.context(), rim);
  cairo_rectangle(canvas.context(), 1.5 * rim, 1.5 * rim, width - 3 * rim, height - 3 * rim);
  cairo_stroke(canvas.context());
  const std::vector<std::string> lines = lines_of(text);
  const double room_across = width - 8 * rim;
  const double line_height = (height - 6 * rim) / static_cast<double>(lines.size());
  double size = 0.8 * line_height;
  canvas.set_font(size);
  for (const std::string& line : lines) {
    size = std::min(size, size * room_across / std::max(1.0, canvas.text_width(line)));
    canvas.set_font(size);
  }
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const double middle = 3 * rim + line_height * (static_cast<double>(i) + 0.5);
    canvas.text((width - canvas.text_width(lines[i])) / 2, middle + 0.36 * size, lines[i]);
  }
  const Picture picture = canvas.picture();
  Texture texture{recipe.width, recipe.height, {}};
  for (std::size_t i = 0; i < picture.bytes.size(); i += 3) {
    texture.texels.push_back(picture.bytes[i] | std::uint32_t{picture.bytes[i + 1]} << 8 |
                             std::uint32_t{picture.bytes[i + 2]} << 16 | 0xff000000u);
  }
  return texture;
}

}  // namespace photonlane::io
