#include "photonlane/measure/tune.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

#include "measure/ladders.hpp"
#include "measure/tune_sample.hpp"
#include "photonlane/measure/named_setting.hpp"

namespace photonlane {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

/// An error as a number that about adds up where two things are wrong at once.
double badness(const Metric& metric, double value) {
  if (metric.name == "rmse") return value * value;
  if (metric.name == "psnr") return std::pow(10, -value / 10);
  return metric.more_is_better ? 1 - value : value;
}
double badness(const Metric& metric, const Difference& error) {
  const std::optional<double> value = metric.value(error);
  return value ? badness(metric, *value) : 0;
}

/// What counts of a setting: by how much it breaks limits, and what is left to be made smaller.
struct Standing {
  double broken = 0;  ///< 0: all limits are kept; else the log of how many times too much, at most
  double cost = 0;
  double wrong = 0;

  bool better(const Standing& other, bool by_error) const {
    if (broken != other.broken) return broken < other.broken;
    if (by_error && wrong != other.wrong) return wrong < other.wrong;
    return cost != other.cost ? cost < other.cost : wrong < other.wrong;
  }
};

using State = std::vector<std::size_t>;  ///< which value each knob has

class Tuner {
 public:
  Tuner(const World& world, const Camera& camera, const Budget& base, const TuneOptions& options)
      : world_(world), base_(base), options_(options) {
    check_goal();
    views_ = options.views.empty() ? std::vector<Camera>{camera} : options.views;
    const Settings settings{base, camera};
    if (options.vary.empty()) {
      ladders_ = ladders(base, world.plane() != nullptr);
    } else {
      for (const Vary& vary : options.vary) ladders_.push_back(ladder_of(vary, settings));
    }
    for (const Ladder& ladder : ladders_) refuse_others(ladder.knob);
    if (base_.against.samples == 0) base_.against.samples = 16;
    metrics_.push_back(parse_limit(std::string(options.metric) + "=0").metric);
    for (const Limit& limit : options.goal.limits) metrics_.push_back(limit.metric);
    by_error_ = options.goal.most_ms.has_value() || options.goal.most_p95_ms.has_value();
    result_.metric = options.metric;
    result_.by = options.by;
    result_.reference = reference_budget();
    sample_.emplace(world_, views_, base_, result_.reference, options_, [this] { return go_on(); });
  }

  Tuned run() {
    look();
    if (!result_.kept() && result_.held_out) {
      // What the search did not see matters: it is seen from now on.
      look_at_all();
      look();
    }
    count();
    name_knobs();
    mark();
    return std::move(result_);
  }

 private:
  void look() {
    const std::size_t base = measure(base_state());
    turn_each_alone();
    for (std::size_t k = 0; k < ladders_.size(); ++k) {
      if (idle_[k]) result_.without_effect.push_back(ladders_[k].knob);
    }
    confirm(search(base));
  }

  /// Searches anew by both samples.
  void look_at_all() {
    sample_->join();
    result_.trials.clear();
    result_.without_effect.clear();
    result_.chosen.reset();
    result_.held_out.reset();
    tried_.clear();
    states_.clear();
    wrong_.clear();
    works_.clear();
    best_ = 0;
  }

  void count() {
    result_.pixels = sample_->pixels();
    result_.frames = sample_->frames();
    result_.converged = sample_->converged();
  }

  // What is looked for.

  void check_goal() const {
    const TuneGoal& goal = options_.goal;
    if (goal.limits.empty() && !goal.most_ms && !goal.most_p95_ms) {
      throw Error(ErrorKind::usage, "nothing to tune for, expected a limit on an error or on time");
    }
    if (options_.by == TuneCost::work && (goal.most_ms || goal.most_p95_ms)) {
      throw Error(ErrorKind::usage, "a limit on time cannot be kept by counted work");
    }
  }

  static void refuse_others(const std::string& knob) {
    if (knob == "frame.size" || knob == "frame.width" || knob == "frame.height" ||
        knob == "frame.first" || knob == "reference.samples" ||
        find_knob(budget_knobs(), knob) == nullptr) {
      throw Error(ErrorKind::input,
                  fmt::format("{} cannot be tuned, expected a knob of the budget other than the "
                              "size",
                              knob));
    }
  }

