#include "frame/plane_frame.hpp"

#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>
#include <memory>
#include <type_traits>

#include "base/stage_clock.hpp"
#include "base/stopwatch.hpp"
#include "fractal/escape_kernel.hpp"
#include "fractal/plane_number.hpp"
#include "frame/job.hpp"
#include "frame/plane_before.hpp"
#include "light/plane_paint.hpp"

namespace photonlane {
namespace {

// Number of pixels iterated together, in bands that threads share.
constexpr int tile_width = 128;
constexpr int band_height = 16;

bool wants_extras(const EscapePlane& plane, const Frame& frame) {
  return plane.tells == PlaneTells::distance || plane.tells == PlaneTells::trap ||
         frame.has(Layer::edge_distance) || frame.has(Layer::trap);
}

class PlaneFrame {
 public:
  PlaneFrame(const EscapePlane& plane, const PlaneWindow& window, const Budget& budget,
             const RenderOptions& options, Frame& frame, const PlaneBefore* before)
      : plane_(plane),
        before_(before),
        window_(window),
        budget_(budget),
        options_(options),
        frame_(frame),
        size_(budget.frame.size()),
        shown_(part_of(options, size_)),
        made_(shown_),
        view_(window, size_),
        number_(choose_number(plane, view_, budget.plane, wants_extras(plane, frame))),
        rule_(escape_rule(plane)),
        stop_(escape_stop(plane, budget.plane, number_.number)) {
    choose_made(plane, budget);
    extras_.distance = plane.tells == PlaneTells::distance || frame.has(Layer::edge_distance);
    if (plane.tells == PlaneTells::trap || frame.has(Layer::trap)) extras_.trap = plane.trap;
    if (number_.number == PlaneNumber::perturbation) prepare(stop_.limit);
  }

  void render() {
    std::optional<StageRun> run;
    run.emplace(stages_.mine());
    const Stopwatch watch;
    const std::size_t pixels = static_cast<std::size_t>(size_.width) * size_.height;
    values_.resize(pixels);
    endings_.resize(pixels);
    if (before_ != nullptr) {
      const StageScope stage(Work::order);
      take_from_before();
    }
    iterate_all();
    if (budget_.plane.limit == PlaneLimit::automatic) raise_limit();
    count_doubtful();
    frame_.cost.cast_ms = watch.milliseconds();
    const Stopwatch painting;
    paint();
    frame_.cost.fill_ms = painting.milliseconds();
    report();
    run.reset();
    put_stages({}, stages_, options_.threads, frame_.cost);
  }

 private:
  static PixelPart part_of(const RenderOptions& options, Size size) {
    return options.part.value_or(PixelPart{0, 0, size});
  }
  /// What limit=auto decides, and how counts are spread evenly over colors, goes by all pixels.
  /// Edges of the color are seen beside a pixel.
  void choose_made(const EscapePlane& plane, const Budget& budget) {
    if (plane.equalize || budget.plane.limit == PlaneLimit::automatic || before_ != nullptr) {
      made_ = {0, 0, size_};
      return;
    }
    const int right = std::min(size_.width, shown_.x + shown_.size.width + 1);
    const int bottom = std::min(size_.height, shown_.y + shown_.size.height + 1);
    made_.x = std::max(0, shown_.x - 1);
    made_.y = std::max(0, shown_.y - 1);
    made_.size = {right - made_.x, bottom - made_.y};
  }

  std::size_t index(int x, int y) const {
    return static_cast<std::size_t>(y) * size_.width + static_cast<std::size_t>(x);
  }

  int column_of(std::size_t pixel) const {
    return static_cast<int>(pixel % static_cast<std::size_t>(size_.width));
  }
  int row_of(std::size_t pixel) const {
    return static_cast<int>(pixel / static_cast<std::size_t>(size_.width));
  }

