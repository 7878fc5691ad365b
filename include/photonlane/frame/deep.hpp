#pragma once

///   const DeepPicture deep = make_deep(world, camera, budget);
///   for (const DeepSample& sample : deep.pixel(x, y)) ...  // from near to far

#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// What a pixel shows at one distance. Laid over one another from the nearest on, as things are
/// that each hide `alpha` of what is behind them, the samples of a pixel are its color.
struct DeepSample {
  float z;                 ///< meters along the view axis, of cylindrical cameras along the ray;
                           ///< infinite for the backdrop
  float red, green, blue;  ///< linear light, times alpha
  float alpha;
};

/// A picture with several distances a pixel.
struct DeepPicture {
  Size size{0, 0};
  /// Where each pixel's samples begin among all, rows from above; one more than there are pixels.
  std::vector<std::uint64_t> first{0};
  std::vector<DeepSample> samples;

  std::span<const DeepSample> pixel(int x, int y) const {
    const std::size_t i = static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) +
                          static_cast<std::size_t>(x);
    return std::span(samples).subspan(first[i], first[i + 1] - first[i]);
  }
};

struct DeepOptions {
  /// What is nearer to one another than this share of its distance is one sample.
  double merge = 2e-3;
  int threads = 0;                                  ///< 0: as many as the machine has
  std::function<bool(double share)> progress;       ///< as of RenderOptions
  std::size_t memory_limit = std::size_t{8} << 30;  ///< bytes that it may hold
};

/// The frame of a budget with what lies at which distance kept apart: things that cover a pixel in
/// part, and what is looked through. What mirrors, glass that bends light and portals show lies
/// where those are. Fog colors what is in it. With frame.backdrop=false pixels are not hidden where
/// nothing is met. Throws Error (usage) for planes, for paths and for frames of another scale than
/// 1, Error (input) for a share that is not 0 to 1, Error (memory) for more than the limit, and
/// what render() throws.
DeepPicture make_deep(const World& world, const Camera& camera, const Budget& budget,
                      const DeepOptions& options = {});

}  // namespace photonlane