  Budget reference_budget() const {
    return options_.vary.empty() ? base_.reference()
                                 : reference_of(base_, {}, options_.vary, ReferenceKind::varied);
  }

  Standing standing(double cost, double p95, const std::vector<double>& wrong) const {
    Standing stands{0, cost, wrong.front()};
    const auto over = [&](double value, double most) {
      if (value <= most) return;
      stands.broken = std::max(stands.broken, std::log(value / std::max(most, 1e-30)));
    };
    for (std::size_t i = 0; i < options_.goal.limits.size(); ++i) {
      const Limit& limit = options_.goal.limits[i];
      // A limit of 0 is kept by nothing but 0.
      over(wrong[i + 1], std::max(badness(*limit.metric, limit.bound), 0.0));
    }
    if (options_.goal.most_ms) over(cost, *options_.goal.most_ms / slower_);
    if (options_.goal.most_p95_ms) over(p95, *options_.goal.most_p95_ms / slower_);
    return stands;
  }
  Standing standing(std::size_t trial) const {
    const Trial& one = result_.trials[trial];
    return standing(one.cost, one.p95, wrong_[trial]);
  }

  bool go_on() const { return !options_.progress || options_.progress(share_); }

  // Trials.

  State base_state() const {
    State state;
    for (const Ladder& ladder : ladders_) state.push_back(ladder.own);
    return state;
  }

  Budget budget_of(const State& state) const {
    Settings settings{base_, {}};
    for (std::size_t k = 0; k < state.size(); ++k) {
      set_by_name(settings, ladders_[k].knob, ladders_[k].values[state[k]]);
    }
    return settings.budget;
  }

  bool applies(const State& state, std::size_t knob) const {
    return setting_applies({budget_of(state), {}}, ladders_[knob].knob);
  }

  bool may_try() const {
    return result_.trials.size() < static_cast<std::size_t>(std::max(1, options_.most_trials));
  }

  /// Measures a setting, or finds what was measured of it: its number.
  std::size_t measure(const State& state) {
    const auto [found, fresh] = tried_.try_emplace(state, result_.trials.size());
    if (!fresh) return found->second;
    Trial trial;
    trial.budget = budget_of(state);
    for (std::size_t k = 0; k < state.size(); ++k) {
      trial.values.push_back(applies(state, k) ? ladders_[k].values[state[k]] : "-");
    }
    const TrialPart part = measure_part(trial.budget, rate_of(state));
    // Throws where the frames do not have what a limit is about.
    for (const Limit& limit : options_.goal.limits) holds(limit, part.error);
    trial.cost = part.cost;
    trial.p95 = part.p95;
    trial.error = part.error;
    works_.push_back(part.work);
    wrong_.emplace_back();
    for (const Metric* metric : metrics_) wrong_.back().push_back(badness(*metric, part.error));
    states_.push_back(state);
    result_.trials.push_back(std::move(trial));
    const std::size_t number = result_.trials.size() - 1;
    if (number == 0 || standing(number).better(standing(best_), by_error_)) {
      best_ = number;
      tell();
    }
    return number;
  }

  /// What a budget has otherwise than the base.
  std::string turned(const Budget& budget) const {
    std::string text;
    for (const Knob<Budget>& entry : budget_knobs()) {
      const std::string value = knob_text(entry, budget);
      if (value != knob_text(entry, base_)) text += fmt::format(" {}={}", entry.info.name, value);
    }
    return text;
  }

  TrialPart measure_part(const Budget& budget, double rate) {
    const std::size_t number = parts_++;
    if (options_.known) {
      if (std::optional<TrialPart> known = options_.known(number)) return std::move(*known);
    }
    TuneSample::Shot shot;
    try {
      shot = sample_->shoot(budget, TuneSample::seen, true, rate);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::cancelled) throw;
      throw Error(error.kind(), fmt::format("while trying{}: {}", turned(budget), error.message()));
    }
    const TrialPart part{shot.cost, shot.p95, shot.work, shot.error};
    if (options_.measured) options_.measured(number, part);
    return part;
  }

  void tell() {
    if (!options_.so_far) return;
    result_.nearest = best_;
    result_.chosen.reset();
    if (standing(best_).broken == 0) result_.chosen = best_;
    count();
    name_knobs();
    options_.so_far(result_);
  }

  // The search.