  /// What iterating some spots needs and finds: kept from one to the next, for their memory.
  struct Batch {
    std::vector<double> x, y;        ///< spots in the frame, in pixels from its top left corner
    std::vector<int> columns, rows;  ///< of the pixels that spots are the middles of
    PlanePoints points;
    EscapeEnds ends;

    void add(double at_x, double at_y) {
      x.push_back(at_x);
      y.push_back(at_y);
    }
    void clear() {
      for (auto* column : {&x, &y}) column->clear();
      for (auto* column : {&columns, &rows}) column->clear();
    }
    void take_pixels(int left, int right, int top, int bottom) {
      const auto size = static_cast<std::size_t>(right - left) * (bottom - top);
      x.resize(size);
      y.resize(size);
      columns.resize(size);
      rows.resize(size);
      std::size_t i = 0;
      for (int row = top; row < bottom; ++row) {
        for (int column = left; column < right; ++column, ++i) {
          x[i] = column + 0.5;
          y[i] = row + 0.5;
          columns[i] = column;
          rows[i] = row;
        }
      }
    }
    void add_pixel(int column, int row) {
      add(column + 0.5, row + 0.5);
      columns.push_back(column);
      rows.push_back(row);
    }
  };

  void iterate(Batch& batch, const EscapeStop& stop, PlaneNumber number, bool extras) const {
    const StageScope stage(LaneKind::eye, Work::iterate, batch.x.size());
    batch.points.resize(batch.x.size());
    if (number == PlaneNumber::perturbation) {
      view_.distances(batch.x, batch.y, batch.points);
    } else {
      view_.points(batch.x, batch.y, batch.points);
    }
    iterate_points(rule_, stop, extras ? extras_ : EscapeExtras{}, number, budget_.plane,
                   perturbation_.get(), batch.points, batch.ends);
  }

  /// Works out the orbit that others are told from.
  void prepare(std::uint64_t limit) {
    const StageScope stage(Work::setup);
    EscapeStop stop = stop_;
    stop.limit = limit;
    perturbation_ = std::make_unique<Perturbation>(plane_, window_, stop, view_.far_corner(),
                                                   view_.power(), budget_.plane.skipping);
  }

  /// How wide a pixel is, in what distances of the edge are told in.
  double pixel() const {
    return number_.number == PlaneNumber::perturbation ? view_.far_pixel() : view_.pixel();
  }

  /// Keeps how the middles of pixels ended.
  void keep(const Batch& batch) {
    const StageScope stage(Work::pixels);
    const EscapeEnds& ends = batch.ends;
    const std::size_t size = ends.count.size();
    const auto column = [&](std::size_t i) { return batch.columns[i]; };
    const auto row = [&](std::size_t i) { return batch.rows[i]; };
    for (std::size_t i = 0; i < size; ++i) endings_[index(column(i), row(i))] = ends.ending[i];
    std::vector<double> scratch;
    if (wants_colors()) {
      std::vector<float> values(size);
      plane_values(plane_, stop_, pixel(), ends, scratch, values.data());
      for (std::size_t i = 0; i < size; ++i) values_[index(column(i), row(i))] = values[i];
    }
    const auto put = [&](Layer layer, const auto& value) {
      if (!frame_.has(layer)) return;
      const auto each = [&](const auto& plane) {
        for (std::size_t i = 0; i < size; ++i) plane(column(i), row(i)) = value(i);
      };
      if constexpr (std::is_same_v<decltype(value(std::size_t{0})), float>) {
        each(frame_.values(layer));
      } else {
        each(frame_.codes(layer));
      }
    };
    const auto out = [&](std::size_t i) { return ends.ending[i] == Ending::escaped; };
    put(Layer::steps, [&](std::size_t i) {
      return static_cast<std::uint32_t>(std::min<std::uint64_t>(ends.count[i], 0xffffffffu));
    });
    put(Layer::ending, [&](std::size_t i) { return static_cast<std::uint32_t>(ends.ending[i]); });
    if (frame_.has(Layer::smooth_count)) {
      scratch.resize(size);
      smooth_counts(plane_, stop_, ends, scratch.data());
    }
    put(Layer::smooth_count, [&](std::size_t i) {
      return out(i) ? static_cast<float>(scratch[i]) : std::numeric_limits<float>::infinity();
    });
    put(Layer::edge_distance, [&](std::size_t i) {
      return out(i) ? static_cast<float>(ends.distance[i] / pixel()) : 0.0f;
    });
    put(Layer::trap, [&](std::size_t i) { return static_cast<float>(ends.trap[i]); });
  }

