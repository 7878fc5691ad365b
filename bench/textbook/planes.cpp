#include "textbook/planes.hpp"

#include <mpfr.h>

namespace textbook {

void escape_counts(double center_x, double center_y, double spacing, int width, int height,
                   std::uint32_t limit, std::vector<std::uint32_t>& counts) {
  for (int row = 0; row < height; ++row) {
    for (int column = 0; column < width; ++column) {
      const double cx = center_x + (column + 0.5 - 0.5 * width) * spacing;
      const double cy = center_y + (0.5 * height - row - 0.5) * spacing;
      double x = 0;
      double y = 0;
      double xx = 0;
      double yy = 0;
      std::uint32_t count = 0;
      while (xx + yy <= 4 && count < limit) {
        y = 2 * x * y + cy;
        x = xx - yy + cx;
        xx = x * x;
        yy = y * y;
        ++count;
      }
      counts[static_cast<std::size_t>(row) * width + column] = count;
    }
  }
}

std::uint32_t escape_count_in_bits(const std::string& center_x, const std::string& center_y,
                                   const std::string& spacing, double right, double up, long bits,
                                   std::uint32_t limit) {
  mpfr_t cx, cy, x, y, xx, yy, sum;
  mpfr_inits2(bits, cx, cy, x, y, xx, yy, sum, nullptr);
  mpfr_set_str(xx, spacing.c_str(), 10, MPFR_RNDN);
  mpfr_set_str(cx, center_x.c_str(), 10, MPFR_RNDN);
  mpfr_set_str(cy, center_y.c_str(), 10, MPFR_RNDN);
  mpfr_mul_d(sum, xx, right, MPFR_RNDN);
  mpfr_add(cx, cx, sum, MPFR_RNDN);
  mpfr_mul_d(sum, xx, up, MPFR_RNDN);
  mpfr_add(cy, cy, sum, MPFR_RNDN);
  for (mpfr_ptr one : {x, y, xx, yy, sum}) mpfr_set_zero(one, 1);
  std::uint32_t count = 0;
  while (mpfr_cmp_d(sum, 4) <= 0 && count < limit) {
    mpfr_mul(y, x, y, MPFR_RNDN);
    mpfr_mul_2ui(y, y, 1, MPFR_RNDN);
    mpfr_add(y, y, cy, MPFR_RNDN);
    mpfr_sub(x, xx, yy, MPFR_RNDN);
    mpfr_add(x, x, cx, MPFR_RNDN);
    mpfr_sqr(xx, x, MPFR_RNDN);
    mpfr_sqr(yy, y, MPFR_RNDN);
    mpfr_add(sum, xx, yy, MPFR_RNDN);
    ++count;
  }
  mpfr_clears(cx, cy, x, y, xx, yy, sum, nullptr);
  return count;
}

}  // namespace textbook
