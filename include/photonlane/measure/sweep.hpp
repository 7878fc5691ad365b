#pragma once

///   const Sweep result = sweep(world, camera, budget, {parse_vary("light.corners=none,sampled")});
///   const Setting* cheapest = cheapest_within(result, {parse_limit("rmse=0.01")});

#include <array>
#include <functional>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "photonlane/frame/render.hpp"
#include "photonlane/measure/difference.hpp"
#include "photonlane/measure/named_setting.hpp"
#include "photonlane/measure/statistics.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane {

/// One knob, of the budget, the camera or the window, or a number of the scene, and the values it
/// takes in a sweep.
struct Vary {
  std::string knob;
  std::vector<std::string> values;
};

/// Reads "knob=values": a list "a,b,c", "from..to/count" for equal differences, or
/// "from..to//count" for equal ratios. Integers are rounded and named once. Throws Error (usage or
/// input) for unknown knobs and values that do not fit.
Vary parse_vary(std::string_view text);

/// By what the settings of a sweep are ranked.
enum class RankBy {
  time,  ///< milliseconds until a frame is ready to show
  cpu,   ///< milliseconds that all threads worked at it, without their waiting
  work   ///< counted work at fixed prices, about milliseconds of a plain machine: no clock is read
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<RankBy>{"time", "cpu", "work"};

/// One setting of a sweep with what it costs and how wrong it is.
struct Setting {
  std::vector<std::string> values;  ///< in the order of the sweep's knobs; "-" without effect
  Budget budget;
  Camera camera;
  SceneNumbers numbers;
  Statistics total_ms;    ///< of a frame, as Sweep::by says; of several views their median
  Interval total_likely;  ///< where its median lies, milliseconds
  /// Of several views: what 95 in 100 of their frames do not exceed, and the slowest one.
  double p95_ms = 0;
  std::size_t slowest_view = 0;
  Statistics cast_ms;
  Statistics fill_ms;
  Tally tally;
  Difference error;  ///< against the reference; without the errors of single pixels
  bool on_front = false;
};

/// One thing that a sweep measures: how wrong a setting is and what it counted, or how long one
/// frame of it took.
struct SweepPart {
  bool timed = false;
  Tally tally;
  Difference error;  ///< without the errors of single pixels
  double total_ms = 0;
  double cast_ms = 0;
  double fill_ms = 0;
  double cpu_ms = 0;
  double p95_ms = 0;
  std::size_t slowest_view = 0;
};

struct Sweep;

/// What the errors of a sweep are measured against.
enum class ReferenceKind {
  varied,  ///< the knobs that vary at their best, all others as the base has them
  best,    ///< everything at its best
  given    ///< a frame that was made before
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<ReferenceKind>{"varied", "best",
                                                                             "given"};

/// A reference that is about to be made.
struct ReferencePlan {
  const Budget& budget;
  const Camera& camera;
  std::size_t views = 1;  ///< of which each has its own
  /// Of all views, from a small frame. Such guesses are off by half and more.
  double guess_ms = 0;
};

struct SweepOptions {
  int repeats = 11;  ///< timed frames a setting
  /// Ends the timing as soon as the interval of every setting's median is no wider than this share
  /// of it; 0: all repeats are made.
  double precision = 0;
  int warm_up = 2;  ///< frames before the timed ones
  int threads = 0;
  bool one_by_one = false;  ///< each knob alone, the others as the base has them; the base is first
  RankBy by = RankBy::time;
  /// Other cameras than the one given, of which each makes a frame of every setting: errors are
  /// their means, times their medians. None: that one.
  std::vector<Camera> views;
  std::string_view metric = "rmse";  ///< what the front weighs against time
  ReferenceKind reference = ReferenceKind::varied;
  /// Of ReferenceKind::given: frames of other sizes are resampled to its size.
  std::shared_ptr<const Frame> given;
  /// Told before the first reference is made. Its guess takes a small frame.
  std::function<void(const ReferencePlan&)> announce;
  /// Told before a reference is made that takes over two seconds: each setting as one frame of it
  /// shows, with its time and counted work, without errors.
  std::function<void(const Sweep&)> first_look;
  /// References of earlier sweeps: asked before one is made, and given each that was.
  std::function<std::optional<Frame>(const Budget&, const Camera&)> kept;
  std::function<void(const Budget&, const Camera&, Frame&)> keep;
  /// Told of each setting's frame, which has colors, when its error was measured.
  std::function<void(std::size_t setting, Frame&)> made;
  std::function<bool(double share)> progress;
  /// What was measured before, by number: asked first, so that a sweep that was stopped goes on.
  std::function<std::optional<SweepPart>(std::size_t part)> known;
  std::function<void(std::size_t part, const SweepPart&)> measured;
  /// Told after each round of timed frames, with what is known by then.
  std::function<void(const Sweep&)> so_far;
};

struct Sweep {
  std::vector<std::string> knobs;
  Budget reference;  ///< what the errors are measured against
  ReferenceKind reference_kind = ReferenceKind::varied;
  /// The knobs that the reference has otherwise than the base, with its values.
  std::vector<std::pair<std::string, std::string>> reference_knobs;
  bool plane = false;  ///< whether it is of a plane, where budget.plane is what counts
  std::vector<Setting> settings;
  std::string metric;
  bool one_by_one = false;
  RankBy by = RankBy::time;
  std::size_t views = 1;
};

/// Makes a frame of every combination of the varied values, or of every value alone; settings that
/// differ only in knobs without effect (cells.increment beside another cells.method) count once.
/// Errors are against a reference of the same view (reference_of()); where the size is varied, the
/// others are resampled to its size; where the camera or the window is varied, there is one for
/// each. So that errors tell of what is varied, other knobs are no better in the reference than in
/// the base; ReferenceKind::best tells how far from the best picture all of it is. Times are of
/// frames with the display layer; settings take turns, so that a slow moment of the machine falls
/// on all alike. Throws Error (usage) where views are given and the camera varies, or a reference
/// of one view for several, and what render() throws.
Sweep sweep(const World& world, const Camera& camera, const Budget& base,
            const std::vector<Vary>& vary, const SweepOptions& options = {});

/// The same where numbers of the scene vary too: `world_of` makes the world of some. The reference
/// is of the scene as `numbers` have it, so that errors tell what other numbers change.
Sweep sweep(const std::function<World(const SceneNumbers&)>& world_of, const SceneNumbers& numbers,
            const Camera& camera, const Budget& base, const std::vector<Vary>& vary,
            const SweepOptions& options = {});

/// The budget of a sweep's reference. Of ReferenceKind::varied the varied knobs have the values of
/// Budget::reference(), and so have those that only matter with them or that they only matter
/// with: cells.method with cells.increment. Samples: Budget::against says, or where they vary
/// four times the most of them; varied sizes: the largest; the farthest far_limit.
Budget reference_of(const Budget& base, const std::vector<Setting>& settings,
                    const std::vector<Vary>& vary, ReferenceKind kind);

/// How times grow with what frames have more of: time = constant * amount^power.
struct Growth {
  double power = 0;
  double constant = 0;  ///< milliseconds
  double off = 0;       ///< by how much the fit misses a time at most, as a share
};

/// Of settings that differ in the frame's pixels alone (`samples`: in its samples alone), the first
/// ones of which there are three; none: nothing.
std::optional<Growth> growth(const Sweep& sweep, bool samples);

/// Marks the settings that no other beats in both time and error. Times are only beaten where their
/// intervals are apart: settings that noise cannot tell apart share their place.
void mark_front(std::vector<Setting>& settings, const Metric& metric);

/// The cheapest setting that keeps to all limits, or null.
const Setting* cheapest_within(const Sweep& sweep, const std::vector<Limit>& limits);

/// The most accurate setting, by the sweep's metric, whose median frame takes no longer than so
/// many milliseconds (95 in 100 of its views' no longer than `most_p95_ms`) and that keeps to all
/// limits; of equal ones the cheapest. Null: there is none.
const Setting* best_within(const Sweep& sweep, double most_ms, const std::vector<Limit>& limits,
                           double most_p95_ms = std::numeric_limits<double>::infinity());

}  // namespace photonlane
