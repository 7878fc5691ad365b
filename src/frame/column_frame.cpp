#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stopwatch.hpp"
#include "follow/follow.hpp"
#include "follow/look.hpp"
#include "frame/job.hpp"
#include "frame/pixel_sums.hpp"
#include "frame/write_pixels.hpp"
#include "trace/batches.hpp"

namespace photonlane {
namespace {

constexpr int chunk_columns = static_cast<int>(ColumnEvents::capacity);
constexpr int tile_height = 16;
constexpr float infinite = std::numeric_limits<float>::infinity();

/// The colors of a chunk's columns where no row needs more than one.
struct PlainColumns {
  alignas(64) float red[ColumnEvents::capacity];
  alignas(64) float green[ColumnEvents::capacity];
  alignas(64) float blue[ColumnEvents::capacity];
  alignas(64) float fades[ColumnEvents::capacity];
  alignas(64) std::int32_t corner[ColumnEvents::capacity];  ///< see FillTexels
  alignas(64) std::int32_t width[ColumnEvents::capacity];
  alignas(64) std::int32_t height[ColumnEvents::capacity];
  alignas(64) float rise[ColumnEvents::capacity];
  alignas(64) float v_0[ColumnEvents::capacity];
};

/// One sample's columns of a chunk.
struct Chunk {
  Chunk() {}  // nothing is set before it is known
  ColumnEvents events;
  PlainColumns plain;
  StageReading reading;  ///< what casting took
};

/// Directions of a run of columns. Planar ones are computed here, in a loop the compiler turns
/// into vectors; `length` gets plan distance / reach.
template <class Number>
void aim(const Viewing& view, double offset, int first, LaneBatch<Number>& lanes, Number* length,
         ColumnEvents& columns) {
  const int count = static_cast<int>(lanes.size);
  const auto put = [&](int i, double x, double y, double inverse, double square) {
    lanes.direction_x[i] = static_cast<Number>(x * inverse);
    lanes.direction_y[i] = static_cast<Number>(y * inverse);
    length[i] = static_cast<Number>(square * inverse);
    columns.direction_x[i] = static_cast<float>(x);
    columns.direction_y[i] = static_cast<float>(y);
    columns.length_square[i] = static_cast<float>(square);
  };
  if (!view.planar) {
    for (int i = 0; i < count; ++i) {
      const Viewing::Direction direction = view.direction(view.u(first + i + offset));
      put(i, direction.x, direction.y, 1, 1);
    }
    return;
  }
  const double inverse_focal = 1 / view.focal;
  const double left = (first + offset - view.center_x) * inverse_focal;
  for (int i = 0; i < count; ++i) {
    const double u = left + i * inverse_focal;
    const double square = 1 + u * u;
    put(i, view.forward.x() + u * view.right.x(), view.forward.y() + u * view.right.y(),
        1 / std::sqrt(square), square);
  }
}

/// What a base color is weighed by: texels come as squares of bytes.
float base_share(const PaintTable& paint) {
  return paint.textures->size() == 0 ? 1.0f : 1.0f / (255 * 255);
}

/// The lowest texel at the left of a texture.
std::int32_t corner(const PaintEntry& entry) {
  return entry.first + (entry.height - 1) * entry.width;
}

void color_columns(const RenderJob& job, Chunk& chunk) {
  const ColumnEvents::Rank& event = chunk.events.ranks.front();
  const PaintTable& paint = job.here().paint;
  PlainColumns& plain = chunk.plain;
  const float share = base_share(paint);
  for (std::size_t i = 0; i < chunk.events.size; ++i) {
    const std::uint32_t material = event.side[i];
    const PaintEntry& entry = paint.at(material, event.face[i]);
    plain.red[i] = entry.red * share;
    plain.green[i] = entry.green * share;
    plain.blue[i] = entry.blue * share;
    plain.fades[i] = event.ending[i] == Ending::spent ? 0 : 1;
    if (paint.textures->size() == 0) continue;
    const bool textured = entry.level >= 0 && event.ending[i] == Ending::hit;
    const float reach = textured ? event.enter[i] : 0;
    const float u = reach * (chunk.events.direction_x[i] * entry.u_x +
                             chunk.events.direction_y[i] * entry.u_y) +
                    entry.u_0;
    const int across = static_cast<int>((u - std::floor(u)) * static_cast<float>(entry.width));
    plain.corner[i] = corner(entry) + std::min(across, entry.width - 1);
    plain.width[i] = entry.width;
    plain.height[i] = entry.height;
    plain.rise[i] = reach * entry.v_z;
    plain.v_0[i] = entry.v_0;
  }
  // Kernels look up to the end of a whole vector.
  for (std::size_t i = chunk.events.size; i < ColumnEvents::capacity && i % 16 != 0; ++i) {
    plain.corner[i] = paint.textures->white();
    plain.width[i] = plain.height[i] = 1;
    plain.rise[i] = plain.v_0[i] = 0;
    chunk.events.direction_x[i] = chunk.events.direction_y[i] = 0;
  }
}

template <class Number>
void cast(const RenderJob& job, double offset, int first, int last, Chunk& chunk, Tally& tally) {
  LaneBatch<Number> lanes;
  start_at_eye(lanes, static_cast<std::size_t>(last - first), job.camera, job.budget);
  Number length[LaneBatch<Number>::capacity];
  aim(job.view, offset, first, lanes, length, chunk.events);
  find_events(job.here().cells(), lanes, length, job.budget, job.here().open, job.camera.eye.z(),
              chunk.events);
  count_columns(chunk.events, tally);
}

/// What the rows of a frame have in common with one another, at pixel_y from the top.
ColumnRow row_at(const RenderJob& job, double pixel_y) {
  const CompiledRoom& room = job.here().room;
  const double eye = job.camera.eye.z();
  const double v = job.view.v(pixel_y);
  const bool floor = v < 0;
  const double height = floor ? eye : room.ceiling_height - eye;
  ColumnRow row;
  row.slope = static_cast<float>(v);
  row.foot = static_cast<float>(-eye);
  row.level = v == 0 ? infinite : static_cast<float>(height / std::abs(v));
  row.level_face = floor ? Face::floor : room.has_ceiling ? Face::ceiling : Face::none;
  row.level_material = floor ? room.floor : room.ceiling;
  row.open_material = room.open;
  return row;
}

FillRow plain_row(const RenderJob& job, const ColumnRow& row) {
  const PaintEntry& entry = job.here().paint.at(row.level_material, row.level_face);
  const float share = base_share(job.here().paint);
  FillRow result{row.level, row.slope * row.slope, entry.red * share, entry.green * share,
                 entry.blue * share};
  result.slope = row.slope;
  // Rows that never meet the level have no place on it.
  const float reach = std::isfinite(row.level) ? row.level : 0;
  result.u_x = reach * entry.u_x;
  result.u_0 = entry.u_0;
  result.v_y = reach * entry.v_y;
  result.v_0 = entry.v_0;
  result.corner = corner(entry);
  result.width = entry.width;
  result.height = entry.height;
  return result;
}

/// The rows of a frame, each sample's, then those at the pixels' centers.
class Rows {
 public:
  explicit Rows(const RenderJob& job) : samples_(job.offsets.size()), top_(job.part.y) {
    for (int y = top_; y < job.bottom(); ++y) {
      for (const SampleOffset& offset : job.offsets) rows_.push_back(row_at(job, y + offset.y));
      rows_.push_back(row_at(job, y + 0.5));
    }
  }
  const ColumnRow& sample(int y, std::size_t s) const {
    return rows_[static_cast<std::size_t>(y - top_) * (samples_ + 1) + s];
  }
  const ColumnRow& center(int y) const { return sample(y, samples_); }

