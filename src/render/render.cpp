#include "photonlane/render/render.hpp"

#include <fmt/format.h>

#include <atomic>
#include <cmath>
#include <limits>
#include <mutex>
#include <numeric>

#include "base/stopwatch.hpp"
#include "render/columns.hpp"
#include "render/parallel.hpp"

namespace photonlane {
namespace {

constexpr int chunk_columns = LaneBatch<float>::capacity;
constexpr int tile_width = 512;  // a tile's columns stay in the first-level cache
constexpr int tile_height = 16;
constexpr float infinite = std::numeric_limits<float>::infinity();

struct Offset {
  double x, y;
};

/// Where the samples of a pixel sit: the points of a rank-1 lattice, so that every sample has a
/// column part and a row part of its own and edges near either axis get all the steps there are
/// (Niederreiter, "Random Number Generation and Quasi-Monte Carlo Methods", 1992).
std::vector<Offset> sample_offsets(int samples) {
  int generator = static_cast<int>(std::lround(samples * 0.6180339887));
  while (std::gcd(generator, samples) != 1) ++generator;
  std::vector<Offset> offsets;
  for (int s = 0; s < samples; ++s) {
    const int row = static_cast<int>(static_cast<std::int64_t>(s) * generator % samples);
    offsets.push_back({(s + 0.5) / samples, (row + 0.5) / samples});
  }
  return offsets;
}

/// Tells the caller how far the frame is, and remembers when it asked to stop.
class Progress {
 public:
  Progress(const std::function<bool(double)>& callback, std::size_t parts)
      : callback_(callback), parts_(parts) {}

  bool stopped() const { return stopped_.load(std::memory_order_relaxed); }
  void part_done() {
    if (!callback_) return;
    const std::lock_guard lock(mutex_);
    if (!callback_(static_cast<double>(++done_) / static_cast<double>(parts_))) stopped_ = true;
  }
  void check() const {
    if (stopped()) throw Error(ErrorKind::cancelled, "stopped by the caller");
  }