  bool wants_colors() const { return frame_.has(Layer::color) || frame_.has(Layer::display); }

  /// Whether taking a pixel over costs less than iterating it, by how many steps those of the frame
  /// before took. By counts, not by times, so that the same frames give the same bytes.
  bool taking_pays() const {
    const Tally& tally = before_->frame->tally;
    if (tally.lanes == 0) return true;
    const double steps = static_cast<double>(tally.steps) / static_cast<double>(tally.lanes);
    switch (number_.number) {
      case PlaneNumber::perturbation:
        return steps > 120;
      case PlaneNumber::double_double:
      case PlaneNumber::fixed:
        return steps > 60;
      default:
        return steps > 150;
    }
  }

  /// Takes what the frame before tells closely enough, as some that are iterated as well say.
  void take_from_before() {
    check_before(*before_, window_);
    if (!taking_pays()) return;
    const PlaneTold told = told_by(*before_, window_, size_, options_.threads);
    // Of a cubic far less is wrong than its bend.
    auto most = static_cast<float>(std::min(8 * before_->error, 2.0));
    for (int attempt = 0; attempt < 7; ++attempt, most /= 4) {
      const std::vector<std::size_t> pixels =
          even_pixels(told.bends, most, size_, options_.threads);
      if (pixels.empty()) return;
      const double error = error_of(told, pixels);
      if (!(error <= before_->error)) continue;
      taken_.assign(values_.size(), false);
      for (const std::size_t at : pixels) {
        taken_[at] = true;
        endings_[at] = Ending::escaped;
        values_[at] = told.counts[at];
      }
      const auto fill = [&](const auto& plane, const auto& value) {
        for (const std::size_t at : pixels) plane(column_of(at), row_of(at)) = value(at);
      };
      if (frame_.has(Layer::smooth_count)) {
        fill(frame_.values(Layer::smooth_count), [&](std::size_t at) { return told.counts[at]; });
      }
      if (frame_.has(Layer::ending)) {
        fill(frame_.codes(Layer::ending),
             [](std::size_t) { return static_cast<std::uint32_t>(Ending::escaped); });
      }
      taken_share_ = static_cast<double>(pixels.size()) / static_cast<double>(values_.size());
      taken_error_ = error;
      return;
    }
  }

  /// How far what is told of pixels is off, as root mean square of some of them; infinite where
  /// more than one in a thousand does not escape.
  double error_of(const PlaneTold& told, const std::vector<std::size_t>& pixels) {
    constexpr std::size_t one_in = 32;
    Batch batch;
    std::vector<std::size_t> some;
    for (std::size_t i = one_in / 2; i < pixels.size(); i += one_in) {
      // Not all in one column.
      some.push_back(pixels[i - (i / one_in * 7) % (one_in / 2)]);
      batch.add_pixel(column_of(some.back()), row_of(some.back()));
    }
    if (some.empty()) return std::numeric_limits<double>::infinity();
    iterate(batch, stop_, number_.number, false);
    frame_.tally.secondary_steps += batch.ends.steps;
    std::vector<double> counts(some.size());
    smooth_counts(plane_, stop_, batch.ends, counts.data());
    double sum = 0;
    std::size_t inside = 0;
    for (std::size_t i = 0; i < some.size(); ++i) {
      if (batch.ends.ending[i] != Ending::escaped) {
        ++inside;
        continue;
      }
      const double off = counts[i] - static_cast<double>(told.counts[some[i]]);
      sum += off * off;
    }
    if (1000 * inside > some.size()) return std::numeric_limits<double>::infinity();
    return std::sqrt(sum / static_cast<double>(some.size()));
  }

