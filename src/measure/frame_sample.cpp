#include "measure/frame_sample.hpp"

#include <algorithm>
#include <cmath>

#include "frame/parts.hpp"
#include "measure/cost_map.hpp"

namespace photonlane {
namespace {

void even_out(FrameSample& sample) {
  double sum = 0;
  for (const double share : sample.shares) sum += share;
  for (double& share : sample.shares) share /= sum;
}

}  // namespace

TwoSamples sample_frame(const World& world, const Camera& camera, const Budget& budget,
                        std::size_t count, int threads) {
  const Size whole = budget.frame.size();
  const Size block = block_size(world, camera, budget);
  const double pixels = static_cast<double>(whole.width) * whole.height;
  const double own = static_cast<double>(block.width) * block.height;
  // Blocks at the edges may be cut: only whole ones are drawn.
  const Size inner{whole.width / block.width * block.width,
                   whole.height / block.height * block.height};
  const double blocks = static_cast<double>(inner.width) * inner.height / own;
  TwoSamples samples;
  if (blocks < 2.5 * static_cast<double>(count)) {
    samples.seen = {{{0, 0, whole}}, {1}, pixels};
    return samples;
  }
  Budget small = budget;
  small.frame.width = inner.width;
  small.frame.height = inner.height;
  const CostMap map = world.plane() != nullptr
                          ? even_map(inner, block)
                          : map_cost(world, camera, small, block, 4000, Layer::work, threads);
  double mean = 0;
  for (const double weight : map.weights) mean += weight / static_cast<double>(map.weights.size());
  // Where little is spent there may be errors as well.
  const auto chance = [&](double weight) { return std::sqrt(weight / mean) + 0.5; };
  std::vector<std::size_t> chosen = draw_blocks(map, 2 * count, 0.5, chance);
  chosen.erase(std::unique(chosen.begin(), chosen.end()), chosen.end());
  for (std::size_t i = 0; i < chosen.size(); ++i) {
    FrameSample& to = i % 2 == 0 ? samples.seen : samples.held_out;
    to.parts.push_back(map.part(chosen[i], inner));
    to.shares.push_back(1 / chance(map.weights[chosen[i]]));
    to.pixels += own;
  }
  even_out(samples.seen);
  even_out(samples.held_out);
  return samples;
}

FrameSample joined(const FrameSample& one, const FrameSample& two) {
  FrameSample both = one;
  both.parts.insert(both.parts.end(), two.parts.begin(), two.parts.end());
  both.shares.insert(both.shares.end(), two.shares.begin(), two.shares.end());
  both.pixels += two.pixels;
  even_out(both);
  return both;
}

Difference mean_of(const std::vector<Difference>& differences, const std::vector<double>& shares) {
  Difference mean;
  mean.ssim = 0;
  double squares = 0;
  const auto add = [](std::optional<double>& to, const std::optional<double>& value, double share) {
    if (value) to = to.value_or(0) + share * *value;
  };
  for (std::size_t i = 0; i < differences.size(); ++i) {
    const Difference& one = differences[i];
    squares += shares[i] * one.rmse * one.rmse;
    mean.ssim += shares[i] * one.ssim;
    if (one.largest >= mean.largest) {
      mean.largest = one.largest;
      mean.largest_x = one.largest_x;
      mean.largest_y = one.largest_y;
    }
    add(mean.share_other, one.share_other, shares[i]);
    add(mean.depth_median, one.depth_median, shares[i]);
    add(mean.depth_p99, one.depth_p99, shares[i]);
    mean.size = one.size;
  }
  mean.rmse = std::sqrt(squares);
  if (squares > 0) mean.psnr = -10 * std::log10(squares);
  return mean;
}

Difference compare_samples(const Frame& frame, const Frame& reference, const FrameSample& sample) {
  const Size size = sample.parts.front().size;
  std::vector<Difference> differences;
  for (std::size_t i = 0; i < sample.parts.size(); ++i) {
    const PixelPart part{0, static_cast<int>(i) * size.height, size};
    Frame one(size, frame.layers());
    Frame other(size, reference.layers());
    paste(frame, part, 0, 0, one);
    paste(reference, part, 0, 0, other);
    differences.push_back(compare(one, other));
    differences.back().largest_x += sample.parts[i].x;
    differences.back().largest_y += sample.parts[i].y;
    differences.back().errors = {};
  }
  return mean_of(differences, sample.shares);
}

}  // namespace photonlane
