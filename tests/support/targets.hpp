#pragma once

#include <hwy/targets.h>

#include <vector>

namespace photonlane::test {

/// Runs something once for every vector target of this machine, from the widest to the plainest.
template <class Work>
void for_each_target(const Work& work) {
  const std::int64_t all = hwy::SupportedTargets();
  for (std::int64_t rest = all; rest != 0; rest &= rest - 1) {
    const std::int64_t target = rest & -rest;
    hwy::SetSupportedTargetsForTest(target);
    hwy::GetChosenTarget().DeInit();
    work(hwy::TargetName(target));
  }
  hwy::SetSupportedTargetsForTest(0);
  hwy::GetChosenTarget().DeInit();
}

}  // namespace photonlane::test
