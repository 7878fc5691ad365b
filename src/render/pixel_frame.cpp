#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stopwatch.hpp"
#include "render/batches.hpp"
#include "render/job.hpp"
#include "render/parallel.hpp"

namespace photonlane {
namespace {

// Blocks are wide, so that the lanes of a vector are neighbors in a row, and as large as a batch.
constexpr int block_width = 32;
constexpr int block_height = 4;
constexpr std::size_t block_pixels = block_width * block_height;
static_assert(block_pixels == LaneBatch<float>::capacity);
constexpr int tile_blocks = 8;  // blocks along each side of a tile
constexpr float infinite = std::numeric_limits<float>::infinity();

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

/// Light gathered for the pixels of a block.
struct BlockColors {
  static constexpr std::size_t padded = block_pixels + 16;  // rows are read in whole vectors
  alignas(64) float red[padded];
  alignas(64) float green[padded];
  alignas(64) float blue[padded];
};

/// Adds one sample's colors: the surface, faded by fog with the distance along the ray.
template <class Number>
void shade(const RenderJob& job, const HitBatch<Number>& hits, std::size_t count, float share,
           BlockColors& colors) {
  BlockSurfaces surfaces;
  for (std::size_t i = 0; i < count; ++i) {
    const Palette::Entry& base = job.palette.at(hits.ending[i], hits.face[i], hits.material[i]);
    surfaces.red[i] = base.red;
    surfaces.green[i] = base.green;
    surfaces.blue[i] = base.blue;
    surfaces.fades[i] = base.fades;
    surfaces.distance[i] = static_cast<float>(hits.t[i]);
  }
  add_faded(surfaces, job.fog, share, count, colors.red, colors.green, colors.blue);
}

void write_colors(const RenderJob& job, const Block& block, const BlockColors& colors) {
  for (int row = 0; row < block.height; ++row) {
    const std::size_t first = static_cast<std::size_t>(row) * block.width;
    const FillTarget target = job.target(block.x, block.y + row);
    if (target.red != nullptr) {
      std::copy_n(colors.red + first, block.width, target.red);
      std::copy_n(colors.green + first, block.width, target.green);
      std::copy_n(colors.blue + first, block.width, target.blue);
    }
    if (target.display != nullptr) {
      encode_row(colors.red + first, colors.green + first, colors.blue + first, target.display,
                 static_cast<std::size_t>(block.width), block.x, block.y + row);
    }
  }
}

template <class Number>
void write_data(const RenderJob& job, const Block& block, const LaneBatch<Number>& lanes,
                const HitBatch<Number>& hits) {
  Frame& frame = job.frame;
  const Vec3d& forward = job.view.forward;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const int x = block.x + static_cast<int>(i) % block.width;
    const int y = block.y + static_cast<int>(i) / block.width;
    const bool met = hits.ending[i] == Ending::hit;
    const auto put = [&](Layer layer, auto value) {
      if (!frame.has(layer)) return;
      if constexpr (std::is_floating_point_v<decltype(value)>) {
        frame.values(layer)(x, y) = met ? static_cast<float>(value) : infinite;
      } else {
        frame.codes(layer)(x, y) = static_cast<std::uint32_t>(value);
      }
    };
    const double axis = forward.x() * static_cast<double>(lanes.direction_x[i]) +
                        forward.y() * static_cast<double>(lanes.direction_y[i]) +
                        forward.z() * static_cast<double>(lanes.direction_z[i]);
    put(Layer::depth, static_cast<double>(hits.t[i]) * axis);
    put(Layer::ray_distance, static_cast<double>(hits.t[i]));
    put(Layer::face, hits.face[i]);
    put(Layer::cell, hits.item[i]);
    put(Layer::steps, hits.steps[i]);
    put(Layer::ending, hits.ending[i]);
  }
}

template <class Number>
void render_block(const RenderJob& job, const Block& block, Tally& tally) {
  const Solid& solid = *job.world.room().solids.front();
  const std::size_t samples = job.offsets.size();
  LaneBatch<Number> lanes;
  if (job.colors()) {
    BlockColors colors{};
    const float share = 1.0f / static_cast<float>(samples);
    for (const SampleOffset& offset : job.offsets) {
      aim(job, block, offset, lanes);
      const HitBatch<Number> hits = solid.nearest_hit(lanes, job.budget);
      shade(job, hits, lanes.size, share, colors);
      count(hits, lanes.size, tally);
      if (samples == 1 && job.data()) write_data(job, block, lanes, hits);
    }
    write_colors(job, block, colors);
  }
  if (!job.colors() || (job.data() && samples > 1)) {
    aim(job, block, {0.5, 0.5}, lanes);
    const HitBatch<Number> hits = solid.nearest_hit(lanes, job.budget);
    count(hits, lanes.size, tally);
    write_data(job, block, lanes, hits);
  }
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
    progress.part_done();
  });
  progress.check();
  for (const Tally& tally : tallies) job.frame.tally += tally;
  // Casting and filling go together, block by block: the time is told as casting.
  job.frame.cost.cast_ms = watch.milliseconds();
}

}  // namespace photonlane
