#pragma once

///   const io::GrowingRun run{.until = {io::parse_until("rmse=0.01"),
///   io::parse_until("seconds=60")}}; const io::GrownFrame grown = io::grow_frame(file,
///   compile(file.scene), "night.png", run);

#include <functional>
#include <string>
#include <vector>

#include "photonlane/frame/growing_frame.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// What a growing frame may end at.
enum class UntilKind { samples, rmse, seconds };

struct Until {
  UntilKind kind = UntilKind::samples;
  double value = 0;
};
/// From "samples=64", "rmse=0.01" or "seconds=60". Throws Error (usage) for anything else.
Until parse_until(const std::string& text);

/// How far a growing frame is.
struct GrowingProgress {
  double samples = 0;
  GrowingError error;
  double seconds = 0;  ///< since it began, or was gone on with
  double share = 0;    ///< of the way to what comes first, about
};

struct GrowingRun {
  std::vector<Until> until;  ///< the first that holds ends it; none: frame.samples
  int threads = 0;
  bool resume = false;
  LayerSet layers{Layer::display};  ///< of the picture
  double write_every = 5;           ///< seconds between pictures while it grows
  /// Return false to stop: what there is is written, and can be gone on with.
  std::function<bool(const GrowingProgress& progress)> progress;
};

struct GrownFrame {
  Frame frame;
  GrowingProgress progress;
  bool stopped = false;  ///< by the callback
  std::string ended_by;  ///< in words: "rmse 0.0098 <= 0.01"
};

/// Makes a picture that is written again and again while it gets better, and beside it (its name
/// with ".growing" behind) what it takes to go on: that goes away where `until` has been reached.
/// With `resume` it goes on from there, and ends with the same bytes as if it had not stopped.
///
/// Throws Error (usage) where there is nothing to go on from, or where that is of another scene,
/// camera, budget or version, and says which; Error (input) where a limit cannot be reached;
/// Error (file) where something cannot be written: what was written before stays.
GrownFrame grow_frame(const SceneFile& file, const World& world, const std::string& output,
                      const GrowingRun& run);

}  // namespace photonlane::io
