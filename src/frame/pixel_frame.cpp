#include <algorithm>
#include <cmath>
#include <optional>

#include "base/stopwatch.hpp"
#include "follow/follow.hpp"
#include "follow/lane_recorder.hpp"
#include "follow/look.hpp"
#include "frame/job.hpp"
#include "frame/pixel_sums.hpp"
#include "frame/write_pixels.hpp"
#include "trace/batches.hpp"
#include "trace/company.hpp"
#include "trace/lane_sight.hpp"

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

// Blocks whose lanes share a pool: as many as a row of memory likes, and fill batches with what
// goes on from them.
constexpr int group_width = 64;
static_assert(group_width <= Surfaces::capacity);
// With more waiting lanes than this the pool is emptied before more are added.
constexpr std::size_t most_waiting = 4096;

using Block = PixelSums::Block;

/// Rays through a block's pixels, at an offset within each. Planar directions are worked out in
/// the lanes' own number type, in loops the compiler turns into vectors.
template <class Number>
void aim(const RenderJob& job, const Block& block, SampleOffset offset, LaneBatch<Number>& lanes) {
  const Viewing& view = job.view;
  start_at_eye(lanes, static_cast<std::size_t>(block.width) * block.height, job.camera, job.budget);
  lanes.spread = std::abs(view.u(1) - view.u(0));
  if (!view.planar || !view.straight()) {
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
  Number u[wide_block.width];
  for (int column = 0; column < block.width; ++column) {
    u[column] = static_cast<Number>(view.u(block.x + column + offset.x));
  }
  for (int row = 0; row < block.height; ++row) {
    const Eigen::Matrix<Number, 3, 1> base =
        (view.forward + view.up * view.v(block.y + row + offset.y)).cast<Number>();
    const std::size_t first = static_cast<std::size_t>(row) * block.width;
    Number* const to_x = lanes.direction_x + first;
    Number* const to_y = lanes.direction_y + first;
    Number* const to_z = lanes.direction_z + first;
#pragma GCC ivdep
    for (int column = 0; column < block.width; ++column) {
      const Number x = base[0] + u[column] * right[0];
      const Number y = base[1] + u[column] * right[1];
      const Number z = base[2] + u[column] * right[2];
      const Number inverse = Number(1) / std::sqrt(x * x + y * y + z * z);
      to_x[column] = x * inverse;
      to_y[column] = y * inverse;
      to_z[column] = z * inverse;
    }
  }
}

/// The colors of a block, and what its pixels' middles meet, but for what goes on from there.
template <class Number>
void see(const RenderJob& job, Block& block, Outbox& outbox, Tally& tally) {
  const std::size_t samples = job.offsets.size();
  const std::size_t size = static_cast<std::size_t>(block.width) * block.height;
  const RoomView& here = job.here();
  LaneBatch<Number> lanes;
  const bool own_center = job.data() && (!job.center_is_sample() || !job.colors());
  if (job.colors()) {
    const float share = 1.0f / static_cast<float>(samples);
    for (std::size_t s = 0; s < samples; ++s) {
      {
        const StageScope stage(Work::aim, size);
        aim(job, block, job.offsets[s], lanes);
      }
      const PixelPlace place = job.pixels(block.x, block.y, block.width, s);
      if (job.log != nullptr) job.log->start(place, lanes);
      LaneSight<Number> sight(job, here, lanes, tally, Counted::first);
      look({.view = job,
            .here = here,
            .sight = sight,
            .place = place,
            .share = share,
            .seen = (job.data() && !own_center) || (job.meters() && !job.data() && s == 0)
                        ? &block.seen
                        : nullptr,
            .outbox = &outbox},
           s == 0, block.sums, tally);
    }
  }
  if (own_center || !job.colors()) {
    Colors unused;
    aim(job, block, {0.5, 0.5}, lanes);
    const PixelPlace place = job.pixels(block.x, block.y, block.width, 0);
    if (job.log != nullptr) job.log->start(place, lanes);
    LaneSight<Number> sight(job, here, lanes, tally, Counted::first);
    const Leg leg{.light = &rayless};
    look({.view = job,
          .here = here,
          .sight = sight,
          .place = place,
          .share = 0,
          .leg = &leg,
          .seen = &block.seen,
          .outbox = &outbox},
         true, unused, tally);
  }
}

/// A row of pixels of blocks side by side.
void write_row_of(const RenderJob& job, std::span<const Block> blocks, int row) {
  Colors whole;
  std::size_t size = 0;
  for (const Block& block : blocks) {
    const std::ptrdiff_t from = static_cast<std::ptrdiff_t>(row) * block.width;
    std::copy_n(block.sums.red + from, block.width, whole.red + size);
    std::copy_n(block.sums.green + from, block.width, whole.green + size);
    std::copy_n(block.sums.blue + from, block.width, whole.blue + size);
    size += static_cast<std::size_t>(block.width);
  }
  const Block& first = blocks.front();
  if (job.uncovers) {
    float* alpha = job.frame.values(Layer::alpha).row(first.y + row - job.part.y).data() +
                   (first.x - job.part.x);
    for (const Block& block : blocks) {
      const float* const open = block.sums.alpha + static_cast<std::ptrdiff_t>(row) * block.width;
      for (int i = 0; i < block.width; ++i) *alpha++ = std::clamp(1 - open[i], 0.0f, 1.0f);
    }
  }
  write_colors(job, first.x, first.y + row, static_cast<int>(size), whole, 0);
}

/// What each pixel of a block took: its batches by what its lane counted, and what went on from it.
void write_costs(const RenderJob& job, const Block& block) {
  const std::size_t size = static_cast<std::size_t>(block.width) * block.height;
  const Surfaces& surfaces = block.seen.surfaces;
  const bool fields = job.marches;
  const auto weight = [&](std::size_t i) {
    // What is done once for a lane is about as much as two steps.
    return 2.0 + surfaces.steps[i] + (fields ? surfaces.evaluations[i] : 0);
  };
  double sum = 0;
  for (std::size_t i = 0; i < size; ++i) sum += weight(i);
  for (std::size_t i = 0; i < size; ++i) {
    const int row = static_cast<int>(i) / block.width;
    write_cost(job, block, i, weight(i) / sum, block.x + static_cast<int>(i) - row * block.width,
               block.y + row);
  }
}

/// Looks through the blocks of a group, and at what goes on from them together, and writes them.
template <class Number>
void render_group(const RenderJob& job, PixelSums& pixels, std::size_t across, Pool& pool,
                  Tally& tally) {
  std::vector<Block>& blocks = pixels.blocks;
  for (std::size_t first = 0; first < blocks.size(); first += company_size) {
    const std::size_t count = std::min(company_size, blocks.size() - first);
    std::vector<Outbox> outboxes(count, Outbox(pool));
    in_company(job.in_company(), count, [&](std::size_t i) {
      Block& block = blocks[first + i];
      if (job.meters()) block.start_meters();
      const StageMeter meter(job.meters() ? &block.reading : nullptr);
      const StageScope stage(LaneKind::eye);
      see<Number>(job, block, outboxes[i], tally);
    });
    for (Outbox& outbox : outboxes) outbox.send();
    if (pool.size() > most_waiting) go_on(job, pool, pixels, tally);
  }
  go_on(job, pool, pixels, tally);
  const StageScope stage(Work::pixels);
  for (std::size_t first = 0; first < blocks.size(); first += across) {
    const std::span<const Block> row_of(blocks.data() + first, across);
    for (int row = 0; job.colors() && row < row_of.front().height; ++row) {
      write_row_of(job, row_of, row);
    }
    for (const Block& block : row_of) {
      if (job.meters()) write_costs(job, block);
      if (job.data()) write_data(job, block.x, block.y, block.width, block.seen.surfaces);
    }
  }
}

/// The pixels from a place on up to others, as groups of blocks.
struct Tile {
  int left, top, right, bottom;
};

BlockShape block_shape(const RenderJob& job) { return job.marches ? square_block : wide_block; }

/// A tile, or of it the group from `only` on.
void render_tile(const RenderJob& job, const Tile& tile, std::optional<int> only, Tally& tally) {
  const BlockShape shape = block_shape(job);
  Pool pool(job.rooms.size());
  PixelSums pixels(job.view, shape.width, shape.height, job.meters());
  const bool cheap = !job.marches && !job.wet && !job.glossy && !job.meters() &&
                     !job.here().room.light.lit() && job.here().images.empty();
  const int down = (tile.bottom - tile.top + shape.height - 1) / shape.height;
  for (int x = tile.left; x < tile.right; x += group_width) {
    if (only && x != *only) continue;
    const int across = (std::min(group_width, tile.right - x) + shape.width - 1) / shape.width;
    // Of cells that are lit by nothing a few groups tell where the time of all goes.
    constexpr int told = 8;
    const int group = x / group_width + 3 * (tile.top / tile_height);
    const UnsplitStages unsplit(cheap && group % told != 0);
    pixels.start(across, across * down);
    for (int y = tile.top; y < tile.bottom; y += shape.height) {
      for (int k = 0; k < across; ++k) {
        Block& block = pixels.blocks.emplace_back();
        block.x = x + k * shape.width;
        block.y = y;
        block.width = std::min(shape.width, tile.right - block.x);
        block.height = std::min(shape.height, tile.bottom - y);
      }
    }
    const auto width = static_cast<std::size_t>(across);
    if (job.budget.number == NumberType::float64) {
      render_group<double>(job, pixels, width, pool, tally);
    } else {
      render_group<float>(job, pixels, width, pool, tally);
    }
  }
  flush_rows();
}

Tile tile_at(const RenderJob& job, int left, int top) {
  return {left, top, std::min(job.right(), left + tile_width),
          std::min(job.bottom(), top + tile_height)};
}

/// The group that a pixel is in, as the whole frame makes it.
void render_one_group(const RenderJob& job, int x, int y, Tally& tally) {
  const int left = x / tile_width * tile_width;
  const int top = y / tile_height * tile_height;
  render_tile(job, tile_at(job, left, top), left + (x - left) / group_width * group_width, tally);
}

}  // namespace

