#pragma once

#include <array>
#include <functional>
#include <vector>

#include "measure/frame_sample.hpp"
#include "measure/work_prices.hpp"
#include "photonlane/measure/tune.hpp"

namespace photonlane {

/// What a search looks at: parts of the frames of some views, a reference of them, and what counted
/// work costs there. As many others are held out until they are joined to those.
class TuneSample {
 public:
  enum Which { seen, held_out };

  /// `go_on` is asked while frames are made. Keeps references to all but the views.
  TuneSample(const World& world, std::vector<Camera> views, const Budget& base,
             const Budget& reference, const TuneOptions& options, std::function<bool()> go_on);

  bool holds_out() const { return !samples_[held_out].empty(); }
  /// The other half belongs to what is seen from now on.
  void join();

  struct Shot {
    double cost = 0;      ///< of the median view's frame, milliseconds, or counted work
    double p95 = 0;       ///< of 95 in 100 of the views
    double work = 0;      ///< counted
    double measured = 0;  ///< milliseconds of threads
    Difference error;     ///< where it was asked for
  };
  /// A sample by a budget; `rate` is by what factor its work is dearer than the base's.
  Shot shoot(const Budget& budget, Which which, bool compared, double rate = 1);

  /// What is seen, as a share of the views' frames; how many whole frames all that was made is
  /// worth (the references apart); how far the reference is from one of half its samples.
  double pixels() const { return pixels_; }
  double frames() const { return frames_; }
  double converged() const { return converged_; }

 private:
  struct PartCost {
    Tally tally;
    StageTimes stages;
  };
  using PartCosts = std::vector<PartCost>;

  void count_pixels();
  void learn_prices();
  double threads() const;
  Frame make(std::size_t view, const Budget& budget, const FrameSample& sample, PartCosts* costs);
  double cost_of(std::size_t view, const FrameSample& sample, const PartCosts& parts, double rate,
                 Shot& shot) const;
  const std::vector<Frame>& reference(Which which);
  double how_converged();

  const World& world_;
  std::vector<Camera> views_;
  const Budget& base_;
  const Budget& reference_;
  const TuneOptions& options_;
  std::function<bool()> go_on_;
  LayerSet layers_;
  std::array<std::vector<FrameSample>, 2> samples_;  ///< of each view
  std::array<std::vector<Frame>, 2> references_;
  std::vector<WorkPrices> prices_;  ///< of each view
  double pixels_ = 0, frames_ = 0, converged_ = 0;
};

}  // namespace photonlane
