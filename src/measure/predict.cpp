#include "photonlane/measure/predict.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "frame/cost_sample.hpp"
#include "measure/cost_map.hpp"
#include "photonlane/base/random.hpp"

namespace photonlane {
namespace {

/// What machines are off by from one minute to the next, as a share.
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
  Frame small_frame(double pixels) {
    Budget small = budget_;
    const double scale = std::sqrt(pixels / pixels_);
    small.frame.width = std::max(1, static_cast<int>(std::lround(scale * budget_.frame.width)));
    small.frame.height = std::max(1, static_cast<int>(std::lround(scale * budget_.frame.height)));
    made_ += static_cast<double>(small.frame.width) * small.frame.height;
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
      const Frame frame = small_frame(wanted);
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
    const double small = std::clamp(0.2 * options_.share * pixels_, 1500.0, 30000.0);
    map_ = map_cost(world_, camera_, budget_, cost_block(world_, camera_, budget_), small,
                    Layer::cost, options_.threads);
    made_ += map_.pixels / budget_.frame.samples;
    const double wanted =
        options_.share * pixels_ / (static_cast<double>(map_.block.width) * map_.block.height);
    constexpr double least = 32;
    const auto count = static_cast<std::size_t>(std::clamp(std::lround(std::max(wanted, least)), 1L,
                                                           static_cast<long>(map_.weights.size())));
    const std::vector<std::size_t> chosen =
        draw_blocks(map_, count, static_cast<double>(random_uniform({.seed = 77}, 0)),
                    [](double weight) { return std::sqrt(weight); });
    double sum = 0;
    for (const double weight : map_.weights) sum += weight;
    measure(chosen);
    tell(sum);
    // What is over in no time is made as it is: what threads and memory take at the start counts.
    constexpr double no_time = 40;
    if (result_.ms < no_time) make_whole();
  }

  void make_whole() {
    std::vector<double> times;
    // Each begins with fresh memory, as the one that is asked about.
    for (int k = 0; k < 5; ++k) times.push_back(show(budget_).cost.total_ms());
    made_ = 5 * pixels_;
    result_.ms = quantile(times, 0.5);
    const Interval interval = interval_of_median(times);
    result_.likely = {std::min(interval.low, result_.ms / 1.3),
                      std::max(interval.high, 1.3 * result_.ms)};
  }

  void measure(const std::vector<std::size_t>& chosen) {
    std::vector<PixelPart> parts;
    for (const std::size_t one : chosen) {
      parts.push_back(map_.part(one, budget_.frame.size()));
      made_ += static_cast<double>(parts.back().size.width) * parts.back().size.height;
    }
    const CostSample sample =
        sample_costs(world_, camera_, budget_, parts, options_.threads, options_.progress);
    setup_ms_ = sample.setup_ms;
    cast_ms_ = sample.cast_ms;
    for (std::size_t i = 0; i < chosen.size(); ++i) {
      blocks_.push_back({sample.block_ms[i], map_.weights[chosen[i]]});
    }
  }

  void tell(double sum) {
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
    const double thread_ms = ratio * sum + cast_ms_;
    // The last tiles of a frame leave threads without work.
    const int threads = thread_count(options_.threads);
    const double tiles = std::max(1.0, pixels_ / (256.0 * 32));
    const double idle = 0.5 * (threads - 1) / tiles;
    result_.ms = thread_ms / threads * (1 + idle) + setup_ms_;
    const double off = 1.645 * std::sqrt(spread * spread + machine_noise * machine_noise);
    // Blocks that lie apart have less in common than neighbors: they take somewhat more.
    constexpr double apart = 0.08;
    result_.ms /= 1 + 0.5 * apart;
    result_.likely = {result_.ms / (1 + off + apart), result_.ms * (1 + off)};
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
  double cast_ms_ = 0;  ///< of threads: the columns of the whole frame
  std::vector<Block> blocks_;
};

}  // namespace

Prediction predict(const World& world, const Camera& camera, const Budget& budget,
                   const PredictOptions& options) {
  return Predictor(world, camera, budget, options).run();
}

}  // namespace photonlane