void render_pixels(RenderJob& job) {
  const Stopwatch watch;
  const Size size = job.part.size;
  const int strips = (size.width + tile_width - 1) / tile_width;
  const int bands = (size.height + tile_height - 1) / tile_height;
  const std::size_t tiles = static_cast<std::size_t>(strips) * bands;
  Progress progress(job.options.progress, tiles);
  std::vector<Tally> tallies(tiles);
  job.stages.parallel(job.options.threads, tiles, [&](std::size_t tile) {
    if (progress.stopped()) return;
    const int left = job.part.x + static_cast<int>(tile) % strips * tile_width;
    const int top = job.part.y + static_cast<int>(tile) / strips * tile_height;
    render_tile(job, tile_at(job, left, top), std::nullopt, tallies[tile]);
    progress.part_done();
  });
  progress.check();
  for (const Tally& tally : tallies) job.frame.tally += tally;
  // Casting and filling go together, block by block: the time is told as casting.
  job.frame.cost.cast_ms = watch.milliseconds();
}

Size pixel_cost_block() { return {group_width, tile_height}; }

CostSample sample_pixels(RenderJob& job, std::span<const PixelPart> blocks) {
  CostSample sample;
  sample.block_ms.resize(blocks.size());
  Progress progress(job.options.progress, blocks.size());
  job.stages.parallel(job.options.threads, blocks.size(), [&](std::size_t i) {
    if (progress.stopped()) return;
    const Stopwatch watch;
    Tally tally;
    const PixelPart& block = blocks[i];
    const int right = block.x + block.size.width;
    const int bottom = block.y + block.size.height;
    render_tile(job, {block.x, block.y, right, bottom}, std::nullopt, tally);
    sample.block_ms[i] = watch.milliseconds();
    progress.part_done();
  });
  progress.check();
  return sample;
}

PixelPart pixel_blocks(const PixelPart& part, Size whole) {
  return whole_blocks(part, {group_width, tile_height}, whole);
}

void render_around(RenderJob& job, int x, int y) { render_one_group(job, x, y, job.frame.tally); }

}  // namespace photonlane
