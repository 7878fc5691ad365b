#include "render/plane_frame.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "fractal/escape_fixed.hpp"
#include "fractal/escape_kernel.hpp"
#include "fractal/plane_number.hpp"
#include "light/plane_paint.hpp"
#include "render/job.hpp"

namespace photonlane {
namespace {

constexpr int tile_width = 64;
constexpr int tile_height = 32;

/// A place in the frame, in pixels from its top left corner.
struct Spot {
  double x, y;
};

bool wants_extras(const EscapePlane& plane, const Frame& frame) {
  return plane.tells == PlaneTells::distance || plane.tells == PlaneTells::trap ||
         frame.has(Layer::edge_distance) || frame.has(Layer::trap);
}

class PlaneFrame {
 public:
  PlaneFrame(const EscapePlane& plane, const PlaneWindow& window, const Budget& budget,
             const RenderOptions& options, Frame& frame)
      : plane_(plane),
        budget_(budget),
        options_(options),
        frame_(frame),
        size_(budget.frame.size()),
        view_(window, size_),
        number_(choose_number(plane, view_, budget.plane, wants_extras(plane, frame))),
        rule_(escape_rule(plane)),
        stop_(escape_stop(plane, budget.plane, number_.number)) {
    extras_.distance = plane.tells == PlaneTells::distance || frame.has(Layer::edge_distance);
    if (plane.tells == PlaneTells::trap || frame.has(Layer::trap)) extras_.trap = plane.trap;
  }

  void render() {
    const Stopwatch watch;
    const std::size_t pixels = static_cast<std::size_t>(size_.width) * size_.height;
    values_.resize(pixels);
    endings_.resize(pixels);
    iterate_all();
    if (budget_.plane.limit == PlaneLimit::automatic) raise_limit();
    count_doubtful();
    frame_.cost.cast_ms = watch.milliseconds();
    const Stopwatch painting;
    paint();
    frame_.cost.fill_ms = painting.milliseconds();
    report();
  }

 private:
  std::size_t index(int x, int y) const {
    return static_cast<std::size_t>(y) * size_.width + static_cast<std::size_t>(x);
  }

  EscapeEnds iterate(const std::vector<Spot>& spots, const EscapeStop& stop, PlaneNumber number,
                     bool extras) const {
    PlanePoints points;
    points.x.reserve(spots.size());
    points.y.reserve(spots.size());
    for (const Spot& spot : spots) view_.put(spot.x, spot.y, points);
    return iterate_points(rule_, stop, extras ? extras_ : EscapeExtras{}, number, budget_.plane,
                          points);
  }

  /// Keeps how the middle of a pixel ended.
  void keep(int x, int y, const EscapeEnds& ends, std::size_t i, float value) {
    const std::size_t at = index(x, y);
    values_[at] = value;
    endings_[at] = ends.ending[i];
    if (frame_.has(Layer::steps)) {
      frame_.codes(Layer::steps)(x, y) =
          static_cast<std::uint32_t>(std::min<std::uint64_t>(ends.count[i], 0xffffffffu));
    }
    if (frame_.has(Layer::ending)) {
      frame_.codes(Layer::ending)(x, y) = static_cast<std::uint32_t>(ends.ending[i]);
    }
    const bool out = ends.ending[i] == Ending::escaped;
    const auto put = [&](Layer layer, double number, double inside) {
      if (!frame_.has(layer)) return;
      frame_.values(layer)(x, y) = static_cast<float>(out ? number : inside);
    };
    put(Layer::smooth_count,
        static_cast<double>(ends.count[i]) +
            (out ? smooth_part(ends.x[i], ends.y[i], stop_.radius, plane_.power) : 0),
        std::numeric_limits<double>::infinity());
    put(Layer::edge_distance, ends.distance[i], 0);
    put(Layer::trap, ends.trap[i], ends.trap[i]);
  }

  void iterate_all() {
    const int across = (size_.width + tile_width - 1) / tile_width;
    const int down = (size_.height + tile_height - 1) / tile_height;
    const auto tiles = static_cast<std::size_t>(across) * static_cast<std::size_t>(down);
    Progress progress(options_.progress, tiles);
    std::vector<Tally> tallies(tiles);
    parallel_for(options_.threads, tiles, [&](std::size_t tile) {
      if (progress.stopped()) return;
      const int left = static_cast<int>(tile) % across * tile_width;
      const int top = static_cast<int>(tile) / across * tile_height;
      const int right = std::min(size_.width, left + tile_width);
      const int bottom = std::min(size_.height, top + tile_height);
      std::vector<Spot> spots;
      for (int y = top; y < bottom; ++y) {
        for (int x = left; x < right; ++x) spots.push_back({x + 0.5, y + 0.5});
      }
      const EscapeEnds ends = iterate(spots, stop_, number_.number, true);
      std::vector<float> values(spots.size());
      plane_values(plane_, stop_, view_.pixel(), ends, values.data());
      std::size_t i = 0;
      for (int y = top; y < bottom; ++y) {
        for (int x = left; x < right; ++x, ++i) keep(x, y, ends, i, values[i]);
      }
      Tally& tally = tallies[tile];
      tally.lanes += spots.size();
      tally.steps += ends.steps;
      for (const Ending ending : ends.ending) {
        tally.hits += ending == Ending::hit;
        tally.escaped += ending == Ending::escaped;
        tally.spent += ending == Ending::spent;
      }
      progress.part_done();
    });
    progress.check();
    for (const Tally& tally : tallies) frame_.tally += tally;
  }

