#pragma once

#include <array>

#include "photonlane/frame/frame.hpp"

namespace photonlane {

/// What each kind of counted work costs in a scene on this machine: learned from the stages of some
/// frames, asked for what another frame of it counted. So settings are told apart that the clock
/// cannot tell apart, as long as they do more or less of the same.
class WorkPrices {
 public:
  /// Learns from a frame; several even out what the machine is at.
  void learn(const Tally& tally, const StageTimes& stages);
  /// Milliseconds of one thread.
  double cost(const Tally& tally, const StageTimes& stages) const;

 private:
  static bool traces(Work work);
  /// Lanes and their evaluations, where there are any, or else their steps.
  static double traced(const Tally& tally);

  StageTimes seen_;  ///< all that was learned from
  Tally counted_;
};

}  // namespace photonlane
