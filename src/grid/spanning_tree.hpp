#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "photonlane/base/random.hpp"
#include "photonlane/grid/map_generator.hpp"

namespace photonlane {

/// Random numbers one after the other, by counting.
class RandomStream {
 public:
  explicit RandomStream(std::uint64_t seed) : key_{.seed = seed} {}

  std::uint32_t below(std::uint32_t count) { return random_below(next(), 0, count); }
  /// True with that probability.
  bool chance(double share) { return random_uniform(next(), 0) < share; }

 private:
  RandomKey next() {
    ++key_.pixel;
    return key_;
  }
  RandomKey key_;
};

/// Which neighbors on a lattice are joined: of each node whether it is with its eastern and with
/// its northern neighbor.
struct Lattice {
  int width = 0;
  int height = 0;
  std::vector<std::uint8_t> east, north;

  Lattice(int width_, int height_)
      : width(width_), height(height_), east(size(), 0), north(size(), 0) {}
  std::size_t size() const { return static_cast<std::size_t>(width) * height; }
  std::size_t index(int x, int y) const { return static_cast<std::size_t>(y) * width + x; }
};

/// A random spanning tree of a lattice, all nodes joined, with a share of the missing edges added.
Lattice spanning_tree(int width, int height, TreeMethod method, double loops, RandomStream& random);

}  // namespace photonlane
