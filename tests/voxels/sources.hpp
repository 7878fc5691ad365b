#pragma once

#include <memory>
#include <vector>

#include "photonlane/base/random.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

/// A grid as an array of all its cells.
class DenseVoxels final : public VoxelSource {
 public:
  DenseVoxels(const VoxelCell& size, VoxelPalette palette)
      : cells(static_cast<std::size_t>(size[0]) * static_cast<std::size_t>(size[1]) *
              static_cast<std::size_t>(size[2])),
        size_(size),
        palette_(std::move(palette)) {}

  std::uint32_t& at(int x, int y, int z) { return cells[index(x, y, z)]; }
  std::uint32_t at(int x, int y, int z) const {
    if (x < 0 || y < 0 || z < 0 || x >= size_[0] || y >= size_[1] || z >= size_[2]) return 0;
    return cells[index(x, y, z)];
  }

  VoxelCell size() const override { return size_; }
  VoxelPalette palette() const override { return palette_; }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    for (int z = 0; z < side; ++z) {
      for (int y = 0; y < side; ++y) {
        for (int x = 0; x < side; ++x) *values++ = at(low[0] + x, low[1] + y, low[2] + z);
      }
    }
  }

  std::vector<std::uint32_t> cells;

 private:
  std::size_t index(int x, int y, int z) const {
    return (static_cast<std::size_t>(z) * static_cast<std::size_t>(size_[1]) +
            static_cast<std::size_t>(y)) *
               static_cast<std::size_t>(size_[0]) +
           static_cast<std::size_t>(x);
  }
  VoxelCell size_;
  VoxelPalette palette_;
};

inline VoxelPalette kinds_of(std::size_t count) {
  VoxelPalette palette;
  for (std::size_t k = 0; k < count; ++k) {
    palette.kinds.push_back({-1, static_cast<std::uint32_t>(mix(k + 1) & 0xffffff)});
  }
  return palette;
}

/// What fills a grid at random.
enum class Filling { sparse, half, dense, ground, porous, single, blocks };

/// A grid filled at random, of so many kinds; 0: of colors.
inline DenseVoxels filled(const VoxelCell& size, Filling filling, std::size_t kinds,
                          std::uint64_t seed) {
  VoxelPalette palette = kinds_of(kinds);
  palette.direct = kinds == 0;
  DenseVoxels grid(size, palette);
  const std::uint64_t largest = grid.palette().largest();
  for (int z = 0; z < size[2]; ++z) {
    for (int y = 0; y < size[1]; ++y) {
      for (int x = 0; x < size[0]; ++x) {
        const std::uint64_t bits =
            mix(seed + static_cast<std::uint64_t>(x) + (static_cast<std::uint64_t>(y) << 20) +
                (static_cast<std::uint64_t>(z) << 40));
        bool set = false;
        switch (filling) {
          case Filling::sparse:
            set = bits % 211 == 0;
            break;
          case Filling::half:
            set = bits % 2 == 0;
            break;
          case Filling::dense:
            set = bits % 61 != 0;
            break;
          case Filling::ground:
            set = z <
                  size[2] / 3 + static_cast<int>(
                                    mix(seed ^ static_cast<unsigned>(x / 3 + 1000 * (y / 5))) % 9);
            break;
          case Filling::porous: {
            int a = x, b = y, c = z;
            set = true;
            for (int k = 0; k < 4; ++k, a /= 3, b /= 3, c /= 3) {
              if ((a % 3 == 1) + (b % 3 == 1) + (c % 3 == 1) >= 2) set = false;
            }
            break;
          }
          case Filling::single:
            set = x == size[0] / 2 && y == size[1] / 3 && z == size[2] - 1;
            break;
          case Filling::blocks:
            set =
                mix(seed + static_cast<unsigned>(x / 16 + 100 * (y / 16) + 10000 * (z / 16))) % 3 ==
                0;
            break;
        }
        if (!set) continue;
        // Neighbors are often alike.
        const std::uint64_t which =
            bits % 5 == 0 ? bits >> 20 : mix(seed + static_cast<unsigned>(x / 4 + z / 4));
        grid.at(x, y, z) =
            static_cast<std::uint32_t>(filling == Filling::blocks ? 1 : 1 + which % largest);
      }
    }
  }
  return grid;
}

}  // namespace photonlane
