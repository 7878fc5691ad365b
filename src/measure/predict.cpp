#include "photonlane/measure/predict.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "frame/cost_sample.hpp"
#include "frame/parts.hpp"
#include "measure/cost_map.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/measure/calibration.hpp"

namespace photonlane {
namespace {

/// What machines are off by from one minute to the next at least, as a share.
constexpr double machine_noise = 0.05;

class Predictor {
 public:
  Predictor(const World& world, const Camera& camera, const Budget& budget,
            const PredictOptions& options)
      : world_(world), camera_(camera), budget_(budget), options_(options) {}

  Prediction run() {
    const Stopwatch watch;
    const Size whole = budget_.frame.size();
    pixels_ = static_cast<double>(whole.width) * whole.height;
    result_.memory_bytes = Frame::memory_bytes(whole, {Layer::display}) + world_.memory_bytes();
    if (world_.plane() != nullptr || budget_.frame.scale != 1) {
      by_growth();
    } else {
      by_blocks();
    }
    result_.share = made_ / pixels_;
    result_.spent_ms = watch.milliseconds();
    return result_;
  }

 private:
  bool go_on(double share) const { return !options_.progress || options_.progress(share); }
  Frame small_frame(double pixels, int samples) {
    Budget small = budget_;
    small.frame.samples = samples;
    const double scale = std::sqrt(pixels / pixels_);
    small.frame.width = std::max(1, static_cast<int>(std::lround(scale * budget_.frame.width)));
    small.frame.height = std::max(1, static_cast<int>(std::lround(scale * budget_.frame.height)));
    made_ += static_cast<double>(small.frame.width) * small.frame.height * samples /
             budget_.frame.samples;
    return show(small);
  }

  /// A frame with the display layer.
  Frame show(const Budget& budget) {
    RenderOptions own;
    own.layers = {Layer::display};
    own.threads = options_.threads;
    own.progress = [this](double) { return go_on(0.5); };
    return render(world_, camera_, budget, std::move(own));
  }

  /// Cost grows as a power of the pixels.
  void by_growth() {
    constexpr double largest = 1600;
    if (pixels_ < 4 * largest) return make_whole();
    double sizes[2];
    double times[2];
    for (const int i : {0, 1}) {
      const double wanted =
          (i == 0 ? 0.25 : 1) * std::max(std::min(options_.share, 0.25) * pixels_, largest);
      const Frame frame = small_frame(wanted, budget_.frame.samples);
      sizes[i] = static_cast<double>(frame.size().width) * frame.size().height;
      times[i] = std::max(frame.cost.total_ms(), 1e-3);
    }
    const double power =
        std::clamp(std::log(times[1] / times[0]) / std::log(sizes[1] / sizes[0]), 0.6, 1.1);
    result_.ms = times[1] * std::pow(pixels_ / sizes[1], power);
    const double off = 0.12 * std::log(pixels_ / sizes[1]) / std::log(16.0);
    result_.likely = {result_.ms / (1 + off + machine_noise),
                      result_.ms * (1 + off + machine_noise)};
  }

  struct Block {
    double ms = 0;  ///< of a thread
    double weight = 0;
  };

  void by_blocks() {
    noise_.push_back(calibrate_ms());
    // What the first frame of a process takes more than others: threads, memory, pruning.
    constexpr double few = 1500;
    const double first_ms = small_frame(few, 1).cost.total_ms();
    start_ms_ = std::max(0.0, first_ms - small_frame(few, 1).cost.total_ms());
    const double map_pixels =
        std::clamp(0.2 * options_.share * pixels_ * budget_.frame.samples, few, 60000.0);
    map_ = map_cost(world_, camera_, budget_, cost_block(world_, camera_, budget_), map_pixels,
                    Layer::cost, options_.threads);
    made_ += map_.pixels / budget_.frame.samples;
    const bool columns = by_columns(world_, camera_, budget_);
    // Where pixels have many samples, places are told apart by one of them, at more places; what
    // all of them take for one is measured at a few.
    constexpr int many = 3;
    Budget told = budget_;
    if (!columns && budget_.frame.samples >= many) told.frame.samples = 1;
    const int times = budget_.frame.samples / told.frame.samples;
    const double area = static_cast<double>(map_.block.width) * map_.block.height;
    const double wanted = options_.share * pixels_ / area * (times > 1 ? 0.75 * times : 1);
    const double least = columns ? 32 : times > 1 ? 12 : 5;
    const auto count = static_cast<std::size_t>(std::clamp(std::lround(std::max(wanted, least)), 1L,
                                                           static_cast<long>(map_.weights.size())));
    const std::vector<std::size_t> chosen =
        draw_blocks(map_, count, static_cast<double>(random_uniform({.seed = 77}, 0)),
                    [](double weight) { return std::sqrt(weight); });
    const std::vector<double> ms = measure(chosen, told);
    for (std::size_t i = 0; i < chosen.size(); ++i) {
      blocks_.push_back({ms[i], map_.weights[chosen[i]]});
    }
    if (times > 1) count_all_samples(chosen, ms);
    tell();
    // What is over in no time is made as it is: what threads and memory take at the start counts.
    constexpr double no_time = 40;
    if (result_.ms - start_ms_ < no_time) make_whole();
  }

