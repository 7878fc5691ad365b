#include "photonlane/measure/sweep.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>
#include <span>
#include <utility>

#include "measure/frame_sample.hpp"
#include "photonlane/measure/named_setting.hpp"
#include "photonlane/measure/tune.hpp"

namespace photonlane {
namespace {

void turn(Setting& setting, std::string_view knob, std::string_view value) {
  Settings settings{setting.budget, setting.camera, setting.numbers};
  set_by_name(settings, knob, value);
  setting.budget = settings.budget;
  setting.camera = settings.camera;
  setting.numbers = settings.numbers;
}

/// What tells cameras apart that a sweep makes.
std::string view_text(const Camera& camera) {
  std::string text;
  for (const auto& entry : camera_knobs()) text += knob_text(entry, camera) + "\n";
  for (const auto& entry : plane_window_knobs()) text += knob_text(entry, camera.window) + "\n";
  return text;
}

/// The base, then every value of every knob with the others as the base has them.
std::vector<Setting> one_by_one(const Settings& base, const std::vector<Vary>& vary) {
  Setting first;
  first.budget = base.budget;
  first.camera = base.camera;
  first.numbers = base.numbers;
  for (const Vary& one : vary) {
    first.values.push_back(setting_text(base, one.knob));
  }
  std::vector<Setting> settings{first};
  for (std::size_t i = 0; i < vary.size(); ++i) {
    for (const std::string& value : vary[i].values) {
      Setting setting = first;
      turn(setting, vary[i].knob, value);
      setting.values[i] = value;
      settings.push_back(std::move(setting));
    }
  }
  return settings;
}

std::vector<Setting> combinations(const Settings& base, const std::vector<Vary>& vary) {
  std::size_t count = 1;
  for (const Vary& one : vary) {
    count *= one.values.size();
    if (count == 0 || count > 10000) {
      throw Error(ErrorKind::usage,
                  fmt::format("a sweep of {} settings, expected 1 to 10000", count));
    }
  }
  std::vector<Setting> settings(count);
  for (std::size_t i = 0; i < count; ++i) {
    Setting& setting = settings[i];
    setting.budget = base.budget;
    setting.camera = base.camera;
    setting.numbers = base.numbers;
    std::size_t rest = i;
    std::size_t block = count;
    for (const Vary& one : vary) {
      block /= one.values.size();
      setting.values.push_back(one.values[rest / block]);
      rest %= block;
      turn(setting, one.knob, setting.values.back());
    }
  }
  return settings;
}

/// A knob without effect beside the others makes settings that differ in name only: keeps one.
std::vector<Setting> different(std::vector<Setting> settings, const std::vector<Vary>& vary) {
  std::vector<Setting> kept;
  for (Setting& setting : settings) {
    for (std::size_t i = 0; i < vary.size(); ++i) {
      if (!setting_applies({setting.budget, setting.camera}, vary[i].knob)) setting.values[i] = "-";
    }
    const bool seen = std::any_of(kept.begin(), kept.end(), [&](const Setting& other) {
      return other.values == setting.values;
    });
    if (!seen) kept.push_back(std::move(setting));
  }
  return kept;
}

/// The knobs of a budget that are varied, with those that only matter with them and those that
/// they only matter with.
std::set<std::string_view> tied_knobs(const std::vector<Vary>& vary) {
  std::set<std::string_view> tied;
  const auto needed = [](const Knob<Budget>& entry) {
    return entry.info.only_with.substr(0, entry.info.only_with.find('='));
  };
  const auto spread = [&](const auto& adds) {
    for (std::size_t before = 0; before != tied.size();) {
      before = tied.size();
      for (const Knob<Budget>& entry : budget_knobs()) {
        const std::string_view other = needed(entry);
        // Which kind of light there is is no matter of accuracy.
        if (!other.empty() && other != "light.transport") adds(entry.info.name, other);
      }
    }
  };
  for (const Vary& one : vary) {
    for (const Knob<Budget>& entry : budget_knobs()) {
      if (entry.info.name == one.knob) tied.insert(entry.info.name);
    }
  }
  spread([&](std::string_view name, std::string_view other) {
    if (tied.contains(name)) tied.insert(other);
    if (tied.contains(other)) tied.insert(name);
  });
  return tied;
}

double metric_value(const Metric& metric, const Difference& difference) {
  const auto value = metric.value(difference);
  // Equal frames have no signal-to-noise ratio: nothing is better.
  if (!value) return -std::numeric_limits<double>::infinity();
  return metric.more_is_better ? -*value : *value;
}

/// What the reference has otherwise than the base.
std::vector<std::pair<std::string, std::string>> other_knobs(const Budget& base,
                                                             const Budget& reference) {
  std::vector<std::pair<std::string, std::string>> others;
  for (const Knob<Budget>& entry : budget_knobs()) {
    const std::string text = knob_text(entry, reference);
    if (text != knob_text(entry, base)) others.emplace_back(entry.info.name, text);
  }
  return others;
}

/// Of a frame of a few percent of the pixels, how long all of it takes. Neighbors are worked at
/// together: of very few pixels the guess would be far too long.
double guess_ms(const World& world, const Camera& camera, const Budget& budget, int threads) {
  Budget small = budget;
  const int part = budget.frame.width >= 600 ? 6 : 4;
  small.frame.width = std::max(8, budget.frame.width / part);
  small.frame.height = std::max(8, budget.frame.height / part);
  RenderOptions options;
  options.layers = measurable_layers(world);
  options.threads = threads;
  const Frame frame = render(world, camera, small, std::move(options));
  const double share = static_cast<double>(budget.frame.width) * budget.frame.height /
                       (static_cast<double>(small.frame.width) * small.frame.height);
  return frame.cost.total_ms() * share;
}

/// The frames of a sweep: first how wrong each setting is, then how long it takes, in turns.
class SweepRun {
 public:
  SweepRun(const std::function<World(const SceneNumbers&)>& world_of, const Settings& base,
           const std::vector<Vary>& vary, const SweepOptions& options)
      : options_(options), weighed_(parse_limit(std::string(options.metric) + "=0")) {
    result_.metric = options.metric;
    result_.one_by_one = options.one_by_one;
    result_.by = options.by;
    result_.views = std::max<std::size_t>(1, options.views.size());
    for (const Vary& one : vary) result_.knobs.push_back(one.knob);
    result_.settings =
        different(options.one_by_one ? one_by_one(base, vary) : combinations(base, vary), vary);
    base_world_ = &worlds_.emplace(base.numbers, world_of(base.numbers)).first->second;
    result_.plane = base_world_->plane() != nullptr;
    for (const Setting& setting : result_.settings) {
      if (!worlds_.contains(setting.numbers)) {
        worlds_.emplace(setting.numbers, world_of(setting.numbers));
      }
      cameras_.insert(view_text(setting.camera));
    }
    check_views();
    choose_reference(base.budget, vary);
    measured_.layers = measurable_layers(*base_world_);
    measured_.threads = options.threads;
  }

