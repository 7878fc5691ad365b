#include "textbook/folds.hpp"

#include <algorithm>
#include <cmath>

namespace textbook {

float sponge_distance(float x, float y, float z, int times) {
  float scale = 1;
  for (int i = 0; i < times; ++i) {
    x = std::fabs(x);
    y = std::fabs(y);
    z = std::fabs(z);
    if (x < y) std::swap(x, y);
    if (y < z) std::swap(y, z);
    if (x < y) std::swap(x, y);
    z = std::fabs(z - 1.0f / 3) + 1.0f / 3;
    x = 3 * x - 2;
    y = 3 * y - 2;
    z = 3 * z - 2;
    scale *= 3;
  }
  x = std::fabs(x) - 1;
  y = std::fabs(y) - 1;
  z = std::fabs(z) - 1;
  const float inside = std::min(std::max(x, std::max(y, z)), 0.0f);
  x = std::max(x, 0.0f);
  y = std::max(y, 0.0f);
  z = std::max(z, 0.0f);
  return (inside + std::sqrt(x * x + y * y + z * z)) / scale;
}

float bulb_distance(float x0, float y0, float z0, int times, float limit) {
  float x = x0;
  float y = y0;
  float z = z0;
  float square = x * x + y * y + z * z;
  float stretch = 1;
  for (int i = 0; i < times && square <= limit * limit; ++i) {
    const float r = std::sqrt(square);
    const float r3 = square * r;
    stretch = 8 * r3 * r3 * r * stretch + 1;
    const float across = std::sqrt(x * x + y * y);
    const float inverse = 1 / std::max(across, 1e-30f);
    float a = x * inverse;
    float b = y * inverse;
    float c = z;
    float s = across;
    for (int k = 0; k < 3; ++k) {
      const float real = (a + b) * (a - b);
      b = 2 * a * b;
      a = real;
      const float cosine = (c + s) * (c - s);
      s = 2 * c * s;
      c = cosine;
    }
    x = s * a + x0;
    y = s * b + y0;
    z = c + z0;
    square = x * x + y * y + z * z;
  }
  const float r = std::sqrt(square);
  return 0.5f * r * std::log(r) / stretch;
}

std::size_t march(const float* x, const float* y, const float* z, const float* way_x,
                  const float* way_y, const float* way_z, std::size_t count, float far,
                  float tolerance, float growth, Distance distance, float* t) {
  std::size_t steps = 0;
  for (std::size_t i = 0; i < count; ++i) {
    float at = 0;
    for (int step = 0; step < 4096 && at < far; ++step) {
      ++steps;
      const float value =
          distance(x[i] + at * way_x[i], y[i] + at * way_y[i], z[i] + at * way_z[i]);
      if (value < tolerance + growth * at) break;
      at += value;
    }
    t[i] = at;
  }
  return steps;
}

}  // namespace textbook