  /// What one turn alone does to cost and errors, from some setting on.
  struct Turn {
    double cost = 1;            ///< factor
    std::vector<double> wrong;  ///< what is added
  };

  std::optional<Turn> turn(std::size_t knob, std::size_t from, std::size_t to) const {
    const auto& known = turns_[knob];
    const auto one = known.find(from);
    const auto two = known.find(to);
    if (one == known.end() || two == known.end()) return std::nullopt;
    Turn turn{two->second.cost / one->second.cost, {}};
    for (std::size_t m = 0; m < metrics_.size(); ++m) {
      turn.wrong.push_back(two->second.wrong[m] - one->second.wrong[m]);
    }
    return turn;
  }

  /// Learns what a knob's values do, the others as a state has them.
  void learn(const State& from, std::size_t knob, std::size_t value) {
    if (!may_try() || turns_[knob].contains(value)) return;
    const std::size_t trial = measure(with(from, knob, value));
    const std::size_t like = tried_.at(from);
    // What changes nothing at all changes no prices.
    if (wrong_[trial] != wrong_[like] || works_[trial] != works_[like]) {
      if (const double rate = race(knob, value); rate != 1) {
        result_.trials[trial].cost *= rate;
        result_.trials[trial].p95 *= rate;
      }
    }
    turns_[knob][value] = {result_.trials[trial].cost, wrong_[trial]};
  }

  bool changes_nothing(std::size_t knob, std::size_t value) const {
    const auto found = tried_.find(with(base_state(), knob, value));
    if (found == tried_.end()) return false;
    const auto rate = rates_.find({knob, value});
    const bool same_price = rate == rates_.end() || std::abs(rate->second - 1) < 0.05;
    return wrong_[0] == wrong_[found->second] && works_[0] == works_[found->second] && same_price;
  }

  static State with(State state, std::size_t knob, std::size_t value) {
    state[knob] = value;
    return state;
  }

  /// By what factor a value changes prices, where that is not known yet: raced against the base on
  /// the sample, in turns.
  double race(std::size_t knob, std::size_t value) {
    if (options_.by == TuneCost::work || !changes_prices(ladders_[knob].knob)) return 1;
    if (value == ladders_[knob].own || rates_.contains({knob, value})) return 1;
    const std::size_t number = parts_++;
    double rate = 1;
    const std::optional<TrialPart> known = options_.known ? options_.known(number) : std::nullopt;
    if (known) {
      rate = known->cost;
    } else {
      const Budget other = budget_of(with(base_state(), knob, value));
      std::vector<double> own_times, other_times;
      double own_cost = 0;
      double other_cost = 0;
      constexpr int turns = 2;
      for (int k = 0; k < turns; ++k) {
        const TuneSample::Shot one = sample_->shoot(base_, TuneSample::seen, false);
        const TuneSample::Shot two = sample_->shoot(other, TuneSample::seen, false);
        own_times.push_back(one.measured);
        other_times.push_back(two.measured);
        own_cost = one.cost;
        other_cost = two.cost;
      }
      const double times = quantile(other_times, 0) / std::max(quantile(own_times, 0), 1e-9);
      rate = times / std::max(other_cost / std::max(own_cost, 1e-12), 1e-9);
      // What is no more than noise is none.
      if (std::abs(rate - 1) < 0.08) rate = 1;
      // What is more accurate is not cheaper for the same work: that was the machine.
      if (ladders_[knob].ordered && value < ladders_[knob].own) rate = std::max(rate, 1.0);
      if (options_.measured) options_.measured(number, {rate, rate, 0, {}});
    }
    rates_[{knob, value}] = rate;
    return rate;
  }

  double rate_of(const State& state) const {
    double rate = 1;
    for (std::size_t k = 0; k < state.size(); ++k) {
      const auto found = rates_.find({k, state[k]});
      if (found != rates_.end()) rate *= found->second;
    }
    return rate;
  }

