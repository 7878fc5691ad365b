#include "photonlane/base/color.hpp"

#include <fmt/format.h>

#include <array>
#include <cmath>

#include "photonlane/base/error.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"

namespace photonlane {

float to_display(float linear) {
  if (!(linear > 0)) return 0;
  if (linear >= 1) return 1;
  return linear <= 0.0031308f ? 12.92f * linear : 1.055f * std::pow(linear, 1 / 2.4f) - 0.055f;
}

float from_display(float value) {
  return value <= 0.04045f ? value / 12.92f : std::pow((value + 0.055f) / 1.055f, 2.4f);
}

Color color_from_hex(std::string_view text) {
  const auto digit = [&](char c) -> int {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    return -1;
  };
  bool good = text.size() == 7 && text[0] == '#';
  for (std::size_t i = 1; good && i < 7; ++i) good = digit(text[i]) >= 0;
  if (!good) {
    throw Error(ErrorKind::input,
                fmt::format("found '{}', expected a color as #rrggbb, six hexadecimal digits",
                            text.substr(0, 40)));
  }
  Color color;
  for (int i = 0; i < 3; ++i) {
    const int level = digit(text[1 + 2 * i]) * 16 + digit(text[2 + 2 * i]);
    color[i] = from_display(static_cast<float>(level) / 255.0f);
  }
  return color;
}

Color color_from_code(std::uint32_t code) {
  static const std::array<float, 256> light = [] {
    std::array<float, 256> values{};
    for (std::size_t i = 0; i < values.size(); ++i) {
      values[i] = from_display(static_cast<float>(i) / 255);
    }
    return values;
  }();
  return {light[code >> 16 & 255], light[code >> 8 & 255], light[code & 255]};
}

std::uint32_t color_code(const Color& color) {
  std::uint32_t code = 0;
  for (int k = 0; k < 3; ++k) {
    code = code << 8 | static_cast<std::uint32_t>(255 * to_display(color[k]) + 0.5f);
  }
  return code;
}

Color color_from_lightness(float lightness, float chroma, float hue) {
  const auto [sine, cosine] = sine_cosine(degrees(hue));
  const float a = chroma * static_cast<float>(cosine);
  const float b = chroma * static_cast<float>(sine);
  const float l = lightness + 0.3963377774f * a + 0.2158037573f * b;
  const float m = lightness - 0.1055613458f * a - 0.0638541728f * b;
  const float s = lightness - 0.0894841775f * a - 1.2914855480f * b;
  const float l3 = l * l * l;
  const float m3 = m * m * m;
  const float s3 = s * s * s;
  const Color color(4.0767416621f * l3 - 3.3077115913f * m3 + 0.2309699292f * s3,
                    -1.2684380046f * l3 + 2.6097574011f * m3 - 0.3413193965f * s3,
                    -0.0041960863f * l3 - 0.7034186147f * m3 + 1.7076147010f * s3);
  return color.max(0.0f).min(1.0f);
}

}  // namespace photonlane