 private:
  const std::function<bool(double)>& callback_;
  std::size_t parts_;
  std::size_t done_ = 0;
  std::mutex mutex_;
  std::atomic<bool> stopped_ = false;
};

void check(const World& world, const Camera& camera, const Budget& budget,
           const RenderOptions& options) {
  validate_knobs(budget_knobs(), budget);
  const std::size_t bytes = Frame::memory_bytes(budget.frame.size(), options.layers);
  if (bytes > options.memory_limit) {
    throw Error(ErrorKind::memory,
                fmt::format("a frame of {}x{} pixels needs {:.1f} GiB for its layers, the limit is "
                            "{:.1f} GiB",
                            budget.frame.width, budget.frame.height, bytes / 0x1p30,
                            options.memory_limit / 0x1p30));
  }
  const CompiledRoom& room = world.room();
  if (!(camera.eye.z() > 0 && camera.eye.z() < room.ceiling_height)) {
    throw Error(ErrorKind::input,
                fmt::format("camera.eye: height {} is not between the floor at 0 and the ceiling "
                            "at {} meters",
                            camera.eye.z(), room.ceiling_height));
  }
  // Beyond this, neighboring cells have no float numbers of their own.
  constexpr double countable = 4e6;
  const double from_origin = std::max(std::abs(camera.eye.x()), std::abs(camera.eye.y()));
  const double cells = (from_origin + budget.far_limit) / room.cell_size;
  if (budget.number == NumberType::float32 && cells > countable) {
    throw Error(ErrorKind::input,
                fmt::format("lanes may run {:.3g} cells from the origin, expected at most {:.0f} "
                            "in float; lower far_limit or set number to double",
                            cells, countable));
  }
}

FillRow row_at(const CompiledRoom& room, double eye_height, const Viewing& view, double pixel_y) {
  const double v = view.v(pixel_y);
  FillRow row;
  row.slope_square = static_cast<float>(v * v);
  const bool floor = v < 0;
  const double height = floor ? eye_height : room.ceiling_height - eye_height;
  row.reach = v == 0 ? infinite : static_cast<float>(height / std::abs(v));
  const Color& color = floor ? room.floor : room.ceiling;
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

}  // namespace

Frame render(const World& world, const Camera& camera, const Budget& budget,
             RenderOptions options) {
  check(world, camera, budget, options);
  const Size size = budget.frame.size();
  const Viewing view = viewing(camera, size);
  const CompiledRoom& room = world.room();
  Frame frame(size, options.layers, std::move(options.recycle));
  frame.budget = budget;
  frame.cost.compile_ms = world.compile_ms();

  const bool colors = frame.has(Layer::color) || frame.has(Layer::display);
  const std::vector<Offset> offsets = sample_offsets(budget.frame.samples);
  const std::size_t samples = offsets.size();
  // The data layers sit at the pixel's center, where a single color sample sits too.
  const bool own_center = samples > 1 && (options.layers.has_data() || !colors);
  const std::size_t color_casts = colors || !own_center ? samples : 0;
  const std::size_t casts = color_casts + (own_center ? 1 : 0);

  Stopwatch cast_watch;
  const Palette palette(world);
  const std::size_t chunks = (size.width + chunk_columns - 1) / chunk_columns;
  const int bands = (size.height + tile_height - 1) / tile_height;
  const int strips = (size.width + tile_width - 1) / tile_width;
  const std::size_t tiles = options.layers.empty() ? 0 : static_cast<std::size_t>(bands) * strips;
  Progress progress(options.progress, casts * chunks + tiles);
  std::vector<Columns> columns;
  columns.reserve(casts);
  for (std::size_t cast = 0; cast < casts; ++cast) columns.emplace_back(size.width);
  std::vector<Tally> tallies(casts * chunks);
  parallel_for(options.threads, casts * chunks, [&](std::size_t part) {
    if (progress.stopped()) return;
    const std::size_t cast = part / chunks;
    const int first = static_cast<int>(part % chunks) * chunk_columns;
    const int last = std::min(size.width, first + chunk_columns);
    const double offset = cast < color_casts ? offsets[cast].x : 0.5;
    cast_columns(world, camera, view, budget, offset, first, last, palette, columns[cast],
                 tallies[part]);
    progress.part_done();
  });
  progress.check();
  for (const Tally& tally : tallies) frame.tally += tally;
  frame.cost.cast_ms = cast_watch.milliseconds();

  Stopwatch fill_watch;
  const FillFog fog{room.fog.color[0], room.fog.color[1], room.fog.color[2],
                    static_cast<float>(room.fog.start),
                    static_cast<float>(1 / (room.fog.end - room.fog.start))};
  const Columns& center = columns.back();
  const bool data = options.layers.has_data();
  parallel_for(options.threads, tiles, [&](std::size_t tile) {
    if (progress.stopped()) return;
    const int first = static_cast<int>(tile) % strips * tile_width;
    const int last = std::min(size.width, first + tile_width);
    const int top = static_cast<int>(tile) / strips * tile_height;
    const int bottom = std::min(size.height, top + tile_height);
    std::vector<FillColumns> tile_columns;
    for (std::size_t s = 0; s < color_casts; ++s) tile_columns.push_back(columns[s].from(first));
    std::vector<FillRow> rows(color_casts);
    for (int y = top; y < bottom; ++y) {
      if (colors) {
        for (std::size_t s = 0; s < samples; ++s) {
          rows[s] = row_at(room, camera.eye.z(), view, y + offsets[s].y);
        }
        FillTarget target;
        if (frame.has(Layer::color)) {
          target.red = frame.values(Layer::color, 0).row(y).data() + first;
          target.green = frame.values(Layer::color, 1).row(y).data() + first;
          target.blue = frame.values(Layer::color, 2).row(y).data() + first;
        }
        if (frame.has(Layer::display))
          target.display = frame.codes(Layer::display).row(y).data() + first;
        fill_row(tile_columns.data(), rows.data(), static_cast<int>(samples), fog, last - first,
                 first, y, target);
      }
      if (data) {
        const FillRow row = row_at(room, camera.eye.z(), view, y + 0.5);
        fill_data(center, row, view.v(y + 0.5) < 0, first, last, y, frame);
      }
    }
    progress.part_done();
  });
  progress.check();
  frame.cost.fill_ms = fill_watch.milliseconds();
  return frame;
}

}  // namespace photonlane