  void turn_each_alone() {
    const State base = base_state();
    turns_.assign(ladders_.size(), {});
    idle_.assign(ladders_.size(), false);
    // Finer values are dear: only where the base is not good enough, or time is what is given.
    const bool finer = by_error_ || standing(0).broken > 0;
    for (std::size_t k = 0; k < ladders_.size(); ++k) {
      share_ = 0.5 * static_cast<double>(k) / static_cast<double>(ladders_.size());
      turns_[k][ladders_[k].own] = {result_.trials[0].cost, wrong_[0]};
      if (!applies(base, k)) continue;
      const std::size_t last = ladders_[k].values.size() - 1;
      learn(base, k, last);
      const bool far_idle =
          last == ladders_[k].own || (turns_[k].contains(last) && changes_nothing(k, last));
      if (far_idle && finer && ladders_[k].own > 0) learn(base, k, 0);
      const bool near_idle = !turns_[k].contains(0) || changes_nothing(k, 0);
      if (far_idle && near_idle && last != ladders_[k].own) {
        idle_[k] = true;
        continue;
      }
      for (std::size_t v = 0; v <= last; ++v) {
        if (v < ladders_[k].own && ladders_[k].ordered && !finer) continue;
        learn(base, k, v);
      }
    }
    share_ = 0.5;
  }

  struct Move {
    State state;
    Standing promised;
  };

  /// All settings one turn away, or two, with what they promise.
  std::vector<Move> moves(std::size_t from, bool two_turns, bool patient) const {
    struct Single {
      std::size_t knob, value;
      Turn turn;
    };
    const State& state = states_[from];
    std::vector<Single> singles;
    for (std::size_t k = 0; k < ladders_.size(); ++k) {
      if (idle_[k] || !applies(state, k)) continue;
      for (std::size_t v = 0; v < ladders_[k].values.size(); ++v) {
        if (v == state[k]) continue;
        if (const auto known = turn(k, state[k], v)) singles.push_back({k, v, *known});
      }
    }
    const Trial& trial = result_.trials[from];
    const auto promise = [&](std::initializer_list<const Single*> some) {
      Move move{state, {}};
      double factor = 1;
      std::vector<double> wrong = wrong_[from];
      for (const Single* one : some) {
        move.state[one->knob] = one->value;
        factor *= one->turn.cost;
        for (std::size_t m = 0; m < wrong.size(); ++m) {
          wrong[m] = std::max(0.0, wrong[m] + one->turn.wrong[m]);
        }
      }
      // What turns did elsewhere is a little off here.
      if (patient) {
        factor *= 0.93;
        for (double& one : wrong) one *= 0.7;
      }
      move.promised = standing(trial.cost * factor, trial.p95 * factor, wrong);
      return move;
    };
    std::vector<Move> all;
    for (std::size_t i = 0; i < singles.size(); ++i) {
      if (!two_turns) {
        all.push_back(promise({&singles[i]}));
        continue;
      }
      for (std::size_t j = i + 1; j < singles.size(); ++j) {
        if (singles[i].knob != singles[j].knob) all.push_back(promise({&singles[i], &singles[j]}));
      }
    }
    std::sort(all.begin(), all.end(), [&](const Move& a, const Move& b) {
      return a.promised.better(b.promised, by_error_);
    });
    return all;
  }

  /// Whether one setting is better than another by more than what measuring is off by.
  bool clearly_better(std::size_t one, std::size_t other) {
    const Standing a = standing(one);
    const Standing b = standing(other);
    if (!a.better(b, by_error_)) return false;
    if (a.broken != b.broken || (by_error_ && a.wrong < 0.999 * b.wrong)) return true;
    // Less is nothing that a frame would show.
    return a.cost < 0.998 * b.cost;
  }

  /// The first of some moves that makes the setting better, among the few that promise most.
  std::optional<std::size_t> step(std::size_t from, bool two_turns, std::size_t tries,
                                  bool patient = false) {
    const Standing now = standing(from);
    for (const Move& move : moves(from, two_turns, patient)) {
      if (tries == 0 || !may_try()) break;
      if (!move.promised.better(now, by_error_)) break;
      const bool fresh = !tried_.contains(move.state);
      const std::size_t trial = measure(move.state);
      if (clearly_better(trial, from)) return trial;
      if (fresh) --tries;
    }
    return std::nullopt;
  }

  std::size_t search(std::size_t from) {
    // Any trial may be the place to start from.
    for (std::size_t i = 0; i < result_.trials.size(); ++i) {
      if (clearly_better(i, from)) from = i;
    }
    for (;;) {
      learn_what_applies_now(from);
      share_ = std::min(0.95, share_ + 0.03);
      if (const auto next = step(from, false, 5)) {
        from = *next;
      } else if (const auto pair = step(from, true, 12)) {
        from = *pair;
      } else if (const auto late = step(from, false, 6, true)) {
        from = *late;
      } else if (const auto late_pair = step(from, true, 14, true)) {
        from = *late_pair;
      } else {
        return from;
      }
    }
  }

