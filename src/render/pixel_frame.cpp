#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "render/batches.hpp"
#include "render/lane_sight.hpp"

namespace photonlane {
namespace {

/// How the pixels of a batch lie.
struct BlockShape {
  int width, height;
};
// Wide, so that the lanes of a vector are neighbors in a row of memory.
constexpr BlockShape wide_block{32, 4};
// Where lanes march, the halves of a batch are squares: the less they spread, the less of a field
// matters to them.
constexpr BlockShape square_block{8, 16};
static_assert(wide_block.width * wide_block.height == LaneBatch<float>::capacity);
static_assert(square_block.width * square_block.height == LaneBatch<float>::capacity);
constexpr int tile_width = 256;
constexpr int tile_height = 32;

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
    Number u[wide_block.width];
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

/// The colors of a block, and what its pixels' middles meet.
template <class Number>
void see(const RenderJob& job, const Block& block, Colors& colors, Tally& tally) {
  const std::size_t samples = job.offsets.size();
  LaneBatch<Number> lanes;
  Surfaces solid;
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
  }
  if (own_center || !job.colors()) {
    Colors unused;
    aim(job, block, {0.5, 0.5}, lanes);
    LaneSight<Number> sight(job, lanes, tally, true);
    const Leg leg{.light = &rayless};
    look(job, sight, {block.x, block.y, block.width, 0}, 0, true, unused, &solid, tally, &leg);
  }
  if (job.data()) write_data(job, block.x, block.y, block.width, solid);
}

/// Renders two blocks beside one another, or one (the second empty): rows of memory are written at
/// least 16 pixels at a time.
template <class Number>
void render_blocks(const RenderJob& job, const Block& left, const Block& right, Tally& tally) {
  Colors colors;
  see<Number>(job, left, colors, tally);
  if (right.width == 0) {
    for (int row = 0; job.colors() && row < left.height; ++row) {
      write_colors(job, left.x, left.y + row, left.width, colors,
                   static_cast<std::size_t>(row) * left.width);
    }
    return;
  }
  Colors others;
  see<Number>(job, right, others, tally);
  if (!job.colors()) return;
  for (int row = 0; row < left.height; ++row) {
    Colors both;
    const auto copy = [&](const float* from, const float* more, float* to) {
      std::copy_n(from + static_cast<std::ptrdiff_t>(row) * left.width, left.width, to);
      std::copy_n(more + static_cast<std::ptrdiff_t>(row) * right.width, right.width,
                  to + left.width);
    };
    copy(colors.red, others.red, both.red);
    copy(colors.green, others.green, both.green);
    copy(colors.blue, others.blue, both.blue);
    write_colors(job, left.x, left.y + row, left.width + right.width, both, 0);
  }
}

}  // namespace

void render_pixels(RenderJob& job) {
  const Stopwatch watch;
  const Size size = job.size();
  const BlockShape shape = job.world.room().has_fields() ? square_block : wide_block;

  const int strips = (size.width + tile_width - 1) / tile_width;
  const int bands = (size.height + tile_height - 1) / tile_height;
  const std::size_t tiles = static_cast<std::size_t>(strips) * bands;
  Progress progress(job.options.progress, tiles);
  std::vector<Tally> tallies(tiles);
  parallel_for(job.options.threads, tiles, [&](std::size_t tile) {
    if (progress.stopped()) return;
    const int left = static_cast<int>(tile) % strips * tile_width;
    const int top = static_cast<int>(tile) / strips * tile_height;
    for (int y = top; y < std::min(size.height, top + tile_height); y += shape.height) {
      const int height = std::min(shape.height, size.height - y);
      const auto block = [&](int x) {
        return Block{x, y, std::clamp(size.width - x, 0, shape.width), height};
      };
      const bool pairs = shape.width < 16;
      for (int x = left; x < std::min(size.width, left + tile_width);
           x += pairs ? 2 * shape.width : shape.width) {
        const Block second = pairs ? block(x + shape.width) : Block{};
        if (job.budget.number == NumberType::float64) {
          render_blocks<double>(job, block(x), second, tallies[tile]);
        } else {
          render_blocks<float>(job, block(x), second, tallies[tile]);
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
