#include "field/noise.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"

namespace photonlane {
namespace {

template <class Number>
std::vector<Number> make_lattice() {
  std::vector<Number> values(noise_size);
  for (std::size_t i = 0; i < noise_size; ++i) {
    values[i] = static_cast<Number>(2 * random_uniform({.seed = 0x9a7e, .pixel = i}, 0) - 1);
  }
  return values;
}

template <class Number>
std::vector<Number> make_slopes() {
  std::vector<Number> values(3 * noise_size);
  for (std::size_t i = 0; i < noise_size; ++i) {
    const RandomKey key{.seed = 0x9a7f, .pixel = i};
    const double z = 2 * static_cast<double>(random_uniform(key, 0)) - 1;
    const SineCosine angle = sine_cosine(2 * pi * random_uniform(key, 1));
    const double across = std::sqrt(1 - z * z);
    values[i] = static_cast<Number>(across * angle.cosine);
    values[i + noise_size] = static_cast<Number>(across * angle.sine);
    values[i + 2 * noise_size] = static_cast<Number>(z);
  }
  return values;
}

double make_slope() {
  const double* values = noise_lattice<double>();
  const auto at = [&](int x, int y, int z) {
    const auto wrap = [](int i) { return i & (noise_side - 1); };
    return values[wrap(x) + noise_side * (wrap(y) + noise_side * wrap(z))];
  };
  double most = 0;
  for (int z = 0; z < noise_side; ++z) {
    for (int y = 0; y < noise_side; ++y) {
      for (int x = 0; x < noise_side; ++x) {
        double along[3] = {0, 0, 0};
        for (int a = 0; a < 2; ++a) {
          for (int b = 0; b < 2; ++b) {
            along[0] = std::max(along[0], std::abs(at(x + 1, y + a, z + b) - at(x, y + a, z + b)));
            along[1] = std::max(along[1], std::abs(at(x + a, y + 1, z + b) - at(x + a, y, z + b)));
            along[2] = std::max(along[2], std::abs(at(x + a, y + b, z + 1) - at(x + a, y + b, z)));
          }
        }
        most = std::max(most, along[0] * along[0] + along[1] * along[1] + along[2] * along[2]);
      }
    }
  }
  // 3 t^2 - 2 t^3 is nowhere steeper than 3 / 2.
  return 1.5 * std::sqrt(most);
}

}  // namespace

template <class Number>
const Number* noise_lattice() {
  static const std::vector<Number> values = make_lattice<Number>();
  return values.data();
}
template const float* noise_lattice<float>();
template const double* noise_lattice<double>();

template <class Number>
const Number* noise_slopes() {
  static const std::vector<Number> values = make_slopes<Number>();
  return values.data();
}
template const float* noise_slopes<float>();
template const double* noise_slopes<double>();

double noise_slope(bool slopes) {
  static const double of_values = make_slope();
  // Of slopes: 1.817 is the steepest at 41 places along each axis of every cell of the lattice; the
  // rest is for what lies between those.
  return slopes ? 1.9 : of_values;
}

}  // namespace photonlane