  void make_whole() {
    std::vector<double> times;
    // Each begins with fresh memory, as the one that is asked about.
    for (int k = 0; k < 5; ++k) times.push_back(show(budget_).cost.total_ms());
    made_ = 5 * pixels_;
    result_.ms = quantile(times, 0.5) + start_ms_;
    const Interval interval = interval_of_median(times);
    result_.likely = {std::min(interval.low + 0.5 * start_ms_, result_.ms / 1.3),
                      std::max(interval.high + 1.5 * start_ms_, 1.3 * result_.ms)};
  }

  /// Milliseconds of a thread, for each block.
  std::vector<double> measure(const std::vector<std::size_t>& chosen, const Budget& budget) {
    std::vector<PixelPart> parts;
    for (const std::size_t one : chosen) {
      parts.push_back(map_.part(one, budget.frame.size()));
      made_ += static_cast<double>(parts.back().size.width) * parts.back().size.height *
               budget.frame.samples / budget_.frame.samples;
    }
    noise_.push_back(calibrate_ms());
    CostSample sample =
        sample_costs(world_, camera_, budget, parts, options_.threads, options_.progress);
    setup_ms_ = sample.setup_ms;
    cast_ms_ = sample.cast_ms;
    return std::move(sample.block_ms);
  }

  /// What was measured by one sample a pixel becomes what all of them take.
  void count_all_samples(const std::vector<std::size_t>& chosen, const std::vector<double>& one) {
    constexpr double large = 5e5;
    const std::size_t most = pixels_ < large ? 2 : 3;
    const std::size_t step = std::max<std::size_t>(1, chosen.size() / most);
    std::vector<std::size_t> few;
    std::vector<double> before;
    for (std::size_t i = step / 2; i < chosen.size() && few.size() < most; i += step) {
      few.push_back(chosen[i]);
      before.push_back(std::max(one[i], 1e-9));
    }
    const std::vector<double> after = measure(few, budget_);
    double sum_before = 0;
    double sum_after = 0;
    for (std::size_t i = 0; i < few.size(); ++i) {
      sum_before += before[i];
      sum_after += after[i];
    }
    const double times = sum_after / sum_before;
    double square = 0;
    for (std::size_t i = 0; i < few.size(); ++i) {
      const double off = (after[i] - times * before[i]) / sum_after;
      square += off * off;
    }
    samples_spread_ = std::sqrt(square);
    for (Block& block : blocks_) block.ms *= times;
  }

  void tell() {
    const auto count = static_cast<double>(blocks_.size());
    // The ratio of what blocks took to what the small frame had them take.
    double took = 0;
    double foretold = 0;
    for (const Block& block : blocks_) {
      const double chance = std::sqrt(block.weight);
      took += block.ms / chance;
      foretold += block.weight / chance;
    }
    const double ratio = took / foretold;
    double square = 0;
    for (const Block& block : blocks_) {
      const double off = (block.ms - ratio * block.weight) / std::sqrt(block.weight);
      square += off * off;
    }
    const double spread =
        count > 1 ? std::sqrt(square * count / (count - 1)) / std::max(took, 1e-12) : 0.5;
    double sum = 0;
    for (const double weight : map_.weights) sum += weight;
    const int threads = thread_count(options_.threads);
    result_.ms =
        (ratio * sum * longest_share(threads) + cast_ms_ / threads) + setup_ms_ + start_ms_;
    // The fewer blocks, the less is known of their spread: by about Student's quantiles.
    const double widen = 1.645 * (1 + 1.5 / std::max(count - 1, 1.0));
    noise_.push_back(calibrate_ms());
    const double noise = std::clamp(
        0.5 * (std::ranges::max(noise_) - std::ranges::min(noise_)) / quantile(noise_, 0.5),
        machine_noise, 0.3);
    const double off =
        widen * std::sqrt(spread * spread + samples_spread_ * samples_spread_ + noise * noise);
    result_.likely = {result_.ms / (1 + off), result_.ms * (1 + off)};
  }

  /// Share of all work that the thread has which is the last to end: tiles are begun in turn by
  /// whoever is free.
  double longest_share(int threads) const {
    constexpr int tile_width = 256;
    constexpr int tile_height = 32;
    const Size whole = budget_.frame.size();
    const int strips = (whole.width + tile_width - 1) / tile_width;
    const int bands = (whole.height + tile_height - 1) / tile_height;
    std::vector<double> tiles(static_cast<std::size_t>(strips) * static_cast<std::size_t>(bands));
    double sum = 0;
    for (std::size_t i = 0; i < map_.weights.size(); ++i) {
      const PixelPart part = map_.part(i, whole);
      tiles[static_cast<std::size_t>(part.y / tile_height * strips + part.x / tile_width)] +=
          map_.weights[i];
      sum += map_.weights[i];
    }
    std::vector<double> busy(static_cast<std::size_t>(threads));
    for (const double tile : tiles) *std::ranges::min_element(busy) += tile;
    return std::ranges::max(busy) / sum;
  }

  const World& world_;
  const Camera& camera_;
  const Budget& budget_;
  const PredictOptions& options_;
  Prediction result_;
  CostMap map_;
  double pixels_ = 0;
  double made_ = 0;  ///< pixels
  double setup_ms_ = 0;
  double start_ms_ = 0;  ///< of a process, once
  double cast_ms_ = 0;   ///< of threads: the columns of the whole frame
  std::vector<Block> blocks_;
  double samples_spread_ = 0;
  std::vector<double> noise_;  ///< calibration runs, in between
};

}  // namespace

Prediction predict(const World& world, const Camera& camera, const Budget& budget,
                   const PredictOptions& options) {
  return Predictor(world, camera, budget, options).run();
}

}  // namespace photonlane
