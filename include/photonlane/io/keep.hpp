#pragma once

///   io::keep({{.path = "evening.yaml"}}, "kept", {});
///   for (const io::Judgement& one : io::judge("kept", {})) puts(io::judgement_line(one).c_str());

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "photonlane/io/scene_request.hpp"
#include "photonlane/measure/difference.hpp"
#include "photonlane/measure/statistics.hpp"

namespace photonlane::io {

struct KeepOptions {
  int threads = 0;
  int repeats = 7;  ///< timed frames of each scene; 0: no times
  std::function<bool(double share)> progress;
};

/// Keeps what scenes look like and cost now, in a folder: kept.json with what was counted, times as
/// multiples of a calibration run beside each, version and machine; and each picture. Paths of
/// scenes are kept as they are given. Throws Error (usage) for no scene or the same one twice, and
/// what open_scene() and render() throw.
void keep(const std::vector<SceneRequest>& scenes, const std::string& folder,
          const KeepOptions& options);

/// What may have changed since.
struct JudgeOptions {
  int threads = 0;
  int repeats = 7;            ///< 0: times are not looked at
  std::vector<Limit> limits;  ///< of the picture; none: it must be the same
  double more_work = 0.01;    ///< share of any count that there may be more
  double slower = 0.15;       ///< share of the time; beyond the noise of both
  std::function<bool(double share)> progress;
};

/// What became of one scene.
struct Judgement {
  std::string scene;
  std::shared_ptr<const Frame> kept, made;  ///< the pictures, of colors
  bool same_picture = false;
  std::optional<Difference> difference;  ///< where it is another
  std::string most_work;                 ///< the count that grew or shrank most; empty: none did
  double work = 1;                       ///< by how many times
  bool timed = false;
  bool other_machine = false;  ///< times then say little
  double time = 1;             ///< how many times the kept one, as multiples of calibration runs
  Interval time_interval;
  bool picture_holds = true, work_holds = true, time_holds = true;
  bool holds() const { return picture_holds && work_holds && time_holds; }
};

/// Makes what was kept anew and compares. Scenes take turns. Throws Error (file) for a folder that
/// holds nothing kept, Error (input) for one that is damaged or of a later form, and what
/// open_scene() and render() throw.
std::vector<Judgement> judge(const std::string& folder, const JudgeOptions& options);

/// One line for people; all for programs.
std::string judgement_line(const Judgement& judgement);
std::string judgements_json(const std::vector<Judgement>& judgements);

}  // namespace photonlane::io