  void iterate_all() {
    const auto bands = static_cast<std::size_t>((size_.height + band_height - 1) / band_height);
    Progress progress(options_.progress, bands);
    std::vector<Tally> tallies(bands);
    stages_.parallel(options_.threads, bands, [&](std::size_t band) {
      if (progress.stopped()) return;
      const int top = std::max(made_.y, static_cast<int>(band) * band_height);
      const int bottom =
          std::min(made_.y + made_.size.height, (static_cast<int>(band) + 1) * band_height);
      if (top >= bottom) return progress.part_done();
      const int end = made_.x + made_.size.width;
      Batch batch;
      for (int left = made_.x; left < end; left += tile_width) {
        const int right = std::min(end, left + tile_width);
        if (taken_.empty()) {
          batch.take_pixels(left, right, top, bottom);
        } else {
          batch.clear();
          for (int y = top; y < bottom; ++y) {
            for (int x = left; x < right; ++x) {
              if (!taken_[index(x, y)]) batch.add_pixel(x, y);
            }
          }
        }
        iterate(batch, stop_, number_.number, true);
        keep(batch);
        Tally& tally = tallies[band];
        tally.lanes += batch.x.size();
        tally.steps += batch.ends.steps;
        for (const Ending ending : batch.ends.ending) {
          tally.hits += ending == Ending::hit;
          tally.escaped += ending == Ending::escaped;
          tally.spent += ending == Ending::spent;
        }
      }
      progress.part_done();
    });
    progress.check();
    for (const Tally& tally : tallies) frame_.tally += tally;
  }

  /// Doubles the limit for those that are not decided, until hardly any change by it. A doubling
  /// that changes nothing says little while many are open: orbits of long periods, and those that
  /// start beside one another, are decided all at once.
  void raise_limit() {
    const auto pixels = static_cast<double>(values_.size());
    std::vector<std::size_t> open;
    for (std::size_t at = 0; at < endings_.size(); ++at) {
      if (endings_[at] == Ending::spent) open.push_back(at);
    }
    // What all doublings together may cost, and how many may change nothing where many are open.
    constexpr std::uint64_t most_steps = std::uint64_t{1} << 35;
    constexpr std::uint64_t most = std::uint64_t{1} << 40;
    constexpr int most_quiet = 6;
    constexpr double few = 0.01;
    std::uint64_t taken = 0;
    int quiet = 0;
    const std::function<bool(double)> still_wanted = [&](double) {
      return !options_.progress || options_.progress(1);
    };
    while (!open.empty()) {
      const double next_steps =
          2.0 * static_cast<double>(stop_.limit) * static_cast<double>(open.size());
      if (stop_.limit >= most / 2 || static_cast<double>(taken) + next_steps > most_steps) {
        undecided_ = static_cast<double>(open.size()) / pixels;
        break;
      }
      stop_.limit *= 2;
      if (perturbation_) prepare(stop_.limit);
      constexpr std::size_t part = 2048;
      const std::size_t parts = (open.size() + part - 1) / part;
      std::vector<std::uint64_t> steps(parts);
      Progress progress(still_wanted, parts);
      stages_.parallel(options_.threads, parts, [&](std::size_t k) {
        if (progress.stopped()) return;
        const std::size_t first = k * part;
        const std::size_t last = std::min(open.size(), first + part);
        Batch batch;
        for (std::size_t i = first; i < last; ++i) {
          batch.add_pixel(column_of(open[i]), row_of(open[i]));
        }
        iterate(batch, stop_, number_.number, true);
        keep(batch);
        steps[k] = batch.ends.steps;
        progress.part_done();
      });
      progress.check();
      std::vector<std::size_t> still;
      for (const std::size_t at : open) {
        if (endings_[at] == Ending::spent) {
          still.push_back(at);
        } else {
          ++(endings_[at] == Ending::escaped ? frame_.tally.escaped : frame_.tally.hits);
          --frame_.tally.spent;
        }
      }
      const auto changed = static_cast<double>(open.size() - still.size());
      for (const std::uint64_t some : steps) {
        frame_.tally.steps += some;
        taken += some;
      }
      open = std::move(still);
      quiet = changed <= std::max(1.0, budget_.plane.changing * pixels) ? quiet + 1 : 0;
      const bool few_left = static_cast<double>(open.size()) <= few * pixels;
      const bool most_left = static_cast<double>(open.size()) > 0.5 * pixels;
      if (quiet > 0 && few_left) break;
      if (quiet >= most_quiet && !most_left) break;
    }
  }

