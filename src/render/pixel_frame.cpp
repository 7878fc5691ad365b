#include <algorithm>
#include <cmath>

#include "base/stopwatch.hpp"
#include "render/batches.hpp"
#include "render/lane_sight.hpp"
#include "render/parallel.hpp"

namespace photonlane {
namespace {

// Blocks are wide, so that the lanes of a vector are neighbors in a row, and as large as a batch.
constexpr int block_width = 32;
constexpr int block_height = 4;
constexpr std::size_t block_pixels = block_width * block_height;
static_assert(block_pixels == LaneBatch<float>::capacity);
constexpr int tile_blocks = 8;  // blocks along each side of a tile

/// The pixels of one block; lane i is pixel (x + i % width, y + i / width).
struct Block {
  int x, y;
  int width, height;
  std::size_t count() const { return static_cast<std::size_t>(width) * height; }
};

/// Rays through a block's pixels, at an offset within each. Planar directions are worked out in
/// the lanes' own number type, in loops the compiler turns into vectors.
template <class Number>
void aim(const RenderJob& job, const Block& block, SampleOffset offset, LaneBatch<Number>& lanes) {
  const Viewing& view = job.view;
  start_at_eye(lanes, block.count(), job.camera, job.budget);
  if (!view.planar) {
    for (int row = 0; row < block.height; ++row) {
      for (int column = 0; column < block.width; ++column) {
        const std::size_t i = static_cast<std::size_t>(row) * block.width + column;
        const Vec3d ray =
            view.ray(view.u(block.x + column + offset.x), view.v(block.y + row + offset.y));
        lanes.direction_x[i] = static_cast<Number>(ray.x());
        lanes.direction_y[i] = static_cast<Number>(ray.y());
        lanes.direction_z[i] = static_cast<Number>(ray.z());
      }
    }
    return;
  }
  const Eigen::Matrix<Number, 3, 1> right = view.right.cast<Number>();
  for (int row = 0; row < block.height; ++row) {
    const Eigen::Matrix<Number, 3, 1> base =
        (view.forward + view.up * view.v(block.y + row + offset.y)).cast<Number>();
    const std::size_t first = static_cast<std::size_t>(row) * block.width;
    Number u[block_width];
    for (int column = 0; column < block.width; ++column) {
      u[column] = static_cast<Number>(view.u(block.x + column + offset.x));
    }
    for (int column = 0; column < block.width; ++column) {
      const Number x = base[0] + u[column] * right[0];
      const Number y = base[1] + u[column] * right[1];
      const Number z = base[2] + u[column] * right[2];
      const Number inverse = Number(1) / std::sqrt(x * x + y * y + z * z);
      lanes.direction_x[first + column] = x * inverse;
      lanes.direction_y[first + column] = y * inverse;
      lanes.direction_z[first + column] = z * inverse;
    }
  }
}

template <class Number>
void render_block(const RenderJob& job, const Block& block, Tally& tally) {
  const std::size_t samples = job.offsets.size();
  LaneBatch<Number> lanes;
  Surfaces solid;
  Colors colors;
  const bool own_center = job.data() && (samples > 1 || !job.colors());
  if (job.colors()) {
    const float share = 1.0f / static_cast<float>(samples);
    for (std::size_t s = 0; s < samples; ++s) {
      aim(job, block, job.offsets[s], lanes);
      LaneSight<Number> sight(job, lanes, tally, true);
      const PixelPlace place{block.x, block.y, block.width, static_cast<int>(s)};
      look(job, sight, place, share, s == 0, colors, job.data() && !own_center ? &solid : nullptr,
           tally);
    }
    for (int row = 0; row < block.height; ++row) {
      write_colors(job, block.x, block.y + row, block.width, colors,
                   static_cast<std::size_t>(row) * block.width);
    }
  }
  if (own_center || !job.colors()) {
    Colors unused;
    aim(job, block, {0.5, 0.5}, lanes);
    LaneSight<Number> sight(job, lanes, tally, true);
    look(job, sight, {block.x, block.y, block.width, 0}, 0, true, unused, &solid, tally, &rayless);
  }
  if (job.data()) write_data(job, block.x, block.y, block.width, solid);
}

}  // namespace

void render_pixels(RenderJob& job) {
  const Stopwatch watch;
  const Size size = job.size();
  const int tile_width = block_width * tile_blocks;
  const int tile_height = block_height * tile_blocks;
  const int strips = (size.width + tile_width - 1) / tile_width;
  const int bands = (size.height + tile_height - 1) / tile_height;
  const std::size_t tiles = static_cast<std::size_t>(strips) * bands;
  Progress progress(job.options.progress, tiles);
  std::vector<Tally> tallies(tiles);
  parallel_for(job.options.threads, tiles, [&](std::size_t tile) {
    if (progress.stopped()) return;
    const int left = static_cast<int>(tile) % strips * tile_width;
    const int top = static_cast<int>(tile) / strips * tile_height;
    for (int y = top; y < std::min(size.height, top + tile_height); y += block_height) {
      for (int x = left; x < std::min(size.width, left + tile_width); x += block_width) {
        const Block block{x, y, std::min(block_width, size.width - x),
                          std::min(block_height, size.height - y)};
        if (job.budget.number == NumberType::float64) {
          render_block<double>(job, block, tallies[tile]);
        } else {
          render_block<float>(job, block, tallies[tile]);
        }
      }
    }
    flush_rows();
    progress.part_done();
  });
  progress.check();
  for (const Tally& tally : tallies) job.frame.tally += tally;
  // Casting and filling go together, block by block: the time is told as casting.
  job.frame.cost.cast_ms = watch.milliseconds();
}

}  // namespace photonlane