 private:
  std::size_t samples_;
  int top_;
  std::vector<ColumnRow> rows_;
};

/// The pixels of one row over the columns of a chunk.
class RowSight final : public Sight {
 public:
  RowSight(const RenderJob& job, const ColumnEvents& events, const ColumnRow& row)
      : job_(job), events_(events), row_(row) {}

  void nearest(Surfaces& surfaces) override {
    see_row(events_, row_, nullptr, rank_, surfaces);
    complete(rank_, surfaces);
  }

  void behind(const bool* wanted, Surfaces& surfaces) override {
    alignas(64) std::uint32_t from[Surfaces::capacity];
    for (std::size_t i = 0; i < events_.size; ++i) {
      from[i] = rank_[i] == level_rank ? level_rank : rank_[i] + 1;
    }
    std::fill(from + events_.size, from + Surfaces::capacity, level_rank);
    Surfaces next;
    std::uint32_t next_rank[Surfaces::capacity];
    next.wants_data = surfaces.wants_data;
    see_row(events_, row_, from, next_rank, next);
    complete(next_rank, next);
    for (std::size_t i = 0; i < events_.size; ++i) {
      if (!wanted[i]) continue;
      surfaces.copy(next, i, i);
      rank_[i] = next_rank[i];
    }
    surfaces.any_panel = surfaces.any_panel || next.any_panel;
    surfaces.all_hit = surfaces.all_hit && next.all_hit;
  }