  /// What the next number type says of some of the pixels, where this one may be too coarse.
  void count_doubtful() {
    if (!number_.past_limit || !number_.better) return;
    constexpr std::size_t wanted = 512;
    const std::size_t pixels = values_.size();
    Batch coarse;
    const std::size_t some = std::min(pixels, wanted);
    for (std::size_t i = 0; i < some; ++i) {
      const std::size_t at = (2 * i + 1) * pixels / (2 * some);
      coarse.add_pixel(column_of(at), row_of(at));
    }
    Batch better = coarse;
    if (*number_.better == PlaneNumber::perturbation) prepare(stop_.limit);
    iterate(coarse, stop_, number_.number, false);
    iterate(better, stop_, *number_.better, false);
    std::size_t doubtful = 0;
    for (std::size_t i = 0; i < some; ++i) {
      const bool out = better.ends.ending[i] == Ending::escaped;
      doubtful += (coarse.ends.ending[i] == Ending::escaped) != out ||
                  (out && coarse.ends.count[i] != better.ends.count[i]);
    }
    doubtful_ = static_cast<double>(doubtful) / static_cast<double>(some);
  }

  void paint() {
    const StageScope stage(Work::pixels);
    if (!wants_colors()) return;
    std::vector<float> shown;
    if (plane_.equalize) {
      for (std::size_t at = 0; at < values_.size(); ++at) {
        if (endings_[at] == Ending::escaped) shown.push_back(values_[at]);
      }
    }
    const PlanePalette palette(plane_, shown);
    std::vector<Color> colors(values_.size());
    const auto rows = static_cast<std::size_t>(size_.height);
    stages_.parallel(options_.threads, rows, [&](std::size_t y) {
      if (static_cast<int>(y) < made_.y || static_cast<int>(y) >= made_.y + made_.size.height) {
        return;
      }
      for (int x = 0; x < size_.width; ++x) {
        const std::size_t at = index(x, static_cast<int>(y));
        colors[at] = palette.of(endings_[at], values_[at]);
      }
    });
    if (budget_.frame.samples > 1) smooth_edges(palette, colors);
    const FramePlanes planes(frame_);
    stages_.parallel(options_.threads, rows, [&](std::size_t row) {
      const int y = static_cast<int>(row);
      if (y < shown_.y || y >= shown_.y + shown_.size.height) return;
      const auto width = static_cast<std::size_t>(size_.width);
      std::vector<float> red(width + 16), green(width + 16), blue(width + 16);
      for (std::size_t x = 0; x < width; ++x) {
        const Color& color = colors[row * width + x];
        red[x] = color[0];
        green[x] = color[1];
        blue[x] = color[2];
      }
      const std::ptrdiff_t offset = y * planes.stride;
      const auto at = [&](auto* plane) { return plane == nullptr ? nullptr : plane + offset; };
      write_row(red.data(), green.data(), blue.data(), width, 0, y,
                {at(planes.first.red), at(planes.first.green), at(planes.first.blue),
                 at(planes.first.display)});
      flush_rows();
    });
  }

