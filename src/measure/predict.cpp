#include "photonlane/measure/predict.hpp"

#include <algorithm>
#include <cmath>
#include <mutex>
#include <thread>
#include <vector>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "frame/parts.hpp"
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
    block_ = block_size(world_, camera_, budget_);
    if (block_ == whole) {
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
  int threads() const {
    return options_.threads > 0
               ? options_.threads
               : static_cast<int>(std::max(1u, std::thread::hardware_concurrency()));
  }

  Frame small_frame(double pixels, LayerSet layers, int samples) {
    Budget small = budget_;
    const double scale = std::sqrt(pixels / pixels_);
    small.frame.width = std::max(1, static_cast<int>(std::lround(scale * budget_.frame.width)));
    small.frame.height = std::max(1, static_cast<int>(std::lround(scale * budget_.frame.height)));
    small.frame.samples = samples;
    RenderOptions own;
    own.layers = layers;
    own.threads = options_.threads;
    Frame frame = render(world_, camera_, small, std::move(own));
    made_ += static_cast<double>(small.frame.width) * small.frame.height * samples /
             budget_.frame.samples;
    return frame;
  }

  /// Cost grows as a power of the pixels.
  void by_growth() {
    double sizes[2];
    double times[2];
    for (const int i : {0, 1}) {
      const double wanted =
          std::max((i == 0 ? 0.25 : 1) * options_.share * pixels_, i == 0 ? 400.0 : 1600.0);
      const Frame frame = small_frame(wanted, {Layer::display}, budget_.frame.samples);
      sizes[i] = static_cast<double>(frame.size().width) * frame.size().height;
      times[i] = std::max(frame.cost.total_ms(), 1e-3);
      if (!go_on(0.5 * (i + 1))) throw Error(ErrorKind::cancelled, "stopped by the caller");
    }
    const double power =
        std::clamp(std::log(times[1] / times[0]) / std::log(sizes[1] / sizes[0]), 0.6, 1.1);
    result_.ms = times[1] * std::pow(pixels_ / sizes[1], power);
    const double off = 0.12 * std::log(pixels_ / sizes[1]) / std::log(16.0);
    result_.likely = {result_.ms / (1 + off + machine_noise),
                      result_.ms * (1 + off + machine_noise)};
  }

  /// How much of the cost lies in each block, as far as a small frame tells.
  std::vector<double> weigh_blocks() {
    const bool plane = world_.plane() != nullptr;
    const double small = std::clamp(0.2 * options_.share * pixels_, 1500.0, 30000.0);
    const Frame frame =
        small_frame(small, plane ? LayerSet{Layer::steps} : LayerSet{Layer::cost}, 1);
    const Size size = frame.size();
    std::vector<double> weights(static_cast<std::size_t>(across_) * down_, 0);
    std::vector<double> counts(weights.size(), 0);
    double sum = 0;
    // Each small pixel stands for those around it; blocks without one take the nearest.
    const auto cost_at = [&](int x, int y) {
      return plane ? 20.0 + frame.codes(Layer::steps)(x, y)
                   : static_cast<double>(frame.values(Layer::cost)(x, y));
    };
    for (int by = 0; by < down_; ++by) {
      for (int bx = 0; bx < across_; ++bx) {
        const PixelPart part = block_at(bx, by);
        const auto low = [](int at, int full, int few) {
          return std::min(static_cast<int>(static_cast<double>(at) * few / full), few - 1);
        };
        const int x0 = low(part.x, budget_.frame.width, size.width);
        const int x1 =
            std::max(x0, low(part.x + part.size.width - 1, budget_.frame.width, size.width));
        const int y0 = low(part.y, budget_.frame.height, size.height);
        const int y1 =
            std::max(y0, low(part.y + part.size.height - 1, budget_.frame.height, size.height));
        double cost = 0;
        for (int y = y0; y <= y1; ++y) {
          for (int x = x0; x <= x1; ++x) cost += cost_at(x, y);
        }
        const double mean = cost / ((x1 - x0 + 1.0) * (y1 - y0 + 1.0));
        const std::size_t at = static_cast<std::size_t>(by) * across_ + bx;
        weights[at] = mean * part.size.width * part.size.height;
        sum += weights[at];
      }
    }
    // What a small frame does not see may be there all the same.
    const double least = 0.15 * sum / static_cast<double>(weights.size());
    for (double& weight : weights) weight = std::max(weight, least);
    return weights;
  }

  PixelPart block_at(int bx, int by) const {
    const Size whole = budget_.frame.size();
    const int x = bx * block_.width;
    const int y = by * block_.height;
    return {
        x, y, {std::min(block_.width, whole.width - x), std::min(block_.height, whole.height - y)}};
  }

  struct Block {
    double ms = 0;    ///< of a thread, but for casting columns
    double cast = 0;  ///< of casting columns
    double weight = 0;
  };

  void by_blocks() {
    const Size whole = budget_.frame.size();
    across_ = (whole.width + block_.width - 1) / block_.width;
    down_ = (whole.height + block_.height - 1) / block_.height;
    const std::vector<double> weights = weigh_blocks();
    double sum = 0;
    double heap = 0;
    for (const double weight : weights) {
      sum += weight;
      heap += std::sqrt(weight);
    }
    const double wanted =
        options_.share * pixels_ / (static_cast<double>(block_.width) * block_.height);
    constexpr double least = 8;
    const auto count = static_cast<std::size_t>(
        std::clamp(std::lround(std::max(wanted, least)), 1L, static_cast<long>(weights.size())));
    // Systematic: equal steps along the heap of all, from a place drawn at random.
    std::vector<std::size_t> chosen;
    const double step = heap / static_cast<double>(count);
    double at = step * static_cast<double>(random_uniform({.seed = 77}, 0));
    double heaped = 0;
    for (std::size_t i = 0; i < weights.size(); ++i) {
      heaped += std::sqrt(weights[i]);
      while (at < heaped && chosen.size() < count) {
        chosen.push_back(i);
        at += step;
      }
    }
    measure(chosen, weights);
    tell(sum);
  }

  void measure(const std::vector<std::size_t>& chosen, const std::vector<double>& weights) {
    const bool columns = world_.plane() == nullptr && by_columns(world_, camera_, budget_);
    blocks_.resize(chosen.size());
    std::mutex adding;
    std::size_t done = 0;
    bool stopped = false;
    parallel_for(options_.threads, chosen.size(), [&](std::size_t i) {
      if (stopped) return;
      const int by = static_cast<int>(chosen[i]) / across_;
      const PixelPart part = block_at(static_cast<int>(chosen[i]) - by * across_, by);
      RenderOptions own;
      own.layers = {Layer::display};
      own.threads = 1;
      own.part = part;
      const Frame frame = render(world_, camera_, budget_, std::move(own));
      Block& block = blocks_[i];
      block.weight = weights[chosen[i]];
      const StageTimes& stages = frame.cost.stages;
      block.cast = columns ? stages.at(LaneKind::eye, Work::cells).ms : 0;
      const double setup = stages.at(LaneKind::frame, Work::setup).ms;
      block.ms = stages.total_ms() - setup - block.cast;
      const std::lock_guard lock(adding);
      setup_ms_ = setup_ms_ == 0 ? setup : std::min(setup_ms_, setup);
      made_ += static_cast<double>(part.size.width) * part.size.height;
      stopped = !go_on(static_cast<double>(++done) / static_cast<double>(chosen.size()));
    });
    if (stopped) throw Error(ErrorKind::cancelled, "stopped by the caller");
  }

  void tell(double sum) {
    const auto count = static_cast<double>(blocks_.size());
    // The ratio of what blocks took to what the small frame had them take.
    double took = 0;
    double foretold = 0;
    double cast = 0;
    for (const Block& block : blocks_) {
      const double chance = std::sqrt(block.weight);
      took += block.ms / chance;
      foretold += block.weight / chance;
      cast += block.cast / count;
    }
    const double ratio = took / foretold;
    double square = 0;
    for (const Block& block : blocks_) {
      const double off = (block.ms - ratio * block.weight) / std::sqrt(block.weight);
      square += off * off;
    }
    const double spread =
        count > 1 ? std::sqrt(square * count / (count - 1)) / std::max(took, 1e-12) : 0.5;
    const double thread_ms = ratio * sum + cast * across_;
    // The last tiles of a frame leave threads without work.
    const double tiles = std::max(1.0, pixels_ / (256.0 * 32));
    const double idle = threads() == 1 ? 0 : 0.5 * (threads() - 1) / tiles;
    result_.ms = thread_ms / threads() * (1 + idle) + setup_ms_;
    const double off = 1.645 * std::sqrt(spread * spread + machine_noise * machine_noise);
    result_.likely = {result_.ms / (1 + off), result_.ms * (1 + off)};
  }

  const World& world_;
  const Camera& camera_;
  const Budget& budget_;
  const PredictOptions& options_;
  Prediction result_;
  Size block_;
  int across_ = 1, down_ = 1;
  double pixels_ = 0;
  double made_ = 0;  ///< pixels
  double setup_ms_ = 0;
  std::vector<Block> blocks_;
};

}  // namespace

Prediction predict(const World& world, const Camera& camera, const Budget& budget,
                   const PredictOptions& options) {
  return Predictor(world, camera, budget, options).run();
}

}  // namespace photonlane