  std::unique_ptr<Sight> mirrored(const Surfaces& floor, const bool* wanted) const override {
    const CompiledRoom& room = job_.here().room;
    const auto eye = static_cast<float>(job_.camera.eye.z());
    // Seen from an eye as far below the floor, through it.
    ColumnRow row = row_;
    row.slope = -row_.slope;
    row.raise = 2 * eye;
    row.foot = eye;
    row.near = row_.level;
    row.level = (static_cast<float>(room.ceiling_height) + eye) / row.slope;
    row.level_face = room.has_ceiling ? Face::ceiling : Face::none;
    row.level_material = room.ceiling;
    auto image = std::make_unique<RowSight>(job_, events_, row);
    image->floor_ = &floor;
    image->wanted_ = wanted;
    return image;
  }

  void rays(const Surfaces& surfaces, LaneRays& rays) const override {
    if (floor_ == nullptr) return rays.toward(surfaces);
    rays.size = events_.size;
    // Lanes that are not wanted stand where others do, so as not to spread the bundle.
    std::size_t at =
        static_cast<std::size_t>(std::find(wanted_, wanted_ + rays.size, true) - wanted_);
    for (std::size_t i = 0; i < events_.size; ++i) {
      if (wanted_[i]) at = i;
      const float inverse = 1 / std::sqrt(events_.length_square[at] + row_.slope * row_.slope);
      rays.x[i] = events_.direction_x[at] * inverse;
      rays.y[i] = events_.direction_y[at] * inverse;
      rays.z[i] = row_.slope * inverse;
      rays.from_x[i] = floor_->x[at];
      rays.from_y[i] = floor_->y[at];
      rays.from_z[i] = floor_->z[at];
    }
  }

 private:
  /// What only some scenes need: floors of their own, how far lanes run inside soft bodies, and
  /// images in a floor.
  void complete(const std::uint32_t* rank, Surfaces& surfaces) const {
    const CellSolid& cells = job_.here().cells();
    if (row_.level_face == Face::floor && !cells.map().form_of.empty()) {
      for (std::size_t i = 0; i < surfaces.size; ++i) {
        if (rank[i] != level_rank || surfaces.ending[i] != Ending::hit) continue;
        surfaces.material[i] = cells.surfaces().floor_at(
            cells.map(), job_.camera.eye.x() + surfaces.x[i], job_.camera.eye.y() + surfaces.y[i]);
      }
    }
    if (!job_.here().paint.density.empty()) measure_thickness(rank, surfaces);
    if (floor_ != nullptr) bring_up(surfaces);
  }

  void measure_thickness(const std::uint32_t* rank, Surfaces& surfaces) const {
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (rank[i] >= events_.ranks.size()) continue;
      const ColumnEvents::Rank& event = events_.ranks[rank[i]];
      const float length = std::sqrt(events_.length_square[i] + row_.slope * row_.slope);
      float exit = std::min(event.exit[i], row_.level);
      if (row_.slope > 0) exit = std::min(exit, (event.top[i] + row_.raise) / row_.slope);
      surfaces.thickness[i] = exit * length - surfaces.t[i];
    }
  }

  /// From below the floor to where things are.
  void bring_up(Surfaces& surfaces) const {
    const auto eye = static_cast<float>(job_.camera.eye.z());
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (!wanted_[i]) {
        // Nothing to follow, and nothing before it.
        surfaces.ending[i] = Ending::spent;
        surfaces.t[i] = 0;
        surfaces.all_hit = false;
      }
      if (surfaces.ending[i] != Ending::hit) continue;
      surfaces.z[i] -= 2 * eye;
      surfaces.t[i] -= floor_->t[i];
    }
  }

  const RenderJob& job_;
  const ColumnEvents& events_;
  const ColumnRow row_;
  const Surfaces* floor_ = nullptr;  ///< the mirror, where this sees an image
  const bool* wanted_ = nullptr;
  std::uint32_t rank_[Surfaces::capacity];
};

/// Writes what the pixels of a row took, at its end: with their share of casting the columns.
class RowCost {
 public:
  RowCost(const RenderJob& job, PixelSums::Block& block, const StageReading& cast)
      : job_(job), block_(block), cast_(cast), meter_(job.meters() ? &block.reading : nullptr) {
    if (job.meters()) block.start_meters();
  }
  RowCost(const RowCost&) = delete;
  RowCost& operator=(const RowCost&) = delete;
  ~RowCost() {
    if (!job_.meters()) return;
    const auto rows = static_cast<std::uint64_t>(job_.part.size.height);
    block_.reading.ticks += cast_.ticks / rows;
    block_.reading.work += cast_.work / rows;
    for (int i = 0; i < block_.width; ++i) {
      write_cost(job_, block_, static_cast<std::size_t>(i), 1.0 / block_.width, block_.x + i,
                 block_.y);
    }
  }

