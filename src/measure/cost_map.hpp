#pragma once

#include <vector>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// How the cost of a frame is spread over its blocks, as far as a small frame of it tells.
struct CostMap {
  Size block;
  int across = 0, down = 0;
  std::vector<double> weights;  ///< of each block, row after row; above 0
  double pixels = 0;            ///< of the small frame

  PixelPart part(std::size_t which, Size whole) const;
};

/// Of rooms, by the layer cost, or by the layer work, which is the same each time. The small frame
/// has about `pixels` pixels, one sample each.
CostMap map_cost(const World& world, const Camera& camera, const Budget& budget, Size block,
                 double pixels, Layer by, int threads);
/// The same for every block.
CostMap even_map(Size whole, Size block);

/// Draws blocks with chances that grow with `chance` of each block's weight: equal steps along the
/// heap of all chances, from a place drawn at random. Large blocks may be drawn more than once.
template <class Chance>
std::vector<std::size_t> draw_blocks(const CostMap& map, std::size_t count, double start,
                                     const Chance& chance) {
  double heap = 0;
  for (const double weight : map.weights) heap += chance(weight);
  std::vector<std::size_t> chosen;
  const double step = heap / static_cast<double>(count);
  double at = step * start;
  double heaped = 0;
  for (std::size_t i = 0; i < map.weights.size(); ++i) {
    heaped += chance(map.weights[i]);
    for (; at < heaped && chosen.size() < count; at += step) chosen.push_back(i);
  }
  return chosen;
}

}  // namespace photonlane
