#include "measure/frame_sample.hpp"

#include <algorithm>
#include <cmath>

#include "frame/parts.hpp"
#include "photonlane/base/random.hpp"

namespace photonlane {

std::vector<PixelPart> sample_parts(const World& world, const Camera& camera, const Budget& budget,
                                    double share, int least, std::uint64_t seed) {
  const Size whole = budget.frame.size();
  const PixelPart all{0, 0, whole};
  const Size block = block_size(world, camera, budget);
  const int across = whole.width / block.width;
  const int down = whole.height / block.height;
  const double blocks = static_cast<double>(across) * down;
  const double wanted = std::max(share * static_cast<double>(whole.width) * whole.height /
                                     (static_cast<double>(block.width) * block.height),
                                 static_cast<double>(least));
  if (blocks < 1.5 * wanted) return {all};
  // One from each of as many fields of blocks, about as wide as high.
  const double aspect = static_cast<double>(whole.width) / whole.height;
  const int columns =
      std::clamp(static_cast<int>(std::lround(std::sqrt(wanted * aspect))), 1, across);
  const int rows = std::clamp(static_cast<int>(std::ceil(wanted / columns)), 1, down);
  std::vector<PixelPart> parts;
  for (int row = 0; row < rows; ++row) {
    for (int column = 0; column < columns; ++column) {
      const RandomKey key{.seed = seed,
                          .pixel = static_cast<std::uint64_t>(row * columns + column)};
      const auto pick = [&](int count, int fields, int field, std::uint32_t dimension) {
        const int first = field * count / fields;
        const int size = std::max(1, (field + 1) * count / fields - first);
        return first +
               static_cast<int>(random_below(key, dimension, static_cast<std::uint32_t>(size)));
      };
      parts.push_back({pick(across, columns, column, 0) * block.width,
                       pick(down, rows, row, 1) * block.height, block});
    }
  }
  return parts;
}

Frame stacked(std::span<const Frame> frames) {
  Size size{frames.front().size().width, 0};
  for (const Frame& frame : frames) size.height += frame.size().height;
  Frame all(size, frames.front().layers());
  int y = 0;
  for (const Frame& frame : frames) {
    paste(frame, {0, 0, frame.size()}, 0, y, all);
    y += frame.size().height;
    all.tally += frame.tally;
    all.cost.stages += frame.cost.stages;
  }
  all.budget = frames.front().budget;
  return all;
}

double pixels_of(std::span<const PixelPart> parts) {
  double sum = 0;
  for (const PixelPart& part : parts)
    sum += static_cast<double>(part.size.width) * part.size.height;
  return sum;
}

}  // namespace photonlane