  /// Knobs that had no meaning beside the base's values.
  void learn_what_applies_now(std::size_t from) {
    const State state = states_[from];
    for (std::size_t k = 0; k < ladders_.size(); ++k) {
      // How colors are brought up matters once there are fewer of them.
      const bool wakes = ladders_[k].knob == "frame.upscale" &&
                         result_.trials[from].budget.frame.scale != 1 && idle_[k];
      if (wakes) {
        idle_[k] = false;
        turns_[k].clear();
      } else if (idle_[k] || turns_[k].size() > 1 || !applies(state, k) ||
                 applies(base_state(), k)) {
        continue;
      }
      turns_[k][state[k]] = {result_.trials[from].cost, wrong_[from]};
      for (std::size_t v = 0; v < ladders_[k].values.size(); ++v) learn(state, k, v);
    }
  }

  // Whether it holds.

  /// Tries what was found where the search did not look, and in whole frames beside the next best;
  /// takes those where it does not hold.
  void confirm(std::size_t found) {
    constexpr int most_rounds = 6;
    std::set<std::size_t> refused;
    for (int round = 0; round < most_rounds; ++round) {
      result_.nearest = found;
      result_.chosen.reset();
      result_.held_out.reset();
      // Times are of what is looked at now, or of nothing.
      result_.base_ms.clear();
      result_.chosen_ms.clear();
      if (standing(found).broken > 0) return;
      if (holds_elsewhere(found)) {
        const std::size_t quickest = quickest_beside(found, refused);
        if (quickest != found) {
          const std::optional<Difference> own = result_.held_out;
          if (holds_elsewhere(quickest)) {
            found = quickest;
          } else {
            result_.held_out = own;
          }
        }
        if (quick_enough(found)) {
          result_.nearest = found;
          result_.chosen = found;
          return;
        }
      }
      refused.insert(found);
      std::optional<std::size_t> next;
      for (std::size_t i = 0; i < result_.trials.size(); ++i) {
        if (refused.contains(i)) continue;
        if (!next || standing(i).better(standing(*next), by_error_)) next = i;
      }
      if (!next) return;
      found = *next;
    }
  }

  /// Of the settings that cost hardly more by what was counted, the one whose whole frames are
  /// quickest.
  std::size_t quickest_beside(std::size_t found, const std::set<std::size_t>& refused) {
    if (by_error_ || options_.repeats <= 0 || options_.by == TuneCost::work) return found;
    std::vector<std::size_t> rivals;
    for (std::size_t i = 0; i < result_.trials.size(); ++i) {
      const Standing one = standing(i);
      if (i == found || refused.contains(i) || one.broken > 0) continue;
      if (one.cost < 1.1 * result_.trials[found].cost) rivals.push_back(i);
    }
    std::sort(rivals.begin(), rivals.end(), [&](std::size_t a, std::size_t b) {
      return result_.trials[a].cost < result_.trials[b].cost;
    });
    constexpr std::size_t most = 2;
    if (rivals.size() > most) rivals.resize(most);
    if (rivals.empty()) return found;
    rivals.insert(rivals.begin(), found);
    std::vector<std::vector<double>> times(rivals.size());
    for (int round = 0; round < options_.repeats; ++round) {
      for (std::size_t k = 0; k < rivals.size(); ++k) {
        times[k].push_back(time_frame(views_.front(), result_.trials[rivals[k]].budget));
      }
    }
    std::size_t best = 0;
    for (std::size_t k = 1; k < rivals.size(); ++k) {
      // Only where it is clear.
      if (interval_of_ratio(times[k], times[best]).high < 1) best = k;
    }
    return rivals[best];
  }

  double time_frame(const Camera& view, const Budget& budget) {
    shown_ = render(world_, view, budget,
                    {.layers = {Layer::display},
                     .threads = options_.threads,
                     .progress = [this](double) { return go_on(); },
                     .recycle = std::move(shown_)});
    return shown_.cost.total_ms();
  }