  /// Doubles the limit for those that are not decided until hardly any change by it.
  void raise_limit() {
    const auto pixels = static_cast<double>(values_.size());
    std::vector<std::size_t> open;
    for (std::size_t at = 0; at < endings_.size(); ++at) {
      if (endings_[at] == Ending::spent) open.push_back(at);
    }
    constexpr std::uint64_t most = std::uint64_t{1} << 40;
    while (!open.empty() && stop_.limit < most) {
      stop_.limit *= 2;
      constexpr std::size_t part = 2048;
      const std::size_t parts = (open.size() + part - 1) / part;
      std::vector<std::uint64_t> steps(parts);
      parallel_for(options_.threads, parts, [&](std::size_t k) {
        const std::size_t first = k * part;
        const std::size_t last = std::min(open.size(), first + part);
        std::vector<Spot> spots;
        for (std::size_t i = first; i < last; ++i) {
          spots.push_back({static_cast<double>(open[i] % size_.width) + 0.5,
                           static_cast<double>(open[i] / size_.width) + 0.5});
        }
        const EscapeEnds ends = iterate(spots, stop_, number_.number, true);
        std::vector<float> values(spots.size());
        plane_values(plane_, stop_, view_.pixel(), ends, values.data());
        for (std::size_t i = first; i < last; ++i) {
          keep(static_cast<int>(open[i] % size_.width), static_cast<int>(open[i] / size_.width),
               ends, i - first, values[i - first]);
        }
        steps[k] = ends.steps;
      });
      std::vector<std::size_t> still;
      std::size_t changed = 0;
      for (const std::size_t at : open) {
        if (endings_[at] == Ending::spent) {
          still.push_back(at);
        } else {
          ++(endings_[at] == Ending::escaped ? frame_.tally.escaped : frame_.tally.hits);
          changed += endings_[at] == Ending::escaped;
          --frame_.tally.spent;
        }
      }
      for (const std::uint64_t some : steps) frame_.tally.steps += some;
      open = std::move(still);
      if (static_cast<double>(changed) <= budget_.plane.changing * pixels) break;
    }
  }

  /// What the next number type says of some of the pixels, where this one may be too coarse.
  void count_doubtful() {
    if (!number_.past_limit || !number_.better) return;
    constexpr std::size_t wanted = 512;
    const std::size_t pixels = values_.size();
    std::vector<Spot> spots;
    const std::size_t some = std::min(pixels, wanted);
    for (std::size_t i = 0; i < some; ++i) {
      const std::size_t at = (2 * i + 1) * pixels / (2 * some);
      spots.push_back({static_cast<double>(at % size_.width) + 0.5,
                       static_cast<double>(at / size_.width) + 0.5});
    }
    const EscapeEnds coarse = iterate(spots, stop_, number_.number, false);
    const EscapeEnds better = iterate(spots, stop_, *number_.better, false);
    std::size_t doubtful = 0;
    for (std::size_t i = 0; i < spots.size(); ++i) {
      const bool out = better.ending[i] == Ending::escaped;
      doubtful += (coarse.ending[i] == Ending::escaped) != out ||
                  (out && coarse.count[i] != better.count[i]);
    }
    doubtful_ = static_cast<double>(doubtful) / static_cast<double>(spots.size());
  }

  void paint() {
    std::vector<float> shown;
    if (plane_.equalize) {
      for (std::size_t at = 0; at < values_.size(); ++at) {
        if (endings_[at] == Ending::escaped) shown.push_back(values_[at]);
      }
    }
    const PlanePalette palette(plane_, shown);
    if (!frame_.has(Layer::color) && !frame_.has(Layer::display)) return;
    std::vector<Color> colors(values_.size());
    const auto rows = static_cast<std::size_t>(size_.height);
    parallel_for(options_.threads, rows, [&](std::size_t y) {
      for (int x = 0; x < size_.width; ++x) {
        const std::size_t at = index(x, static_cast<int>(y));
        colors[at] = palette.of(endings_[at], values_[at]);
      }
    });
    if (budget_.frame.samples > 1) smooth_edges(palette, colors);
    const FramePlanes planes(frame_);
    parallel_for(options_.threads, rows, [&](std::size_t row) {
      const int y = static_cast<int>(row);
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
    parallel_for(options_.threads, tallies.size(), [&](std::size_t row) {
      const int y = static_cast<int>(row);
      std::vector<int> some;
      for (int x = 0; x < size_.width; ++x) {
        if (budget_.plane.samples == PlaneSamples::all || at_edge(middles, x, y)) some.push_back(x);
      }
      std::vector<Spot> spots;
      for (const int x : some) {
        for (const SampleOffset& offset : offsets) spots.push_back({x + offset.x, y + offset.y});
      }
      const EscapeEnds ends = iterate(spots, stop_, number_.number, true);
      std::vector<float> values(spots.size());
      plane_values(plane_, stop_, view_.pixel(), ends, values.data());
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
    frame_.plane_report = std::move(report);
  }

  const EscapePlane& plane_;
  const Budget& budget_;
  const RenderOptions& options_;
  Frame& frame_;
  const Size size_;
  const PlaneView view_;
  const NumberChoice number_;
  const EscapeRule rule_;
  EscapeStop stop_;
  EscapeExtras extras_;
  double doubtful_ = 0;
  std::vector<float> values_;
  std::vector<Ending> endings_;
};

}  // namespace

void render_plane(const EscapePlane& plane, const PlaneWindow& window, const Budget& budget,
                  const RenderOptions& options, Frame& frame) {
  PlaneFrame(plane, window, budget, options, frame).render();
}

}  // namespace photonlane
