#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <string_view>

namespace photonlane {

/// Linear light with Rec. 709 primaries: red, green, blue.
using Color = Eigen::Array3f;

/// One channel from linear light to its display value, both in [0, 1] (IEC 61966-2-1, sRGB).
float to_display(float linear);
/// One channel from its display value back to linear light.
float from_display(float value);

/// A color written as "#rrggbb" in display values; throws Error (input) for anything else.
Color color_from_hex(std::string_view text);

/// A color from 0xRRGGBB in sRGB, and back to the nearest of those.
Color color_from_code(std::uint32_t code);
std::uint32_t color_code(const Color& color);

/// A color from lightness, chroma and hue (degrees) as in Ottosson, "A perceptual color space for
/// image processing", 2020: equal steps of lightness look equal. Clamped to what a display shows.
Color color_from_lightness(float lightness, float chroma, float hue);

}  // namespace photonlane
