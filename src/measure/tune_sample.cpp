#include "measure/tune_sample.hpp"

#include <algorithm>
#include <utility>

#include "base/parallel.hpp"
#include "frame/parts.hpp"

namespace photonlane {
namespace {

/// Two frames, one under the other.
Frame stacked(const Frame& upper, const Frame& lower) {
  Frame all({upper.size().width, upper.size().height + lower.size().height}, upper.layers());
  paste(upper, {0, 0, upper.size()}, 0, 0, all);
  paste(lower, {0, 0, lower.size()}, 0, upper.size().height, all);
  return all;
}

}  // namespace

TuneSample::TuneSample(const World& world, std::vector<Camera> views, const Budget& base,
                       const Budget& reference, const TuneOptions& options,
                       std::function<bool()> go_on)
    : world_(world),
      views_(std::move(views)),
      base_(base),
      reference_(reference),
      options_(options),
      go_on_(std::move(go_on)),
      layers_(measurable_layers(world)) {
  const std::size_t count = std::max<std::size_t>(6, 16 / views_.size());
  for (const Camera& view : views_) {
    TwoSamples both = sample_frame(world_, view, base_, count, options_.threads);
    samples_[seen].push_back(std::move(both.seen));
    if (!both.held_out.parts.empty()) samples_[held_out].push_back(std::move(both.held_out));
  }
  if (samples_[held_out].size() != views_.size()) samples_[held_out].clear();
  count_pixels();
  learn_prices();
}

void TuneSample::count_pixels() {
  double pixels = 0;
  for (const FrameSample& sample : samples_[seen]) pixels += sample.pixels;
  pixels_ = pixels / (static_cast<double>(base_.frame.width) * base_.frame.height *
                      static_cast<double>(views_.size()));
}

void TuneSample::learn_prices() {
  prices_.resize(views_.size());
  if (options_.by == TuneCost::work) return;
  constexpr int times = 3;
  for (int k = 0; k < times; ++k) {
    for (std::size_t v = 0; v < views_.size(); ++v) {
      const Frame frame = make(v, base_, samples_[seen][v], nullptr);
      // The first one finds caches empty.
      if (k > 0) prices_[v].learn(frame.tally, frame.cost.stages);
    }
  }
  frames_ += times * pixels_;
}

double TuneSample::threads() const {
  return options_.by == TuneCost::work ? 1 : thread_count(options_.threads);
}

Frame TuneSample::make(std::size_t view, const Budget& budget, const FrameSample& sample,
                       PartCosts* costs) {
  RenderOptions own;
  own.layers = layers_;
  own.threads = options_.threads;
  own.progress = [this](double) { return go_on_(); };
  if (costs != nullptr) {
    own.part_done = [costs](std::size_t i, const Frame& part) {
      (*costs)[i] = {part.tally, part.cost.stages};
    };
  }
  return render_parts(world_, views_[view], budget, sample.parts, std::move(own));
}

double TuneSample::cost_of(std::size_t view, const FrameSample& sample, const PartCosts& parts,
                           double rate, Shot& shot) const {
  double cost = 0;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    // Each part by itself, since it stands for a share of its own.
    const double work = counted_cost(parts[i].tally);
    const double own = options_.by == TuneCost::work
                           ? 1e-6 * work
                           : rate * prices_[view].cost(parts[i].tally, parts[i].stages);
    cost += sample.of_whole(i, own, base_.frame.size());
    shot.work += work;
    shot.measured += sample.shares[i] * parts[i].stages.total_ms();
  }
  return cost / threads();
}

TuneSample::Shot TuneSample::shoot(const Budget& budget, Which which, bool compared, double rate) {
  // Made first, so that it is not counted with what is timed.
  const std::vector<Frame>* const right = compared ? &reference(which) : nullptr;
  std::vector<double> costs;
  std::vector<Difference> errors;
  Shot shot;
  for (std::size_t v = 0; v < views_.size(); ++v) {
    const FrameSample& sample = samples_[which][v];
    PartCosts parts(sample.parts.size());
    const Frame frame = make(v, budget, sample, &parts);
    costs.push_back(cost_of(v, sample, parts, rate, shot));
    if (right != nullptr) errors.push_back(compare_samples(frame, (*right)[v], sample));
  }
  frames_ += pixels_;
  shot.cost = quantile(costs, 0.5);
  shot.p95 = quantile(costs, 0.95);
  if (right != nullptr) {
    shot.error = mean_of(
        errors, std::vector<double>(views_.size(), 1.0 / static_cast<double>(views_.size())));
  }
  return shot;
}

const std::vector<Frame>& TuneSample::reference(Which which) {
  std::vector<Frame>& right = references_[which];
  if (!right.empty()) return right;
  for (std::size_t v = 0; v < views_.size(); ++v) {
    const std::size_t number = static_cast<std::size_t>(which) * views_.size() + v;
    std::optional<Frame> kept;
    if (options_.kept_reference) kept = options_.kept_reference(reference_, number);
    if (!kept) {
      kept = make(v, reference_, samples_[which][v], nullptr);
      if (options_.keep_reference) options_.keep_reference(reference_, number, *kept);
    }
    right.push_back(std::move(*kept));
  }
  if (which == seen) converged_ = how_converged();
  return right;
}

double TuneSample::how_converged() {
  if (reference_.frame.samples < 2) return 0;
  Budget half = reference_;
  half.frame.samples /= 2;
  FrameSample some = samples_[seen].front();
  const std::size_t count = std::max<std::size_t>(1, some.parts.size() / 4);
  some.parts.resize(count);
  some.shares.assign(count, 1.0 / static_cast<double>(count));
  return compare_samples(make(0, half, some, nullptr), references_[seen].front(), some).rmse;
}

void TuneSample::join() {
  reference(seen);
  reference(held_out);
  for (std::size_t v = 0; v < views_.size(); ++v) {
    references_[seen][v] = stacked(references_[seen][v], references_[held_out][v]);
    samples_[seen][v] = joined(samples_[seen][v], samples_[held_out][v]);
  }
  samples_[held_out].clear();
  references_[held_out].clear();
  count_pixels();
}

}  // namespace photonlane
