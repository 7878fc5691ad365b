#pragma once

///   const Tuned tuned = tune(world, camera, budget, {.limits = {parse_limit("rmse=0.01")}});
///   if (tuned.kept()) budget = tuned.best().budget;

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "photonlane/measure/sweep.hpp"

namespace photonlane {

/// What the setting that is looked for has to keep to. Without a limit on time the cheapest one
/// that keeps to the others is looked for; with one the most accurate.
struct TuneGoal {
  std::vector<Limit> limits;
  std::optional<double> most_ms;      ///< the median frame of the views
  std::optional<double> most_p95_ms;  ///< of 95 in 100 of the views' frames
};

/// By what settings are ranked.
enum class TuneCost {
  time,  ///< counted work at what it costs in this scene on this machine
  work   ///< counted work at fixed prices, which no machine's mood changes
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<TuneCost>{"time", "work"};

/// A setting that was tried on the sample of the frame.
struct Trial {
  std::vector<std::string> values;  ///< in the order of the knobs
  Budget budget;
  double cost = 0;   ///< TuneCost::time: milliseconds of a whole frame, as far as the sample tells
  double p95 = 0;    ///< the same of 95 in 100 of the views
  Difference error;  ///< of the sample, without the errors of single pixels
  bool on_front = false;
};

/// What a trial leaves, for a search that is gone on with.
struct TrialPart {
  double cost = 0;
  double p95 = 0;
  double work = 0;  ///< counted
  Difference error;
};

struct Tuned {
  std::vector<std::string> knobs;                 ///< that have an effect
  std::vector<std::vector<std::string>> notches;  ///< their values, the most accurate first
  std::vector<std::string> without_effect;        ///< knobs that were tried
  std::vector<Trial> trials;                      ///< the base first
  std::optional<std::size_t> chosen;  ///< of the trials: it keeps to all limits; none does
  std::size_t nearest = 0;            ///< of the trials: it breaks limits by the least
  std::string metric;
  TuneCost by = TuneCost::time;
  Budget reference;
  double pixels = 0;     ///< of the sample, as a share of the views' frames
  double frames = 0;     ///< how many whole frames all trials together are worth
  double converged = 0;  ///< RMSE between the reference and one of half its samples
  /// Of the base and of what was chosen, whole frames in turns; empty where none were made.
  std::vector<double> base_ms, chosen_ms;
  std::optional<Difference> held_out;  ///< error of the chosen one where the search did not look

  bool kept() const { return chosen.has_value(); }
  const Trial& best() const { return trials[chosen.value_or(nearest)]; }
};

struct TuneOptions {
  TuneGoal goal;
  /// Knobs and values to choose from; none: all knobs of the budget that have an effect here.
  std::vector<Vary> vary;
  std::vector<Camera> views;         ///< other than the camera's own; none: that one
  std::string_view metric = "rmse";  ///< what is as small as may be where time is limited
  TuneCost by = TuneCost::time;
  int threads = 0;
  int repeats = 5;  ///< whole frames of the base and of the chosen one, at the end; 0: none
  int most_trials = 400;
  std::function<bool(double share)> progress;
  std::function<void(const Tuned&)> so_far;  ///< told after each trial that gets nearer
  std::function<std::optional<TrialPart>(std::size_t number)> known;
  std::function<void(std::size_t number, const TrialPart&)> measured;
  std::function<std::optional<Frame>(const Budget&, std::size_t which)> kept_reference;
  std::function<void(const Budget&, std::size_t which, Frame&)> keep_reference;
};

/// Looks for the cheapest budget that is good enough, or for the best that is quick enough. Frames
/// are sampled: blocks of the full-size frames, some to search by and as many others to look
/// whether what was found holds there. Errors are against a reference that has all that is tuned at
/// its best, with budget.against.samples samples a pixel (0: 16).
///
/// What a setting costs goes by counted work, priced by the stages of some frames of the base,
/// since clocks tell little of small differences; knobs that change prices are raced against the
/// base in turns, and so are whole frames of the few settings that are left.
///
/// Each knob is turned alone first. From there on the setting that is best so far is changed by the
/// turn that promises most, then by two turns at once, until nothing gets better; what is promised
/// goes by what the turns did alone, what counts is what is measured. Throws Error (usage) for
/// goals without a limit, Error (input) for varied knobs of the camera, the size or scene numbers,
/// and what render() throws.
Tuned tune(const World& world, const Camera& camera, const Budget& base,
           const TuneOptions& options);

/// Counted work of a frame as one number: about nanoseconds of a plain machine.
double counted_cost(const Tally& tally);

}  // namespace photonlane
