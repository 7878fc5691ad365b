#include "measure/work_prices.hpp"

#include <algorithm>

namespace photonlane {

bool WorkPrices::traces(Work work) {
  return work == Work::march || work == Work::prune || work == Work::refine ||
         work == Work::normals || work == Work::cells || work == Work::iterate;
}

double WorkPrices::traced(const Tally& tally) {
  const std::uint64_t steps = tally.steps + tally.secondary_steps;
  return static_cast<double>(tally.evaluations > 0 ? tally.evaluations + steps / 4 : steps);
}

void WorkPrices::learn(const Tally& tally, const StageTimes& stages) {
  seen_ += stages;
  counted_ += tally;
}

double WorkPrices::cost(const Tally& tally, const StageTimes& stages) const {
  double tracing = 0;
  double other = 0;
  // What the frame that was learned from did not do is priced like the same work for other lanes.
  std::array<double, work_count> ms{}, count{};
  for (const Stage& stage : seen_.list()) {
    if (traces(stage.work)) {
      tracing += stage.ms;
      continue;
    }
    ms[static_cast<std::size_t>(stage.work)] += stage.ms;
    count[static_cast<std::size_t>(stage.work)] +=
        static_cast<double>(std::max(stage.times, stage.count));
  }
  for (const Stage& stage : stages.list()) {
    if (traces(stage.work)) continue;
    const auto own = static_cast<double>(std::max(stage.times, stage.count));
    const Stage& like = seen_.at(stage.lanes, stage.work);
    const auto known = static_cast<double>(std::max(like.times, like.count));
    const auto work = static_cast<std::size_t>(stage.work);
    if (known > 0) {
      other += own * like.ms / known;
    } else if (count[work] > 0) {
      other += own * ms[work] / count[work];
    }
  }
  // Lanes toward lights take arithmetic of their own.
  constexpr double ms_of_ray = 4e-5;
  const double more_rays = std::max(
      0.0, static_cast<double>(tally.shadow_lanes) - static_cast<double>(counted_.shadow_lanes));
  const double units = traced(counted_);
  if (units > 0) other += traced(tally) * tracing / units;
  return other + (counted_.lanes > 0 ? more_rays * ms_of_ray : 0);
}

}  // namespace photonlane