  Sweep run() {
    measure_errors();
    measure_times();
    return std::move(result_);
  }

 private:
  void check_views() {
    if (options_.views.empty()) return;
    if (cameras_.size() > 1) {
      throw Error(ErrorKind::usage, "several views, expected no knob of the camera to vary");
    }
    cameras_.clear();
    for (const Camera& view : options_.views) cameras_.insert(view_text(view));
  }
  /// What each frame of a setting is seen by.
  std::span<const Camera> views_of(const Setting& setting) const {
    return options_.views.empty() ? std::span(&setting.camera, 1) : std::span(options_.views);
  }

  void choose_reference(const Budget& base, const std::vector<Vary>& vary) {
    if (!options_.given) {
      result_.reference_kind = options_.reference;
      result_.reference = reference_of(base, result_.settings, vary, options_.reference);
      result_.reference_knobs = other_knobs(base, result_.reference);
      return;
    }
    if (cameras_.size() > 1) {
      throw Error(ErrorKind::usage,
                  "a reference of one view for settings of several, expected none to be given "
                  "where the camera or the window is varied");
    }
    result_.reference_kind = ReferenceKind::given;
    result_.reference = base;
    result_.reference.frame.width = options_.given->size().width;
    result_.reference.frame.height = options_.given->size().height;
  }

