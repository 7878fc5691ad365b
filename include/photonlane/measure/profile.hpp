#pragma once

///   const FrameProfile profile = profile_frame(world, camera, budget);
///   for (const KnobWorth& one : profile.knobs) printf("%s: %.1f ms\n", one.knob.c_str(),
///   one.saved_ms);

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "photonlane/frame/render.hpp"
#include "photonlane/measure/difference.hpp"
#include "photonlane/measure/statistics.hpp"

namespace photonlane {

/// What one turn of a knob by one notch would change.
struct KnobWorth {
  std::string knob, from, to;
  double saved_ms = 0;  ///< of a frame; below 0: it would take longer
  double change = 0;    ///< RMSE between the frame as it is and turned: an error made, or one less
  bool finer = false;   ///< toward accuracy
};

/// How much of a frame's error one knob brings.
struct KnobError {
  std::string knob, from, to;  ///< as it is, and at its best
  double left = 0;             ///< RMSE that is left where this one alone is at its best
};

/// How long one of several views takes.
struct ViewTime {
  std::size_t view = 0;
  double ms = 0;  ///< median
};

/// Where in the picture much is spent, and why.
struct DearRegion {
  PixelPart part;
  double share = 0;   ///< of the frame's time
  double pixels = 0;  ///< share of its pixels
  std::string why;
};

struct FrameProfile {
  Cost cost;  ///< of the middle one of some frames
  std::vector<double> frame_ms;
  Tally tally;
  std::vector<DearRegion> regions;  ///< the dearest first
  std::vector<KnobWorth> knobs;     ///< the best bargain first: what saves much for little change
  std::vector<std::string> idle;    ///< knobs that change nothing here
  double error = 0;                 ///< RMSE against everything at its best, on a sample
  std::vector<KnobError> errors;  ///< of knobs that take off a hundredth or more; least left first
  /// Of several views, the slowest first; all else is of that one.
  std::vector<ViewTime> views;
  /// One frame with what the layers say: display, and of rooms cost, evaluations, steps and others.
  std::shared_ptr<const Frame> frame;
};

struct ProfileOptions {
  int threads = 0;
  int repeats = 3;
  bool knobs = true;          ///< false: leave out what each is worth
  bool errors = true;         ///< false: leave out what error each brings; that needs a reference
  std::vector<Camera> views;  ///< other than the camera given; none: that one
  std::function<bool(double share)> progress;
};

/// Tells where a frame's time goes: by stages, by regions of the picture, and what each knob of the
/// budget would save or cost if it alone were turned by one notch. The latter goes by counted work
/// on a sample of the frame, at the prices its stages show. Errors are of the same sample, against
/// everything at its best with budget.against.samples samples a pixel (0: 16), no fewer than the
/// frame has. Of several views the slowest is looked at. Throws what render() throws.
FrameProfile profile_frame(const World& world, const Camera& camera, const Budget& budget,
                           const ProfileOptions& options = {});

}  // namespace photonlane
