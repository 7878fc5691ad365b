#include "measure/cost_map.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane {

PixelPart CostMap::part(std::size_t which, Size whole) const {
  const int by = static_cast<int>(which) / across;
  const int x = (static_cast<int>(which) - by * across) * block.width;
  const int y = by * block.height;
  return {x, y, {std::min(block.width, whole.width - x), std::min(block.height, whole.height - y)}};
}

CostMap even_map(Size whole, Size block) {
  CostMap map;
  map.block = block;
  map.across = (whole.width + block.width - 1) / block.width;
  map.down = (whole.height + block.height - 1) / block.height;
  map.weights.assign(static_cast<std::size_t>(map.across) * static_cast<std::size_t>(map.down), 1);
  return map;
}

CostMap map_cost(const World& world, const Camera& camera, const Budget& budget, Size block,
                 double pixels, Layer by, int threads) {
  const Size whole = budget.frame.size();
  CostMap map = even_map(whole, block);
  Budget few = budget;
  const double all = static_cast<double>(whole.width) * whole.height;
  const double scale = std::min(1.0, std::sqrt(pixels / all));
  few.frame.width = std::max(1, static_cast<int>(std::lround(scale * whole.width)));
  few.frame.height = std::max(1, static_cast<int>(std::lround(scale * whole.height)));
  few.frame.samples = 1;
  few.frame.scale = 1;
  RenderOptions own;
  own.layers = {by};
  own.threads = threads;
  const Frame frame = render(world, camera, few, std::move(own));
  const Size size = frame.size();
  map.pixels = static_cast<double>(size.width) * size.height;
  const Plane<const float> costs = std::as_const(frame).values(by);
  double sum = 0;
  for (std::size_t i = 0; i < map.weights.size(); ++i) {
    // The small pixels that stand for the block's, at least the nearest one.
    const PixelPart part = map.part(i, whole);
    const auto small = [](int at, int full, int count) {
      return std::min(static_cast<int>(static_cast<double>(at) * count / full), count - 1);
    };
    const int left = small(part.x, whole.width, size.width);
    const int right = small(part.x + part.size.width - 1, whole.width, size.width);
    const int top = small(part.y, whole.height, size.height);
    const int bottom = small(part.y + part.size.height - 1, whole.height, size.height);
    double cost = 0;
    for (int y = top; y <= bottom; ++y) {
      for (int x = left; x <= right; ++x) cost += static_cast<double>(costs(x, y));
    }
    const double mean = cost / ((right - left + 1.0) * (bottom - top + 1.0));
    map.weights[i] = mean * part.size.width * part.size.height;
    sum += map.weights[i];
  }
  // What a small frame does not see may be there all the same.
  const double least = std::max(0.15 * sum / static_cast<double>(map.weights.size()), 1e-9);
  for (double& weight : map.weights) weight = std::max(weight, least);
  return map;
}

}  // namespace photonlane
