#include "measure/similarity.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace photonlane {
namespace {

constexpr int radius = 5;

std::array<double, 2 * radius + 1> window() {
  std::array<double, 2 * radius + 1> weights{};
  for (int i = -radius; i <= radius; ++i) weights[i + radius] = std::exp(-i * i / (2 * 1.5 * 1.5));
  return weights;
}

/// The image with each pixel the weighted mean of its neighborhood, first along rows, then along
/// columns; both passes run through memory in order.
template <class Value>
std::vector<double> blurred(Size size, const Value& value) {
  static const auto weights = window();
  const auto width = static_cast<std::size_t>(size.width);
  std::vector<double> rows(width * size.height);
  std::vector<double> line(width);
  for (int y = 0; y < size.height; ++y) {
    for (std::size_t x = 0; x < width; ++x) line[x] = value(y * width + x);
    for (int x = 0; x < size.width; ++x) {
      double sum = 0;
      double weight = 0;
      for (int j = std::max(0, x - radius); j <= std::min(size.width - 1, x + radius); ++j) {
        sum += weights[j - x + radius] * line[j];
        weight += weights[j - x + radius];
      }
      rows[y * width + x] = sum / weight;
    }
  }
  std::vector<double> image(rows.size(), 0.0);
  for (int y = 0; y < size.height; ++y) {
    const int first = std::max(0, y - radius);
    const int last = std::min(size.height - 1, y + radius);
    double weight = 0;
    for (int j = first; j <= last; ++j) weight += weights[j - y + radius];
    double* target = &image[y * width];
    for (int j = first; j <= last; ++j) {
      const double share = weights[j - y + radius] / weight;
      const double* source = &rows[j * width];
      for (std::size_t x = 0; x < width; ++x) target[x] += share * source[x];
    }
  }
  return image;
}

}  // namespace

double structural_similarity(const std::vector<float>& a, const std::vector<float>& b, Size size) {
  const auto mean_a = blurred(size, [&](std::size_t i) { return double{a[i]}; });
  const auto mean_b = blurred(size, [&](std::size_t i) { return double{b[i]}; });
  const auto square_a = blurred(size, [&](std::size_t i) { return double{a[i]} * a[i]; });
  const auto square_b = blurred(size, [&](std::size_t i) { return double{b[i]} * b[i]; });
  const auto product = blurred(size, [&](std::size_t i) { return double{a[i]} * b[i]; });
  constexpr double c1 = 0.01 * 0.01;
  constexpr double c2 = 0.03 * 0.03;
  double sum = 0;
  for (std::size_t i = 0; i < a.size(); ++i) {
    const double variance_a = square_a[i] - mean_a[i] * mean_a[i];
    const double variance_b = square_b[i] - mean_b[i] * mean_b[i];
    const double covariance = product[i] - mean_a[i] * mean_b[i];
    sum += (2 * mean_a[i] * mean_b[i] + c1) * (2 * covariance + c2) /
           ((mean_a[i] * mean_a[i] + mean_b[i] * mean_b[i] + c1) * (variance_a + variance_b + c2));
  }
  return sum / static_cast<double>(a.size());
}

}  // namespace photonlane