 private:
  const RenderJob& job_;
  PixelSums::Block& block_;
  StageReading cast_;
  StageMeter meter_;
};

/// Fills the rows of one tile: `chunks` are the samples of its columns, `center` the columns that
/// the data layers show.
void fill_tile(const RenderJob& job, const Rows& frame_rows, const Chunk* const* chunks,
               const Chunk& center, bool plain, int first, int last, int top, int bottom,
               Tally& tally) {
  const std::size_t samples = job.colors() ? job.offsets.size() : 0;
  const int width = last - first;
  const float share = 1.0f / static_cast<float>(std::max<std::size_t>(samples, 1));
  std::vector<FillColumns> columns;
  for (std::size_t s = 0; plain && s < samples; ++s) {
    const PlainColumns& color = chunks[s]->plain;
    columns.push_back({chunks[s]->events.ranks.front().enter,
                       chunks[s]->events.length_square,
                       color.red,
                       color.green,
                       color.blue,
                       color.fades,
                       chunks[s]->events.direction_x,
                       chunks[s]->events.direction_y,
                       {color.corner, color.width, color.height, color.rise, color.v_0}});
  }
  std::vector<FillRow> rows(samples);
  const TextureSet& textures = *job.here().paint.textures;
  const std::uint32_t* texels = textures.size() == 0 ? nullptr : textures.texels();
  using Block = PixelSums::Block;
  Pool pool(job.rooms.size());
  Outbox outbox(pool);
  PixelSums pixels(job.view, width, 1, job.meters());
  pixels.blocks.emplace_back();
  pixels.blocks.front().x = first;
  pixels.blocks.front().width = width;
  pixels.blocks.front().height = 1;
  StageReading cast;
  for (std::size_t s = 0; s < samples; ++s) {
    cast.ticks += chunks[s]->reading.ticks;
    cast.work += chunks[s]->reading.work;
  }
  for (int y = top; y < bottom; ++y) {
    Block& block = pixels.blocks.front();
    block.y = y;
    const RowCost cost(job, block, cast);
    const bool center_is_sample = job.center_is_sample();
    if (plain && samples > 0) {
      for (std::size_t s = 0; s < samples; ++s) {
        rows[s] = plain_row(job, frame_rows.sample(y, s));
      }
      fill_row(columns.data(), rows.data(), static_cast<int>(samples), job.here().fog, texels,
               static_cast<std::size_t>(width), first, y, job.target(first, y));
    } else if (samples > 0) {
      for (std::size_t s = 0; s < samples; ++s) {
        const StageScope stage(LaneKind::eye);
        RowSight sight(job, chunks[s]->events, frame_rows.sample(y, s));
        const PixelPlace place = job.pixels(first, y, width, s);
        look({.view = job,
              .here = job.here(),
              .sight = sight,
              .place = place,
              .share = share,
              .seen = job.data() && center_is_sample ? &block.seen : nullptr,
              .outbox = &outbox},
             s == 0, block.sums, tally);
      }
      outbox.send();
      go_on(job, pool, pixels, tally);
      write_colors(job, first, y, width, block.sums, 0);
    }
    if (!job.data()) continue;
    // Where no color was asked for no sample has seen what is there.
    if (plain || !center_is_sample || samples == 0) {
      Colors unused;
      const StageScope stage(LaneKind::eye);
      RowSight sight(job, center.events, frame_rows.center(y));
      const Leg leg{.light = &rayless};
      const PixelPlace place = job.pixels(first, y, width, 0);
      look({.view = job,
            .here = job.here(),
            .sight = sight,
            .place = place,
            .share = 0,
            .leg = &leg,
            .seen = &block.seen},
           true, unused, tally);
    }
    write_data(job, first, y, width, block.seen.surfaces);
  }
  flush_rows();
}

}  // namespace

PixelPart column_blocks(const PixelPart& part, Size whole) {
  return whole_blocks(part, {chunk_columns, tile_height}, whole);
}

