#include "paths/sample_points.hpp"

#include <array>
#include <cmath>
#include <vector>

#include "photonlane/base/random.hpp"

namespace photonlane {
namespace {

/// A square of numbers of which neighbors differ: the ranks of "void and cluster" (Ulichney, "The
/// Void-and-cluster Method for Dither Array Generation", 1993), as shares of 2^32.
class BlueMask {
 public:
  static constexpr std::uint32_t side = 64;

  static const BlueMask& get() {
    static const BlueMask mask;
    return mask;
  }

  std::uint32_t at(std::uint32_t x, std::uint32_t y) const {
    return shift_[(y % side) * side + x % side];
  }

 private:
  static constexpr std::uint32_t count = side * side;

  BlueMask() {
    for (std::uint32_t y = 0; y < side; ++y) {
      for (std::uint32_t x = 0; x < side; ++x) {
        const auto away = [](std::uint32_t a) {
          const auto d = static_cast<float>(a < side / 2 ? a : side - a);
          return d * d;
        };
        spread_[y * side + x] = std::exp(-(away(x) + away(y)) / (2 * 1.9f * 1.9f));
      }
    }
    std::vector<bool> set(count, false);
    std::vector<float> energy(count, 0.0f);
    std::uint32_t placed = 0;
    for (std::uint32_t k = 0; placed < count / 10; ++k) {
      const std::uint32_t at = random_below({5, 0, k, 0}, 0, count);
      if (set[at]) continue;
      put(at, 1, set, energy);
      ++placed;
    }
    // The start is evened out: from the tightest cluster to the largest void, until they are one.
    for (;;) {
      const std::uint32_t cluster = extreme(set, energy, true);
      put(cluster, -1, set, energy);
      const std::uint32_t gap = extreme(set, energy, false);
      put(gap, 1, set, energy);
      if (gap == cluster) break;
    }
    std::vector<std::uint32_t> rank(count, 0);
    auto rest = set;
    auto rest_energy = energy;
    for (std::uint32_t left = placed; left > 0; --left) {
      const std::uint32_t at = extreme(rest, rest_energy, true);
      put(at, -1, rest, rest_energy);
      rank[at] = left - 1;
    }
    for (; placed < count; ++placed) {
      const std::uint32_t at = extreme(set, energy, false);
      put(at, 1, set, energy);
      rank[at] = placed;
    }
    for (std::uint32_t i = 0; i < count; ++i) shift_[i] = rank[i] * (0xffffffffu / count);
  }

  void put(std::uint32_t at, int sign, std::vector<bool>& set, std::vector<float>& energy) const {
    set[at] = sign > 0;
    const std::uint32_t at_x = at % side;
    const std::uint32_t at_y = at / side;
    for (std::uint32_t y = 0; y < side; ++y) {
      const float* row = spread_.data() + ((y + side - at_y) % side) * side;
      for (std::uint32_t x = 0; x < side; ++x) {
        energy[y * side + x] += static_cast<float>(sign) * row[(x + side - at_x) % side];
      }
    }
  }

  static std::uint32_t extreme(const std::vector<bool>& set, const std::vector<float>& energy,
                               bool cluster) {
    std::uint32_t best = count;
    for (std::uint32_t i = 0; i < count; ++i) {
      if (set[i] != cluster) continue;
      if (best == count || (cluster ? energy[i] > energy[best] : energy[i] < energy[best])) {
        best = i;
      }
    }
    return best;
  }

  std::array<float, count> spread_;
  std::array<std::uint32_t, count> shift_;
};

std::uint32_t reversed(std::uint32_t bits) {
  bits = (bits & 0x55555555u) << 1 | (bits >> 1 & 0x55555555u);
  bits = (bits & 0x33333333u) << 2 | (bits >> 2 & 0x33333333u);
  bits = (bits & 0x0f0f0f0fu) << 4 | (bits >> 4 & 0x0f0f0f0fu);
  return __builtin_bswap32(bits);
}

/// Flips bits by those below them alone (Laine and Karras, "Stratified Sampling for Stochastic
/// Transparency", 2011, with Burley's constants): of reversed bits that is a nested scramble.
std::uint32_t flip_by_lower(std::uint32_t bits, std::uint32_t seed) {
  bits += seed;
  bits ^= bits * 0x6c50b47cu;
  bits ^= bits * 0xb82f1e52u;
  bits ^= bits * 0xc7afe638u;
  bits ^= bits * 0x8d22f6e6u;
  return bits;
}

std::uint32_t hash(std::uint32_t a, std::uint32_t b) {
  return static_cast<std::uint32_t>(mix((std::uint64_t{a} << 32 | b) + 0x9e3779b97f4a7c15u));
}

float share(std::uint32_t bits) { return static_cast<float>(bits >> 8) * 0x1p-24f; }

/// The second coordinate of the sequence, its bits reversed: row r of Pascal's triangle modulo 2
/// holds the columns whose bits include those of r.
std::uint32_t second_reversed(std::uint32_t index) {
  index ^= index >> 1 & 0x55555555u;
  index ^= index >> 2 & 0x33333333u;
  index ^= index >> 4 & 0x0f0f0f0fu;
  index ^= index >> 8 & 0x00ff00ffu;
  index ^= index >> 16 & 0x0000ffffu;
  return index;
}

}  // namespace

SamplePoints::SamplePoints(std::uint64_t seed, std::uint32_t x, std::uint32_t y,
                           std::uint32_t sample)
    : seed_(static_cast<std::uint32_t>(mix(seed * 2 + (sample & 1) + 1))),
      x_(x),
      y_(y),
      index_(sample >> 1) {}

SamplePoints::Pair SamplePoints::pair(std::uint32_t dimension) const {
  const std::uint32_t own = hash(seed_, dimension);
  // The order within blocks of 2, 4, 8 ... changes, what is in a block does not.
  const std::uint32_t index = reversed(flip_by_lower(reversed(index_), own));
  // A coordinate is the reversed index, or the reverse of what is made of it.
  const std::uint32_t u = reversed(flip_by_lower(index, hash(own, 1)));
  const std::uint32_t v = reversed(flip_by_lower(second_reversed(index), hash(own, 2)));
  const BlueMask& mask = BlueMask::get();
  const std::uint32_t place = hash(own, 3);
  return {share(u + mask.at(x_ + (place & 63), y_ + (place >> 6 & 63))),
          share(v + mask.at(x_ + (place >> 12 & 63), y_ + (place >> 18 & 63)))};
}

}  // namespace photonlane
