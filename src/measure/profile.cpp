#include "photonlane/measure/profile.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "measure/frame_sample.hpp"
#include "measure/ladders.hpp"
#include "measure/work_prices.hpp"
#include "photonlane/measure/named_setting.hpp"

namespace photonlane {
namespace {

class Profiler {
 public:
  Profiler(const World& world, const Camera& camera, const Budget& budget,
           const ProfileOptions& options)
      : world_(world), camera_(camera), budget_(budget), options_(options) {}

  FrameProfile run() {
    if (!options_.views.empty()) choose_view();
    time_frames();
    if (world_.plane() == nullptr) {
      find_regions();
    } else {
      profile_.frame = std::make_shared<const Frame>(
          render(world_, camera_, budget_, options({Layer::display})));
    }
    if (options_.knobs || options_.errors) {
      const FrameSample sample = sample_frame(world_, camera_, budget_, 12, options_.threads).seen;
      if (options_.knobs) turn_knobs(sample);
      if (options_.errors) find_errors(sample);
    }
    return std::move(profile_);
  }

 private:
  RenderOptions options(LayerSet layers) {
    RenderOptions own;
    own.layers = layers;
    own.threads = options_.threads;
    own.progress = [this](double) { return go_on(); };
    return own;
  }
  bool go_on() const { return !options_.progress || options_.progress(share_); }

  /// The slowest of several views is the one that is profiled.
  void choose_view() {
    share_ = 0;
    for (std::size_t v = 0; v < options_.views.size(); ++v) {
      std::vector<double> times;
      for (int k = 0; k < std::max(1, options_.repeats); ++k) {
        times.push_back(
            render(world_, options_.views[v], budget_, options({Layer::display})).cost.total_ms());
      }
      profile_.views.push_back({v, quantile(times, 0.5)});
      share_ = 0.2 * static_cast<double>(v + 1) / static_cast<double>(options_.views.size());
    }
    std::stable_sort(profile_.views.begin(), profile_.views.end(),
                     [](const ViewTime& a, const ViewTime& b) { return a.ms > b.ms; });
    camera_ = options_.views[profile_.views.front().view];
  }

  void time_frames() {
    std::vector<std::pair<double, Cost>> costs;
    const int repeats = std::max(1, options_.repeats);
    for (int k = 0; k <= repeats; ++k) {
      share_ = std::max(share_, 0.4 * k / (repeats + 1));
      const Frame frame = render(world_, camera_, budget_, options({Layer::display}));
      profile_.tally = frame.tally;
      if (k > 0) costs.emplace_back(frame.cost.total_ms(), frame.cost);
    }
    std::sort(costs.begin(), costs.end(),
              [](const auto& a, const auto& b) { return a.first < b.first; });
    for (const auto& one : costs) profile_.frame_ms.push_back(one.first);
    profile_.cost = costs[costs.size() / 2].second;
  }

  /// What the layers say of some pixels, added up.
  struct Sums {
    double cost = 0, evaluations = 0, steps = 0, crossings = 0, bends = 0, mirrors = 0, clear = 0,
           grazing = 0;
    double pixels = 0;
  };

  void find_regions() {
    share_ = 0.45;
    const LayerSet layers{Layer::display,   Layer::cost,     Layer::evaluations, Layer::steps,
                          Layer::crossings, Layer::material, Layer::normal,      Layer::ending};
    Budget whole_size = budget_;
    whole_size.frame.scale = 1;
    profile_.frame =
        std::make_shared<const Frame>(render(world_, camera_, whole_size, options(layers)));
    const Frame& frame = *profile_.frame;
    const Size size = frame.size();
    constexpr int cells = 8;
    const int across = std::min(cells, size.width);
    const int down = std::min(cells * size.height / std::max(size.width, 1) + 1, size.height);
    std::vector<Sums> all;
    std::vector<PixelPart> parts;
    for (int row = 0; row < down; ++row) {
      for (int column = 0; column < across; ++column) {
        const int x = column * size.width / across;
        const int y = row * size.height / down;
        parts.push_back(
            {x, y, {(column + 1) * size.width / across - x, (row + 1) * size.height / down - y}});
        all.push_back(sums_of(frame, parts.back()));
      }
    }
    // Whatever else the machine does makes a region dearer, never cheaper: each has its least cost.
    for (int k = 1; k < std::max(1, options_.repeats); ++k) {
      share_ = 0.45 + 0.05 * k / options_.repeats;
      const Frame again = render(world_, camera_, whole_size, options({Layer::cost}));
      for (std::size_t i = 0; i < parts.size(); ++i) {
        all[i].cost = std::min(all[i].cost, cost_of(again, parts[i]));
      }
    }
    Sums whole;
    for (const Sums& own : all) add(own, whole);
    std::vector<std::size_t> order(all.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    const auto density = [&](std::size_t i) { return all[i].cost / all[i].pixels; };
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return density(a) > density(b); });
    constexpr std::size_t most = 5;
    for (std::size_t k = 0; k < std::min(most, order.size()); ++k) {
      const Sums& own = all[order[k]];
      // What costs as much as anywhere is no region of its own.
      if (density(order[k]) < 1.2 * whole.cost / whole.pixels) break;
      profile_.regions.push_back(
          {parts[order[k]], own.cost / whole.cost, own.pixels / whole.pixels, why(own, whole)});
    }
  }