namespace {

/// The columns of a frame, cast.
class CastColumns {
 public:
  explicit CastColumns(RenderJob& job) : job_(job) {
    // The data layers sit at the pixel's center, where a single color sample sits too.
    const std::size_t samples = job.offsets.size();
    const bool own_center = !job.center_is_sample() && (job.data() || !job.colors());
    color_casts_ = job.colors() || !own_center ? samples : 0;
    casts_ = color_casts_ + (own_center ? 1 : 0);
    chunks_ = static_cast<std::size_t>((job.part.size.width + chunk_columns - 1) / chunk_columns);
    columns_ = std::vector<Chunk>(casts_ * chunks_);
  }

  std::size_t parts() const { return casts_ * chunks_; }
  std::size_t chunks() const { return chunks_; }

  void cast(Progress& progress) {
    std::vector<Tally> tallies(parts());
    job_.stages.parallel(job_.options.threads, parts(), [&](std::size_t part) {
      if (progress.stopped()) return;
      // The samples of a chunk lie side by side.
      const StageMeter meter(job_.meters() ? &columns_[part].reading : nullptr);
      const StageScope stage(LaneKind::eye, Work::cells, chunk_columns);
      const std::size_t sample = part % casts_;
      const int first = job_.part.x + static_cast<int>(part / casts_) * chunk_columns;
      const int last = std::min(job_.right(), first + chunk_columns);
      const double offset = sample < color_casts_ ? job_.offsets[sample].x : 0.5;
      if (job_.budget.number == NumberType::float64) {
        photonlane::cast<double>(job_, offset, first, last, columns_[part], tallies[part]);
      } else {
        photonlane::cast<float>(job_, offset, first, last, columns_[part], tallies[part]);
      }
      if (plain_ && job_.colors()) color_columns(job_, columns_[part]);
      progress.part_done();
    });
    progress.check();
    for (const Tally& tally : tallies) job_.frame.tally += tally;
  }

  /// Fills rows of a chunk.
  void fill(const Rows& rows, std::size_t chunk, int top, int bottom, Tally& tally) const {
    const int first = job_.part.x + static_cast<int>(chunk) * chunk_columns;
    std::vector<const Chunk*> own;
    for (std::size_t s = 0; s < casts_; ++s) own.push_back(&columns_[chunk * casts_ + s]);
    fill_tile(job_, rows, own.data(), *own.back(), plain_, first,
              std::min(job_.right(), first + chunk_columns), top, bottom, tally);
  }

 private:
  RenderJob& job_;
  const bool plain_ = job_.plain();
  std::size_t color_casts_ = 0, casts_ = 0, chunks_ = 0;
  std::vector<Chunk> columns_;
};

}  // namespace

void render_columns(RenderJob& job) {
  const Stopwatch cast_watch;
  CastColumns columns(job);
  const std::size_t chunks = columns.chunks();
  const int bands = (job.part.size.height + tile_height - 1) / tile_height;
  const std::size_t tiles = job.options.layers.empty() ? 0 : chunks * bands;
  Progress progress(job.options.progress, columns.parts() + tiles);
  columns.cast(progress);
  job.frame.cost.cast_ms = cast_watch.milliseconds();
  if (tiles == 0) return;

  const Stopwatch fill_watch;
  std::vector<Tally> fills(tiles);
  const Rows rows(job);
  job.stages.parallel(job.options.threads, tiles, [&](std::size_t tile) {
    if (progress.stopped()) return;
    const StageScope stage(Work::pixels);
    const int top = job.part.y + static_cast<int>(tile / chunks) * tile_height;
    columns.fill(rows, tile % chunks, top, std::min(job.bottom(), top + tile_height), fills[tile]);
    progress.part_done();
  });
  progress.check();
  for (const Tally& tally : fills) job.frame.tally += tally;
  job.frame.cost.fill_ms = fill_watch.milliseconds();
}

Size column_cost_block() { return {chunk_columns, 2}; }

CostSample sample_columns(RenderJob& job, std::span<const PixelPart> blocks) {
  CastColumns columns(job);
  Progress progress(job.options.progress, columns.parts() + blocks.size());
  columns.cast(progress);
  CostSample sample;
  sample.cast_ms = job.stages.all().total_ms();
  sample.block_ms.resize(blocks.size());
  const Rows rows(job);
  job.stages.parallel(job.options.threads, blocks.size(), [&](std::size_t i) {
    if (progress.stopped()) return;
    const Stopwatch watch;
    const PixelPart& block = blocks[i];
    Tally tally;
    columns.fill(rows, static_cast<std::size_t>(block.x / chunk_columns), block.y,
                 block.y + block.size.height, tally);
    sample.block_ms[i] = watch.milliseconds();
    progress.part_done();
  });
  progress.check();
  return sample;
}

}  // namespace photonlane
