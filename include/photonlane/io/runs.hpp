#pragma once

///   io::play_zoom(file, {.to = point, .width = Decimal(1e-9), .frames = 60}, "panes", {});
///   const Sweep result = io::run_sweep(file, {parse_vary("bounces.limit=0,1,2")}, "out", {}, {});

#include <string>
#include <vector>

#include "photonlane/io/report.hpp"
#include "photonlane/io/scene_file.hpp"
#include "photonlane/measure/sweep.hpp"

namespace photonlane::io {

/// How a run of many frames is made. What its parts leave is kept in its folder (run.journal) as it
/// comes; one that was stopped or killed is begun again with `resume`, does what is missing, and
/// ends with the same files but for measured times. Resuming throws Error (usage) where there is
/// nothing to resume, or a run of another scene (or of files it names that are others now) or other
/// options.
struct RunOptions {
  int threads = 0;
  bool resume = false;
  RunFacts facts;  ///< for the files that are written as the run goes on
  std::function<bool(double share)> progress;
};

/// A steady zoom into a plane.
struct ZoomPlan {
  DecimalPoint to;
  Decimal width;  ///< of the last frame
  int frames = 2;
  double allowed_error = 0;  ///< steps, of pixels that are taken from the frame before; 0: none are
};

/// Leaves frame-0001.png and so on and zoom.csv in a folder. Where the progress callback asks to
/// stop, the table is written up to there before Error (cancelled) is thrown. Throws Error (input)
/// for a scene that is no plane.
std::vector<ZoomStep> play_zoom(const SceneFile& file, const ZoomPlan& plan,
                                const std::string& folder, const RunOptions& run);

/// Digest of all that a scene says and of the files it names: equal for equal scenes.
std::string scene_digest(const SceneFile& file);

/// A sweep of a scene, numbers of its file among the knobs. sweep.csv and sweep.json are written
/// after every round of timed frames, and the picture of every setting; write_sweep() adds the
/// plots and the report at the end.
Sweep run_sweep(const SceneFile& file, const std::vector<Vary>& vary, const std::string& folder,
                SweepOptions options, const RunOptions& run);

}  // namespace photonlane::io