  static void add(const Sums& from, Sums& to) {
    to.cost += from.cost;
    to.evaluations += from.evaluations;
    to.steps += from.steps;
    to.crossings += from.crossings;
    to.bends += from.bends;
    to.mirrors += from.mirrors;
    to.clear += from.clear;
    to.grazing += from.grazing;
    to.pixels += from.pixels;
  }

  static double cost_of(const Frame& frame, const PixelPart& part) {
    double cost = 0;
    for (int y = part.y; y < part.y + part.size.height; ++y) {
      for (int x = part.x; x < part.x + part.size.width; ++x) {
        cost += static_cast<double>(frame.values(Layer::cost)(x, y));
      }
    }
    return cost;
  }

  Sums sums_of(const Frame& frame, const PixelPart& part) const {
    Sums sums;
    sums.cost = cost_of(frame, part);
    const std::span<const Material> materials = world_.materials();
    const Viewing view = viewing(camera_, frame.size());
    for (int y = part.y; y < part.y + part.size.height; ++y) {
      for (int x = part.x; x < part.x + part.size.width; ++x) {
        sums.pixels += 1;
        sums.evaluations += frame.codes(Layer::evaluations)(x, y);
        sums.steps += frame.codes(Layer::steps)(x, y);
        sums.crossings += frame.codes(Layer::crossings)(x, y) > 0;
        const std::uint32_t material = frame.codes(Layer::material)(x, y);
        if (material < materials.size()) {
          const Material& own = materials[material];
          sums.bends += own.index > 1;
          sums.mirrors += own.specular > 0.1 || own.metal > 0.1;
          sums.clear += own.opacity < 1;
        }
        if (frame.codes(Layer::ending)(x, y) != static_cast<std::uint32_t>(Ending::hit)) continue;
        const Vec3d ray = view.ray(view.u(x + 0.5), view.v(y + 0.5));
        double along = 0;
        for (int axis = 0; axis < 3; ++axis) {
          along += ray[axis] * static_cast<double>(frame.values(Layer::normal, axis)(x, y));
        }
        sums.grazing += std::abs(along) < 0.2;
      }
    }
    return sums;
  }

  static std::string why(const Sums& own, const Sums& whole) {
    std::vector<std::string> reasons;
    const auto share = [&](double of) { return of / own.pixels; };
    const auto times = [&](double Sums::*member) {
      const double usual = whole.*member / whole.pixels;
      return usual > 0 ? own.*member / own.pixels / usual : 0.0;
    };
    if (share(own.bends) > 0.1) {
      reasons.push_back(fmt::format("{:.0f} % of it bends light", 100 * share(own.bends)));
    }
    if (share(own.mirrors) > 0.1) {
      reasons.push_back(fmt::format("{:.0f} % of it throws light back", 100 * share(own.mirrors)));
    }
    if (share(own.clear) > 0.1) {
      reasons.push_back(fmt::format("{:.0f} % of it is translucent", 100 * share(own.clear)));
    }
    if (share(own.crossings) > 0.1) {
      reasons.push_back(
          fmt::format("{:.0f} % of it lies behind portals", 100 * share(own.crossings)));
    }
    if (times(&Sums::evaluations) > 1.5) {
      reasons.push_back(fmt::format("{:.0f} evaluations a lane, {:.1f} times the mean",
                                    share(own.evaluations), times(&Sums::evaluations)));
    } else if (times(&Sums::steps) > 1.5) {
      reasons.push_back(fmt::format("{:.0f} steps a lane, {:.1f} times the mean", share(own.steps),
                                    times(&Sums::steps)));
    }
    if (share(own.grazing) > 0.3) {
      reasons.push_back(
          fmt::format("{:.0f} % of it is seen at a grazing angle", 100 * share(own.grazing)));
    }
    std::string text;
    for (const std::string& reason : reasons) text += (text.empty() ? "" : ", ") + reason;
    return text.empty() ? "its lights, and lanes that go on from it" : text;
  }

  struct Shot {
    Frame frame;
    double ms = 0;  ///< of a thread and a whole frame: as prices tell, or as it was measured
    Tally tally;
  };

  Shot shoot(const Budget& budget, const FrameSample& sample, const WorkPrices* prices) {
    Shot shot;
    RenderOptions own = options(measurable_layers(world_));
    own.part_done = [&](std::size_t i, const Frame& part) {
      const StageTimes& stages = part.cost.stages;
      const double ms = prices != nullptr ? prices->cost(part.tally, stages) : stages.total_ms();
      shot.ms += sample.of_whole(i, ms, budget.frame.size());
    };
    shot.frame = render_parts(world_, camera_, budget, sample.parts, std::move(own));
    shot.tally = shot.frame.tally;
    return shot;
  }

