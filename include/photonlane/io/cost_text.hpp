#pragma once

///   fputs(io::stages_text(frame.cost).c_str(), stdout);

#include <string>

#include "photonlane/frame/frame.hpp"
#include "photonlane/measure/predict.hpp"
#include "photonlane/measure/profile.hpp"

namespace photonlane::io {

/// Where the time of a frame's threads went: a line for each kind of work on each kind of lanes,
/// the dearest first, up to where less than a share of `least` is left.
std::string stages_text(const Cost& cost, double least = 0.008);

/// Stages, regions and knobs, for people and for programs.
std::string profile_text(const FrameProfile& profile);
std::string profile_json(const FrameProfile& profile);

/// What a frame will cost, for people and for programs.
std::string prediction_text(const Prediction& prediction, Size size);
std::string prediction_json(const Prediction& prediction);

}  // namespace photonlane::io