  std::size_t rounds() const {
    if (options_.by == RankBy::work) return 0;
    return static_cast<std::size_t>(options_.warm_up + options_.repeats);
  }

  /// The references take about as long as all the rest; `reference` is the share of the one that
  /// is being made.
  bool go_on(double reference) const {
    const double parts = static_cast<double>(result_.settings.size() * (rounds() + 1));
    const double share =
        0.5 * (referred_ + reference) / static_cast<double>(cameras_.size()) + 0.5 * done_ / parts;
    return !options_.progress || options_.progress(share);
  }
  void part_done() {
    done_ += 1;
    if (!go_on(0)) throw Error(ErrorKind::cancelled, "stopped by the caller");
  }
  std::optional<SweepPart> known_part(std::size_t part) const {
    return options_.known ? options_.known(part) : std::nullopt;
  }
  void tell(std::size_t part, const SweepPart& what) const {
    if (options_.measured) options_.measured(part, what);
  }

  /// One frame of each setting, for whoever waits for the reference.
  void look_first() {
    Sweep look = result_;
    for (Setting& setting : look.settings) {
      std::vector<double> times;
      for (const Camera& view : views_of(setting)) {
        const Frame& frame = show(setting, view);
        setting.tally += frame.tally;
        times.push_back(frame.cost.total_ms());
      }
      setting.total_ms = {quantile(times, 0.5), 0};
      if (!go_on(0)) throw Error(ErrorKind::cancelled, "stopped by the caller");
    }
    options_.first_look(look);
  }

  Frame make_reference(const Camera& seen_by) {
    if (options_.kept) {
      if (std::optional<Frame> kept = options_.kept(result_.reference, seen_by)) {
        return std::move(*kept);
      }
    }
    if ((options_.announce || options_.first_look) && !announced_) {
      announced_ = true;
      const double views = static_cast<double>(cameras_.size());
      const double guess =
          views * guess_ms(*base_world_, seen_by, result_.reference, options_.threads);
      if (options_.announce) {
        options_.announce({result_.reference, seen_by, cameras_.size(), guess});
      }
      constexpr double long_ms = 2000;
      if (options_.first_look && guess > long_ms) look_first();
    }
    RenderOptions once = measured_;
    once.progress = [this](double share) { return go_on(share); };
    Frame frame = render(*base_world_, seen_by, result_.reference, std::move(once));
    if (options_.keep) options_.keep(result_.reference, seen_by, frame);
    return frame;
  }
  const Frame& reference_of_view(const Camera& seen_by) {
    if (options_.given) return *options_.given;
    const auto [found, fresh] = references_.try_emplace(view_text(seen_by));
    if (fresh) {
      found->second = make_reference(seen_by);
      referred_ += 1;
    }
    return found->second;
  }

  SweepPart measure_error(std::size_t number, const Setting& setting) {
    SweepPart part;
    std::vector<Difference> errors;
    for (const Camera& view : views_of(setting)) {
      const Frame& reference = reference_of_view(view);
      Frame frame = render(worlds_.at(setting.numbers), view, setting.budget, measured_);
      part.tally += frame.tally;
      errors.push_back(frame.size() == reference.size()
                           ? compare(frame, reference)
                           : compare(resample(frame, reference.size()), reference));
      errors.back().errors = {};
      if (options_.made && errors.size() == 1) options_.made(number, frame);
    }
    if (options_.by == RankBy::work) {
      // Layers of data may take lanes of their own: what is ranked is a frame without.
      part.tally = {};
      for (const Camera& view : views_of(setting)) {
        part.tally += show(setting, view).tally;
      }
    }
    const double share = 1 / static_cast<double>(errors.size());
    part.error = errors.size() == 1 ? std::move(errors.front())
                                    : mean_of(errors, std::vector(errors.size(), share));
    return part;
  }