  /// How many times as long the sample takes by another budget, in turns.
  double race(const Budget& other, const FrameSample& sample) {
    constexpr int turns = 3;
    double own = std::numeric_limits<double>::infinity();
    double turned = own;
    for (int k = 0; k < turns; ++k) {
      own = std::min(own, shoot(budget_, sample, nullptr).ms);
      turned = std::min(turned, shoot(other, sample, nullptr).ms);
    }
    return turned / std::max(own, 1e-9);
  }

  void turn_knobs(const FrameSample& sample) {
    WorkPrices prices;
    shoot(budget_, sample, nullptr);
    for (int k = 0; k < 2; ++k) {
      const Shot shot = shoot(budget_, sample, nullptr);
      prices.learn(shot.frame.tally, shot.frame.cost.stages);
    }
    const Shot base = shoot(budget_, sample, &prices);
    // Work on threads to the time of frames.
    const double busy = std::max(base.ms, 1e-9);
    const double frame_ms = quantile(profile_.frame_ms, 0.5);
    const std::vector<Ladder> all = ladders(budget_, world_.plane() != nullptr);
    for (std::size_t k = 0; k < all.size(); ++k) {
      const Ladder& ladder = all[k];
      share_ = 0.5 + (options_.errors ? 0.3 : 0.5) * static_cast<double>(k) /
                         static_cast<double>(all.size());
      if (!setting_applies({budget_, camera_}, ladder.knob)) continue;
      bool any = false;
      for (const bool finer : {false, true}) {
        if (finer ? ladder.own == 0 : ladder.own + 1 >= ladder.values.size()) continue;
        const std::string& to = ladder.values[finer ? ladder.own - 1 : ladder.own + 1];
        Settings settings{budget_, camera_};
        set_by_name(settings, ladder.knob, to);
        const Shot shot = shoot(settings.budget, sample, &prices);
        const double change = compare_samples(shot.frame, base.frame, sample).rmse;
        if (change == 0 && shot.tally == base.tally) continue;
        const double times =
            changes_prices(ladder.knob) ? race(settings.budget, sample) : shot.ms / busy;
        const double saved = (1 - times) * frame_ms;
        any = true;
        profile_.knobs.push_back(
            {ladder.knob, ladder.values[ladder.own], to, saved, change, finer});
      }
      if (!any) profile_.idle.push_back(ladder.knob);
    }
    const auto bargain = [&](const KnobWorth& one) {
      // Less than half a byte's step is nothing that shows.
      return one.saved_ms / std::max(one.change, 0.5 / 255);
    };
    std::stable_sort(
        profile_.knobs.begin(), profile_.knobs.end(),
        [&](const KnobWorth& a, const KnobWorth& b) { return bargain(a) > bargain(b); });
  }

  /// What is left of the error where one knob alone is at its best.
  void find_errors(const FrameSample& sample) {
    Budget best = budget_.reference();
    constexpr int usual = 16;
    const int asked = budget_.against.samples;
    best.frame.samples = std::max(asked > 0 ? asked : usual, budget_.frame.samples);
    best.frame.width = budget_.frame.width;
    best.frame.height = budget_.frame.height;
    share_ = options_.knobs ? 0.8 : 0.5;
    const Frame right = shoot(best, sample, nullptr).frame;
    const auto error_of = [&](const Budget& budget) {
      return compare_samples(shoot(budget, sample, nullptr).frame, right, sample).rmse;
    };
    profile_.error = error_of(budget_);
    for (const Knob<Budget>& entry : budget_knobs()) {
      const std::string to = knob_text(entry, best);
      const std::string from = knob_text(entry, budget_);
      if (from == to || !setting_applies({budget_, camera_}, entry.info.name)) continue;
      if (entry.info.name.starts_with("plane.") && world_.plane() == nullptr) continue;
      Settings turned{budget_, camera_};
      set_by_name(turned, entry.info.name, to);
      const double left = error_of(turned.budget);
      // What takes off less than a hundredth brings no error here.
      if (left > 0.99 * profile_.error) continue;
      profile_.errors.push_back({std::string(entry.info.name), from, to, left});
    }
    std::stable_sort(profile_.errors.begin(), profile_.errors.end(),
                     [](const KnobError& a, const KnobError& b) { return a.left < b.left; });
  }

  const World& world_;
  Camera camera_;
  const Budget& budget_;
  const ProfileOptions& options_;
  FrameProfile profile_;
  double share_ = 0;
};

}  // namespace

FrameProfile profile_frame(const World& world, const Camera& camera, const Budget& budget,
                           const ProfileOptions& options) {
  return Profiler(world, camera, budget, options).run();
}

}  // namespace photonlane
