#include "measure/work_prices.hpp"

#include <algorithm>

namespace photonlane {

bool WorkPrices::traces(Work work) {
  return work == Work::march || work == Work::prune || work == Work::refine ||
         work == Work::normals || work == Work::cells || work == Work::iterate;
}

double WorkPrices::traced(const Tally& tally) {
  // What is done once for a lane is about as much as some steps.
  const auto lanes = static_cast<double>(tally.lanes + tally.shadow_lanes + tally.bounces);
  const auto steps = static_cast<double>(tally.steps + tally.secondary_steps);
  if (tally.evaluations == 0) return 8 * lanes + steps;
  return 8 * lanes + 0.25 * steps + static_cast<double>(tally.evaluations);
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
  const double units = traced(counted_);
  if (units > 0) other += traced(tally) * tracing / units;
  return other;
}

}  // namespace photonlane