  bool holds_elsewhere(std::size_t trial) {
    if (!sample_->holds_out() || options_.goal.limits.empty()) return true;
    result_.held_out =
        sample_->shoot(result_.trials[trial].budget, TuneSample::held_out, true).error;
    // What was not looked at may be worse by chance: both together have to hold.
    for (const Limit& limit : options_.goal.limits) {
      const double both = 0.5 * (badness(*limit.metric, *result_.held_out) +
                                 badness(*limit.metric, result_.trials[trial].error));
      if (both > badness(*limit.metric, limit.bound)) return false;
    }
    return true;
  }

  /// Times whole frames of the base and of a setting in turns.
  bool quick_enough(std::size_t trial) {
    if (options_.repeats <= 0 || options_.by == TuneCost::work) return true;
    std::vector<double> base, chosen;
    std::vector<double> views;
    for (int round = -1; round < options_.repeats; ++round) {
      for (const bool own : {false, true}) {
        std::vector<double> times;
        for (const Camera& view : views_) {
          times.push_back(time_frame(view, own ? result_.trials[trial].budget : base_));
        }
        if (round < 0) continue;
        if (own) views.insert(views.end(), times.begin(), times.end());
        (own ? chosen : base).push_back(quantile(times, 0.5));
      }
    }
    result_.base_ms = base;
    result_.chosen_ms = chosen;
    const double median = quantile(chosen, 0.5);
    const TuneGoal& goal = options_.goal;
    const bool median_holds = !goal.most_ms || median <= *goal.most_ms;
    const bool p95_holds = !goal.most_p95_ms || quantile(views, 0.95) <= *goal.most_p95_ms;
    if (median_holds && p95_holds) return true;
    // What whole frames take more than the sample told.
    slower_ = std::max(slower_, median / result_.trials[trial].cost);
    return false;
  }

  void name_knobs() {
    result_.knobs.clear();
    result_.notches.clear();
    for (const Ladder& ladder : ladders_) {
      result_.knobs.push_back(ladder.knob);
      result_.notches.push_back(ladder.values);
    }
  }

  void mark() {
    for (std::size_t i = 0; i < result_.trials.size(); ++i) {
      Trial& one = result_.trials[i];
      one.on_front = true;
      for (std::size_t j = 0; j < result_.trials.size(); ++j) {
        const Trial& other = result_.trials[j];
        const bool no_worse = other.cost <= one.cost && wrong_[j].front() <= wrong_[i].front();
        const bool better = other.cost < one.cost || wrong_[j].front() < wrong_[i].front();
        if (no_worse && better) one.on_front = false;
      }
    }
  }

  const World& world_;
  Budget base_;
  const TuneOptions& options_;
  std::vector<Camera> views_;
  std::vector<Ladder> ladders_;
  std::vector<const Metric*> metrics_;  ///< the goal's, then those of the limits
  bool by_error_ = false;
  std::optional<TuneSample> sample_;
  std::map<std::pair<std::size_t, std::size_t>, double> rates_;  ///< of values, beside the base's
  std::vector<double> works_;                                    ///< counted, of each trial
  double slower_ = 1;  ///< whole frames, than the sample tells
  double share_ = 0;

  Tuned result_;
  std::map<State, std::size_t> tried_;
  std::vector<State> states_;
  std::vector<std::vector<double>> wrong_;          ///< of each trial, by the metrics
  std::vector<std::map<std::size_t, Turn>> turns_;  ///< of each knob's values: cost and errors
  std::vector<bool> idle_;
  std::size_t best_ = 0;
  std::size_t parts_ = 0;
  Frame shown_;
};

}  // namespace

double counted_cost(const Tally& tally) {
  return 40.0 * static_cast<double>(tally.lanes) + 6.0 * static_cast<double>(tally.steps) +
         60.0 * static_cast<double>(tally.shadow_lanes) +
         150.0 * static_cast<double>(tally.bounces) +
         6.0 * static_cast<double>(tally.secondary_steps) +
         40.0 * static_cast<double>(tally.crossings) +
         60.0 * static_cast<double>(tally.bent_steps) +
         12.0 * static_cast<double>(tally.evaluations);
}

Tuned tune(const World& world, const Camera& camera, const Budget& base,
           const TuneOptions& options) {
  return Tuner(world, camera, base, options).run();
}

}  // namespace photonlane
