#pragma once

#include "frame/job.hpp"
#include "frame/pixel_sums.hpp"
#include "lane/surfaces.hpp"

namespace photonlane {

/// Writes the layers that are not colors for the pixels of a block: pixel i of the surfaces is
/// (x + i % width, y + i / width).
void write_data(const RenderJob& job, int x, int y, int width, const Surfaces& surfaces);

/// Writes the colors of `count` pixels of a row.
void write_colors(const RenderJob& job, int x, int y, int count, const Colors& colors,
                  std::size_t first);

/// Writes what a pixel took: a share of what its block's own batches did, and what went on from its
/// lane, the block's i.
void write_cost(const RenderJob& job, const PixelSums::Block& block, std::size_t i, double share,
                int x, int y);

}  // namespace photonlane
