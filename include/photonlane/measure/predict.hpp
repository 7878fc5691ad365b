#pragma once

///   const Prediction cost = predict(world, camera, budget);
///   printf("%.0f ms, %.0f to %.0f\n", cost.ms, cost.likely.low, cost.likely.high);

#include <cstddef>
#include <functional>

#include "photonlane/frame/render.hpp"
#include "photonlane/measure/statistics.hpp"

namespace photonlane {

/// What a frame will cost.
struct Prediction {
  double ms = 0;                 ///< of a frame with the display layer, casting and filling
  Interval likely;               ///< holds it in 90 of 100 predictions
  std::size_t memory_bytes = 0;  ///< of the frame's layer and of the compiled world
  double share = 0;              ///< of the frame's pixels that were made
  double spent_ms = 0;           ///< by predicting
};

struct PredictOptions {
  int threads = 0;
  double share = 0.025;  ///< of the frame's pixels to make; small frames take more
  std::function<bool(double share)> progress;
};

/// Predicts the cost of a frame by making some of it. A small frame tells where the cost lies;
/// blocks of the full-size frame, the more of them where more is spent, tell what it is (sampling
/// with probability proportional to size; Hansen and Hurwitz, "On the Theory of Sampling from
/// Finite Populations", 1943). Planes, and frames whose colors are scaled up, are
/// told by the growth of two small frames. Throws what render() throws.
Prediction predict(const World& world, const Camera& camera, const Budget& budget,
                   const PredictOptions& options = {});

}  // namespace photonlane
