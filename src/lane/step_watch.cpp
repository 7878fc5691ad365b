#include "photonlane/lane/lanes.hpp"

namespace photonlane {

void StepWatch::note(std::size_t i, double t, double value) {
  for (Kept& one : kept_) {
    if (one.lane == i) one.steps.push_back({t, value});
  }
}

const std::vector<MarchStep>& StepWatch::steps(std::size_t i) const {
  static const std::vector<MarchStep> none;
  for (const Kept& one : kept_) {
    if (one.lane == i) return one.steps;
  }
  return none;
}

}  // namespace photonlane