  /// Samples within pixels: of all, or of those that differ from one beside them.
  void smooth_edges(const PlanePalette& palette, std::vector<Color>& colors) {
    const std::vector<SampleOffset> offsets = sample_offsets(budget_.frame.samples);
    const std::vector<Color> middles = colors;
    std::vector<Tally> tallies(static_cast<std::size_t>(size_.height));
    stages_.parallel(options_.threads, tallies.size(), [&](std::size_t row) {
      const int y = static_cast<int>(row);
      if (y < shown_.y || y >= shown_.y + shown_.size.height) return;
      std::vector<int> some;
      for (int x = shown_.x; x < shown_.x + shown_.size.width; ++x) {
        if (budget_.plane.samples == PlaneSamples::all || at_edge(middles, x, y)) some.push_back(x);
      }
      Batch batch;
      for (const int x : some) {
        for (const SampleOffset& offset : offsets) {
          batch.add(x + offset.x, y + offset.y);
        }
      }
      iterate(batch, stop_, number_.number, true);
      const EscapeEnds& ends = batch.ends;
      std::vector<float> values(batch.x.size());
      std::vector<double> scratch;
      plane_values(plane_, stop_, pixel(), ends, scratch, values.data());
      std::size_t i = 0;
      for (const int x : some) {
        Color sum(0, 0, 0);
        for (std::size_t s = 0; s < offsets.size(); ++s, ++i) {
          sum += palette.of(ends.ending[i], values[i]);
        }
        colors[index(x, y)] = sum / static_cast<float>(offsets.size());
      }
      tallies[row].secondary_steps += ends.steps;
    });
    for (const Tally& tally : tallies) frame_.tally += tally;
  }

  bool at_edge(const std::vector<Color>& colors, int x, int y) const {
    constexpr float seen = 0.01f;
    const Color& here = colors[index(x, y)];
    for (int dy = -1; dy <= 1; ++dy) {
      for (int dx = -1; dx <= 1; ++dx) {
        const int ax = x + dx;
        const int ay = y + dy;
        if (ax < 0 || ay < 0 || ax >= size_.width || ay >= size_.height) continue;
        if ((colors[index(ax, ay)] - here).cwiseAbs().maxCoeff() > seen) return true;
      }
    }
    return false;
  }

  void report() {
    PlaneReport report;
    report.number = number_.number;
    report.why = number_.why;
    report.limit = stop_.limit;
    report.past_limit = number_.past_limit;
    report.doubtful = doubtful_;
    report.undecided = undecided_;
    report.taken = taken_share_;
    report.taken_error = taken_error_;
    frame_.plane_report = std::move(report);
  }

  const EscapePlane& plane_;
  const PlaneBefore* before_;
  const PlaneWindow& window_;
  const Budget& budget_;
  const RenderOptions& options_;
  Frame& frame_;
  const Size size_;
  const PixelPart shown_;  ///< what is asked for
  PixelPart made_;         ///< what that takes
  const PlaneView view_;
  const NumberChoice number_;
  const EscapeRule rule_;
  EscapeStop stop_;
  EscapeExtras extras_;
  std::unique_ptr<const Perturbation> perturbation_;
  double doubtful_ = 0;
  double undecided_ = 0;
  std::vector<std::uint8_t> taken_;  ///< pixels, from the frame before; empty: none
  double taken_share_ = 0, taken_error_ = 0;
  std::vector<float> values_;
  std::vector<Ending> endings_;
  StageSum stages_;
};

}  // namespace

void render_plane(const EscapePlane& plane, const PlaneWindow& window, const Budget& budget,
                  const RenderOptions& options, Frame& frame, const PlaneBefore* before) {
  PlaneFrame(plane, window, budget, options, frame, before).render();
}

}  // namespace photonlane