  void measure_errors() {
    for (std::size_t i = 0; i < result_.settings.size(); ++i) {
      Setting& setting = result_.settings[i];
      std::optional<SweepPart> part = known_part(i);
      if (!part) {
        part = measure_error(i, setting);
        tell(i, *part);
      }
      setting.tally = part->tally;
      setting.error = std::move(part->error);
      part_done();
    }
    referred_ = static_cast<double>(cameras_.size());
  }

  void measure_times() {
    const std::size_t count = result_.settings.size();
    times_.resize(count);
    for (std::size_t round = 0; round < rounds(); ++round) {
      const bool counts = round >= static_cast<std::size_t>(options_.warm_up);
      for (std::size_t i = 0; i < count; ++i) {
        const std::size_t turn = (i + round) % count;
        const std::size_t number = count * (round + 1) + turn;
        std::optional<SweepPart> part = counts ? known_part(number) : std::nullopt;
        if (!part) {
          part = time_frame(result_.settings[turn]);
          if (counts) tell(number, *part);
        }
        if (counts) times_[turn].add(*part, options_.by);
        part_done();
      }
      if (counts && options_.so_far && round + 1 < rounds()) {
        put_times();
        options_.so_far(result_);
      }
      if (counts && precise_enough()) break;
    }
    put_times();
  }

  /// A frame as it is shown.
  const Frame& show(const Setting& setting, const Camera& view) {
    shown_ = render(worlds_.at(setting.numbers), view, setting.budget,
                    {.layers = {Layer::display},
                     .threads = options_.threads,
                     .progress = {},
                     .recycle = std::move(shown_)});
    return shown_;
  }

  SweepPart time_frame(const Setting& setting) {
    SweepPart part{.timed = true, .tally = {}, .error = {}};
    std::vector<double> total, cast, fill, cpu;
    for (const Camera& view : views_of(setting)) {
      show(setting, view);
      total.push_back(shown_.cost.total_ms());
      cast.push_back(shown_.cost.cast_ms);
      fill.push_back(shown_.cost.fill_ms);
      cpu.push_back(shown_.cost.stages.total_ms());
    }
    const std::vector<double>& ranked = options_.by == RankBy::cpu ? cpu : total;
    part.total_ms = quantile(total, 0.5);
    part.cast_ms = quantile(cast, 0.5);
    part.fill_ms = quantile(fill, 0.5);
    part.cpu_ms = quantile(cpu, 0.5);
    part.p95_ms = quantile(ranked, 0.95);
    part.slowest_view = static_cast<std::size_t>(std::ranges::max_element(ranked) - ranked.begin());
    return part;
  }

  bool precise_enough() {
    if (options_.precision <= 0) return false;
    put_times();
    constexpr std::size_t least = 5;
    return std::all_of(times_.begin(), times_.end(), [&](const Times& one) {
      const std::size_t i = static_cast<std::size_t>(&one - times_.data());
      const Setting& setting = result_.settings[i];
      return one.total.size() >= least &&
             setting.total_likely.wide() <= options_.precision * setting.total_ms.median;
    });
  }

  void put_times() {
    for (std::size_t i = 0; i < times_.size(); ++i) {
      Setting& setting = result_.settings[i];
      const Times& own = times_[i];
      setting.on_front = false;
      if (options_.by == RankBy::work) {
        const double work = 1e-6 * counted_cost(setting.tally) / static_cast<double>(result_.views);
        setting.total_ms = {work, 0};
        setting.total_likely = {work, work};
        continue;
      }
      setting.total_ms = summarize(own.total);
      setting.total_likely = interval_of_median(own.total);
      setting.cast_ms = summarize(own.cast);
      setting.fill_ms = summarize(own.fill);
      setting.p95_ms = quantile(own.p95, 0.5);
      setting.slowest_view = most_often(own.slowest);
    }
    mark_front(result_.settings, *weighed_.metric);
  }

