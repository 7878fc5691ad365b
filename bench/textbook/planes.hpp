#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace textbook {

/// Counts the steps of z^2 + c until |z| is above 2, pixel by pixel.
void escape_counts(double center_x, double center_y, double spacing, int width, int height,
                   std::uint32_t limit, std::vector<std::uint32_t>& counts);

/// The same of one point, center + (right, up) * spacing, in numbers of so many bits.
std::uint32_t escape_count_in_bits(const std::string& center_x, const std::string& center_y,
                                   const std::string& spacing, double right, double up, long bits,
                                   std::uint32_t limit);

}  // namespace textbook
