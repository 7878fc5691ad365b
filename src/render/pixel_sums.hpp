#pragma once

#include <cstdint>
#include <vector>

#include "render/look.hpp"
#include "render/onward.hpp"

namespace photonlane {

/// The pixels that the lanes of a pool are of: blocks side by side.
class PixelSums {
 public:
  /// A block of pixels; its lane i is pixel (x + i % width, y + i / width).
  struct Block {
    int x = 0, y = 0;
    int width = 0, height = 0;
    Colors sums;
    Seen seen;
  };

  /// Of blocks of that size, `across` of them in a row; those at the right may be narrower.
  PixelSums(int block_width, int block_height, int across)
      : block_width_(block_width), block_height_(block_height), across_(across) {}

  std::vector<Block> blocks;

  void add(const Onward& lane, float red, float green, float blue);
  /// Settles the layers of a lane's pixel by surface i.
  void settle(const RenderJob& job, const Onward& lane, const Surfaces& surfaces, std::size_t i);

 private:
  struct Slot {
    std::size_t block, lane;
  };
  Slot slot(const Onward& lane) const;

  int block_width_, block_height_, across_;
};

}  // namespace photonlane
