#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// Blocks of a frame of which each is made together anyway, spread evenly and by chance: about
/// `share` of its pixels, and no fewer than `least`. Another seed gives other blocks. All of the
/// frame where it is small, or where no part of it is known without the rest.
std::vector<PixelPart> sample_parts(const World& world, const Camera& camera, const Budget& budget,
                                    double share, int least, std::uint64_t seed);

/// Frames one under another, of one width and the same layers; tallies and stages added up.
Frame stacked(std::span<const Frame> frames);

/// How many pixels some parts have.
double pixels_of(std::span<const PixelPart> parts);

}  // namespace photonlane
