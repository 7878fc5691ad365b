#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stopwatch.hpp"
#include "render/job.hpp"
#include "render/parallel.hpp"

namespace photonlane {
namespace {

constexpr int chunk_columns = LaneBatch<float>::capacity;
constexpr int tile_width = 512;  // a tile's columns stay in the first-level cache
constexpr int tile_height = 16;
constexpr float infinite = std::numeric_limits<float>::infinity();

/// What floor or ceiling show in a row at pixel_y from the top.
FillRow row_at(const RenderJob& job, double pixel_y) {
  const CompiledRoom& room = job.world.room();
  const double v = job.view.v(pixel_y);
  FillRow row;
  row.slope_square = static_cast<float>(v * v);
  const bool floor = v < 0;
  const double height = floor ? job.camera.eye.z() : room.ceiling_height - job.camera.eye.z();
  row.reach = v == 0 ? infinite : static_cast<float>(height / std::abs(v));
  const Color& color = job.world.materials()[floor ? room.floor : room.ceiling].base;
  row.red = color[0];
  row.green = color[1];
  row.blue = color[2];
  return row;
}

/// The layers that are not colors: what the lane through the pixel's center met.
void fill_data(const Columns& columns, const FillRow& row, bool floor, int first, int last, int y,
               Frame& frame) {
  const auto is_wall = [&](int x) { return columns.reach[x] <= row.reach; };
  const auto met = [&](int x) { return !is_wall(x) || columns.ending[x] == Ending::hit; };
  const auto each = [&](Layer layer, const auto& value) {
    if (!frame.has(layer)) return;
    if constexpr (std::is_same_v<decltype(value(0)), float>) {
      float* pixels = frame.values(layer).row(y).data();
      for (int x = first; x < last; ++x) pixels[x] = value(x);
    } else {
      std::uint32_t* pixels = frame.codes(layer).row(y).data();
      for (int x = first; x < last; ++x) pixels[x] = static_cast<std::uint32_t>(value(x));
    }
  };
  each(Layer::depth, [&](int x) {
    return met(x) ? std::min(columns.reach[x], row.reach) * columns.axis[x] : infinite;
  });
  each(Layer::ray_distance, [&](int x) {
    return met(x) ? std::min(columns.reach[x], row.reach) *
                        std::sqrt(columns.length_square[x] + row.slope_square)
                  : infinite;
  });
  each(Layer::face, [&](int x) {
    return is_wall(x) ? columns.face[x] : floor ? Face::floor : Face::ceiling;
  });
  each(Layer::cell, [&](int x) { return is_wall(x) ? columns.item[x] : no_item; });
  each(Layer::steps, [&](int x) { return columns.steps[x]; });
  each(Layer::ending, [&](int x) { return is_wall(x) ? columns.ending[x] : Ending::hit; });
}

/// Fills the rows of one tile, in order.
void fill_tile(const RenderJob& job, const std::vector<Columns>& columns, int first, int last,
               int top, int bottom) {
  const std::size_t samples = job.colors() ? job.offsets.size() : 0;
  std::vector<FillColumns> tile_columns;
  for (std::size_t s = 0; s < samples; ++s) tile_columns.push_back(columns[s].from(first));
  std::vector<FillRow> rows(samples);
  for (int y = top; y < bottom; ++y) {
    if (samples > 0) {
      for (std::size_t s = 0; s < samples; ++s) rows[s] = row_at(job, y + job.offsets[s].y);
      fill_row(tile_columns.data(), rows.data(), static_cast<int>(samples), job.fog, last - first,
               first, y, job.target(first, y));
    }
    if (job.data()) {
      fill_data(columns.back(), row_at(job, y + 0.5), job.view.v(y + 0.5) < 0, first, last, y,
                job.frame);
    }
  }
}

}  // namespace

void render_columns(RenderJob& job) {
  const Size size = job.size();
  const std::size_t samples = job.offsets.size();
  // The data layers sit at the pixel's center, where a single color sample sits too.
  const bool own_center = samples > 1 && (job.data() || !job.colors());
  const std::size_t color_casts = job.colors() || !own_center ? samples : 0;
  const std::size_t casts = color_casts + (own_center ? 1 : 0);

  const Stopwatch cast_watch;
  const std::size_t chunks = (size.width + chunk_columns - 1) / chunk_columns;
  const int bands = (size.height + tile_height - 1) / tile_height;
  const int strips = (size.width + tile_width - 1) / tile_width;
  const std::size_t tiles =
      job.options.layers.empty() ? 0 : static_cast<std::size_t>(bands) * strips;
  Progress progress(job.options.progress, casts * chunks + tiles);
  std::vector<Columns> columns;
  columns.reserve(casts);
  for (std::size_t cast = 0; cast < casts; ++cast) columns.emplace_back(size.width);
  std::vector<Tally> tallies(casts * chunks);
  parallel_for(job.options.threads, casts * chunks, [&](std::size_t part) {
    if (progress.stopped()) return;
    const std::size_t cast = part / chunks;
    const int first = static_cast<int>(part % chunks) * chunk_columns;
    const int last = std::min(size.width, first + chunk_columns);
    const double offset = cast < color_casts ? job.offsets[cast].x : 0.5;
    cast_columns(job.world, job.camera, job.view, job.budget, offset, first, last, job.palette,
                 columns[cast], tallies[part]);
    progress.part_done();
  });
  progress.check();
  for (const Tally& tally : tallies) job.frame.tally += tally;
  job.frame.cost.cast_ms = cast_watch.milliseconds();

  const Stopwatch fill_watch;
  parallel_for(job.options.threads, tiles, [&](std::size_t tile) {
    if (progress.stopped()) return;
    const int first = static_cast<int>(tile) % strips * tile_width;
    const int top = static_cast<int>(tile) / strips * tile_height;
    fill_tile(job, columns, first, std::min(size.width, first + tile_width), top,
              std::min(size.height, top + tile_height));
    progress.part_done();
  });
  progress.check();
  job.frame.cost.fill_ms = fill_watch.milliseconds();
}

}  // namespace photonlane
