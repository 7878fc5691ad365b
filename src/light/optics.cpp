#include "photonlane/light/optics.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/vector.hpp"

namespace photonlane {

float reflectance(float cosine, float index) {
  const float c = std::clamp(cosine, 0.0f, 1.0f);
  const float square = index * index - 1 + c * c;
  if (square <= 0) return 1;
  const float g = std::sqrt(square);
  const float across = (c - g) / (c + g);
  const float along = (index * index * c - g) / (index * index * c + g);
  return 0.5f * (across * across + along * along);
}

float mirror_reflectance(float cosine, float straight) {
  const float x = 1 - std::clamp(cosine, 0.0f, 1.0f);
  const float square = x * x;
  return straight + (1 - straight) * square * square * x;
}

float highlight(const Facets& cosines, float roughness) {
  // Squared, so that equal steps of roughness look equal; a mirror shows lights by bounces.
  const float width = std::max(roughness * roughness, 0.002f);
  const float square = width * width;
  const float l = std::max(cosines.light, 1e-4f);
  const float v = std::max(cosines.eye, 1e-4f);
  const float h = std::clamp(cosines.half, 0.0f, 1.0f);
  const float spread = h * h * (square - 1) + 1;
  const float facets = square / std::max(spread * spread, 1e-12f);
  const float hidden =
      l * std::sqrt(v * v * (1 - square) + square) + v * std::sqrt(l * l * (1 - square) + square);
  return facets * 0.5f / hidden;
}

Bent bend(float x, float y, float z, float normal_x, float normal_y, float normal_z, float index) {
  const float ratio = 1 / index;
  const float cosine = -(x * normal_x + y * normal_y + z * normal_z);
  const float square = 1 - ratio * ratio * (1 - cosine * cosine);
  if (square <= 0) return {};
  const float along = ratio * cosine - std::sqrt(square);
  const float bent_x = ratio * x + along * normal_x;
  const float bent_y = ratio * y + along * normal_y;
  const float bent_z = ratio * z + along * normal_z;
  const float length = 1 / std::sqrt(bent_x * bent_x + bent_y * bent_y + bent_z * bent_z);
  return {true, bent_x * length, bent_y * length, bent_z * length};
}

}  // namespace photonlane
