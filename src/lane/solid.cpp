#include "photonlane/lane/solid.hpp"

#include <algorithm>
#include <memory>

#include "photonlane/base/error.hpp"

namespace photonlane {

void Solid::nearest_hits(std::span<const LaneBatch<float>* const> lanes, const Budget& budget,
                         std::span<HitBatch<float>* const> hits) const {
  for (std::size_t i = 0; i < lanes.size(); ++i) *hits[i] = nearest_hit(*lanes[i], budget);
}
void Solid::nearest_hits(std::span<const LaneBatch<double>* const> lanes, const Budget& budget,
                         std::span<HitBatch<double>* const> hits) const {
  for (std::size_t i = 0; i < lanes.size(); ++i) *hits[i] = nearest_hit(*lanes[i], budget);
}

std::uint64_t Solid::hide(const LaneBatch<float>& lanes, const Budget& budget, bool* hidden) const {
  auto rest = std::make_unique<LaneBatch<float>>(lanes);
  rest->size = 0;
  rest->ending_only = true;
  std::size_t of[LaneBatch<float>::capacity];
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hidden[i]) continue;
    of[rest->size] = i;
    rest->take(lanes, i);
  }
  if (rest->size == 0) return 0;
  const HitBatch<float> hits = nearest_hit(*rest, budget);
  std::uint64_t steps = 0;
  for (std::size_t k = 0; k < rest->size; ++k) {
    steps += hits.steps[k];
    const float limit =
        rest->any_limit ? std::min(rest->limit[k], rest->far_limit) : rest->far_limit;
    hidden[of[k]] = hits.ending[k] == Ending::hit && hits.t[k] < limit;
  }
  return steps;
}

std::vector<Emitter> Solid::emitters(const std::vector<bool>&) const { return {}; }

void Solid::measure(const DistanceBatch&) const {
  throw Error(ErrorKind::usage, summary() + " knows no distances");
}

std::optional<ClosestSurface> Solid::closest(const Vec3d&) const { return std::nullopt; }

}  // namespace photonlane