  static std::size_t most_often(std::vector<std::size_t> numbers) {
    std::map<std::size_t, std::size_t> times;
    std::size_t best = numbers.empty() ? 0 : numbers.front();
    for (const std::size_t number : numbers) {
      if (++times[number] > times[best]) best = number;
    }
    return best;
  }

  struct Times {
    std::vector<double> total, cast, fill, p95;
    std::vector<std::size_t> slowest;
    void add(const SweepPart& part, RankBy by) {
      total.push_back(by == RankBy::cpu ? part.cpu_ms : part.total_ms);
      cast.push_back(part.cast_ms);
      fill.push_back(part.fill_ms);
      p95.push_back(part.p95_ms);
      slowest.push_back(part.slowest_view);
    }
  };

  const SweepOptions& options_;
  Limit weighed_;
  Sweep result_;
  std::map<SceneNumbers, World> worlds_;
  const World* base_world_ = nullptr;
  std::set<std::string> cameras_;  ///< that differ
  RenderOptions measured_{.layers = {}, .threads = 0, .progress = {}, .recycle = {}};
  std::map<std::string, Frame> references_;
  bool announced_ = false;
  double done_ = 0;      ///< settings' frames
  double referred_ = 0;  ///< references
  std::vector<Times> times_;
  Frame shown_;
};

}  // namespace

Budget reference_of(const Budget& base, const std::vector<Setting>& settings,
                    const std::vector<Vary>& vary, ReferenceKind kind) {
  const auto varied = [&](std::string_view knob) {
    return std::any_of(vary.begin(), vary.end(), [&](const Vary& one) { return one.knob == knob; });
  };
  const Budget all = base.reference();
  Budget best = kind == ReferenceKind::best ? all : base;
  if (kind != ReferenceKind::best) {
    const std::set<std::string_view> tied = tied_knobs(vary);
    for (const Knob<Budget>& entry : budget_knobs()) {
      if (tied.contains(entry.info.name)) {
        set_knob(budget_knobs(), best, entry.info.name, knob_text(entry, all));
      }
    }
  }
  best.frame.samples = std::max(best.frame.samples, base.against.samples);
  // Light that goes by paths is the truth for light that does not.
  const bool paths = best.light.transport == Transport::paths ||
                     std::any_of(settings.begin(), settings.end(), [](const Setting& setting) {
                       return setting.budget.light.transport == Transport::paths;
                     });
  if (paths) {
    best.light.transport = Transport::paths;
    best = with_path_truth(best);
  }
  for (const Setting& setting : settings) {
    const FrameBudget& frame = setting.budget.frame;
    if (varied("frame.samples") && base.against.samples == 0) {
      best.frame.samples =
          std::clamp(4 * frame.samples, best.frame.samples, std::max(1024, best.frame.samples));
    }
    const bool size = varied("frame.size");
    if (size || varied("frame.width")) {
      best.frame.width = std::max(best.frame.width, frame.width);
    }
    if (size || varied("frame.height")) {
      best.frame.height = std::max(best.frame.height, frame.height);
    }
    best.far_limit = std::max(best.far_limit, setting.budget.far_limit);
  }
  return best;
}

std::optional<Growth> growth(const Sweep& sweep, bool samples) {
  const auto of_amount = [&](const std::string& knob) {
    return samples ? knob == "frame.samples"
                   : knob == "frame.size" || knob == "frame.width" || knob == "frame.height";
  };
  // Settings that are alike in all other values.
  std::map<std::vector<std::string>, std::vector<const Setting*>> alike;
  for (const Setting& setting : sweep.settings) {
    std::vector<std::string> others;
    for (std::size_t k = 0; k < sweep.knobs.size(); ++k) {
      others.push_back(of_amount(sweep.knobs[k]) ? "" : setting.values[k]);
    }
    alike[others].push_back(&setting);
  }
  for (const auto& [others, settings] : alike) {
    std::vector<std::pair<double, double>> points;
    std::set<double> amounts;
    for (const Setting* setting : settings) {
      const FrameBudget& frame = setting->budget.frame;
      const double amount =
          samples ? frame.samples : static_cast<double>(frame.width) * frame.height;
      if (!(setting->total_ms.median > 0)) continue;
      amounts.insert(amount);
      points.emplace_back(std::log(amount), std::log(setting->total_ms.median));
    }
    if (amounts.size() < 3) continue;
    // Least squares in logarithms.
    double x = 0;
    double y = 0;
    for (const auto& [a, t] : points) {
      x += a / static_cast<double>(points.size());
      y += t / static_cast<double>(points.size());
    }
    double xx = 0;
    double xy = 0;
    for (const auto& [a, t] : points) {
      xx += (a - x) * (a - x);
      xy += (a - x) * (t - y);
    }
    Growth fit;
    fit.power = xy / xx;
    fit.constant = std::exp(y - fit.power * x);
    for (const auto& [a, t] : points) {
      fit.off = std::max(fit.off, std::exp(std::abs(y + fit.power * (a - x) - t)) - 1);
    }
    return fit;
  }
  return std::nullopt;
}

void mark_front(std::vector<Setting>& settings, const Metric& metric) {
  for (Setting& one : settings) {
    const double time = one.total_ms.median;
    const double error = metric_value(metric, one.error);
    one.on_front = std::none_of(settings.begin(), settings.end(), [&](const Setting& other) {
      const double other_time = other.total_ms.median;
      const double other_error = metric_value(metric, other.error);
      // Times without intervals count as they are.
      const bool known = one.total_likely.high > 0 && other.total_likely.high > 0;
      const bool quicker =
          other_time < time && (!known || one.total_likely.apart(other.total_likely));
      return other_time <= time && other_error <= error && (quicker || other_error < error);
    });
  }
}

Sweep sweep(const World& world, const Camera& camera, const Budget& base,
            const std::vector<Vary>& vary, const SweepOptions& options) {
  return sweep([&](const SceneNumbers&) { return world; }, {}, camera, base, vary, options);
}

Sweep sweep(const std::function<World(const SceneNumbers&)>& world_of, const SceneNumbers& numbers,
            const Camera& camera, const Budget& base, const std::vector<Vary>& vary,
            const SweepOptions& options) {
  return SweepRun(world_of, {base, camera, numbers}, vary, options).run();
}

const Setting* cheapest_within(const Sweep& sweep, const std::vector<Limit>& limits) {
  const Setting* best = nullptr;
  for (const Setting& setting : sweep.settings) {
    const bool good = std::all_of(limits.begin(), limits.end(),
                                  [&](const Limit& limit) { return holds(limit, setting.error); });
    if (good && (best == nullptr || setting.total_ms.median < best->total_ms.median)) {
      best = &setting;
    }
  }
  return best;
}

const Setting* best_within(const Sweep& sweep, double most_ms, const std::vector<Limit>& limits,
                           double most_p95_ms) {
  const Metric& metric = *parse_limit(sweep.metric + "=0").metric;
  const Setting* best = nullptr;
  const auto rank = [&](const Setting& setting) {
    return std::pair(metric_value(metric, setting.error), setting.total_ms.median);
  };
  for (const Setting& setting : sweep.settings) {
    const bool good = setting.total_ms.median <= most_ms && setting.p95_ms <= most_p95_ms &&
                      std::all_of(limits.begin(), limits.end(),
                                  [&](const Limit& limit) { return holds(limit, setting.error); });
    if (good && (best == nullptr || rank(setting) < rank(*best))) best = &setting;
  }
  return best;
}

}  // namespace photonlane
