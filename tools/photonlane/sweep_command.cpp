#include "commands.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <cmath>
#include <limits>
#include <sstream>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "shared.hpp"
#include "terminal.hpp"

namespace photonlane::tool {
namespace {

/// The command that renders the frame of a setting that was measured: with all that was set.
std::string render_line(const SweepCommand& command, const Sweep& sweep, const Setting& setting) {
  std::vector<std::pair<std::string, std::string>> turned;
  for (std::size_t i = 0; i < sweep.knobs.size(); ++i) {
    if (setting.values[i] != "-") turned.emplace_back(sweep.knobs[i], setting.values[i]);
  }
  return render_line(command.common, turned);
}

std::string error_text(const Metric& metric, const Setting& setting) {
  return fmt::format("{} {}", metric.name, io::metric_text(metric, setting.error));
}

const char* cost_name(RankBy by) {
  return by == RankBy::time ? "ms" : by == RankBy::cpu ? "ms of all threads" : "of work";
}

/// The setting that breaks limits by the least, as a share of what they allow, and what it has.
std::string nearest_text(const Sweep& sweep, const io::RunFacts& facts) {
  const std::vector<Limit>& limits = facts.limits;
  const Setting* nearest = nullptr;
  double least = std::numeric_limits<double>::infinity();
  for (const Setting& setting : sweep.settings) {
    double worst = facts.most_ms ? setting.total_ms.median / *facts.most_ms - 1 : 0;
    if (facts.most_p95_ms) worst = std::max(worst, setting.p95_ms / *facts.most_p95_ms - 1);
    for (const Limit& limit : limits) {
      if (holds(limit, setting.error)) continue;
      const double value = limit.metric->value(setting.error).value_or(0);
      worst =
          std::max(worst, std::abs(value - limit.bound) / std::max(std::abs(limit.bound), 1e-9));
    }
    if (worst < least) {
      least = worst;
      nearest = &setting;
    }
  }
  if (nearest == nullptr) return "";
  std::string text = "; nearest:";
  for (std::size_t i = 0; i < sweep.knobs.size(); ++i) {
    if (nearest->values[i] != "-") text += " " + sweep.knobs[i] + "=" + nearest->values[i];
  }
  text += fmt::format(", {:.3f} {}", nearest->total_ms.median, cost_name(sweep.by));
  if (facts.most_p95_ms) text += fmt::format(", p95 {:.3f} ms", nearest->p95_ms);
  for (const Limit& limit : limits) text += ", " + error_text(*limit.metric, *nearest);
  return text;
}

/// What a sweep is told by its options.
SweepOptions sweep_options(const SweepCommand& command, const io::SceneFile& file) {
  try {
    parse_limit(command.metric + "=0");
  } catch (const Error& error) {
    throw Error(error.kind(), fmt::format("--metric {}", error.message()));
  }
  SweepOptions options;
  options.repeats = command.repeats;
  options.warm_up = command.warm_up;
  options.precision = command.precision / 100;
  options.one_by_one = command.one_by_one;
  options.metric = command.metric;
  options.by = static_cast<RankBy>(std::ranges::find(choice_names<RankBy>, command.by) -
                                   choice_names<RankBy>.begin());
  if (!command.views.empty()) options.views = io::read_views(command.views, file);
  if (command.reference == name_of(ReferenceKind::best)) {
    options.reference = ReferenceKind::best;
  } else if (command.reference != name_of(ReferenceKind::varied)) {
    options.given = std::make_shared<const Frame>(io::read_frame(command.reference));
  }
  if (command.common.quiet) return options;
  options.announce = [](const ReferencePlan& plan) {
    if (plan.guess_ms < 2000) return;
    const std::string views =
        plan.views > 1 ? fmt::format("{} references", plan.views) : "the reference";
    complain(fmt::format("sweep: {} first, about {}", views, time_text(plan.guess_ms / 1000)));
  };
  options.first_look = [](const Sweep& look) {
    complain("sweep: what each setting costs, until then");
    std::istringstream lines(io::first_look_text(look));
    for (std::string line; std::getline(lines, line);) complain(line);
  };
  return options;
}

std::vector<Vary> varied_by(const SweepCommand& command) {
  std::vector<Vary> vary;
  for (const std::string& text : command.vary) {
    try {
      vary.push_back(parse_vary(text));
    } catch (const Error& error) {
      throw Error(error.kind(), fmt::format("--vary {}", error.message()));
    }
  }
  return vary;
}

/// The setting that limits choose; null where they ask for none, or none keeps them.
const Setting* chosen_by(const Sweep& sweep, const io::RunFacts& facts) {
  constexpr double any = std::numeric_limits<double>::infinity();
  if (facts.most_ms || facts.most_p95_ms) {
    return best_within(sweep, facts.most_ms.value_or(any), facts.limits,
                       facts.most_p95_ms.value_or(any));
  }
  return facts.limits.empty() ? nullptr : cheapest_within(sweep, facts.limits);
}

/// Says which setting keeps the limits, or that none does.
int tell_chosen(const SweepCommand& command, const Sweep& sweep, const io::RunFacts& facts,
                const Setting* best) {
  const bool timed = facts.most_ms || facts.most_p95_ms;
  if (!timed && facts.limits.empty()) return success;
  std::vector<std::string> wishes;
  if (facts.most_ms) wishes.push_back(fmt::format("{:.6g} ms at most", *facts.most_ms));
  if (facts.most_p95_ms) {
    wishes.push_back(fmt::format("{:.6g} ms at most for 95 in 100", *facts.most_p95_ms));
  }
  for (const Limit& limit : facts.limits) wishes.push_back(limit_text(limit));
  const std::string wanted = fmt::format("{}", fmt::join(wishes, ", "));
  if (best == nullptr) {
    complain("no setting keeps " + wanted + nearest_text(sweep, facts));
    return check_failed;
  }
  if (!command.common.quiet && !command.common.json) {
    const Metric& metric = *parse_limit(sweep.metric + "=0").metric;
    print("{} with {}: {:.3f} {}, {}\n{}\n", timed ? "most accurate" : "cheapest", wanted,
          best->total_ms.median, cost_name(sweep.by), error_text(metric, *best),
          render_line(command, sweep, *best));
  }
  return success;
}

}  // namespace

int run(const SweepCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    io::RunFacts facts = facts_of(file, command.common.threads);
    std::vector<std::string> texts = command.limits;
    facts.most_p95_ms = take_number(texts, "p95_ms");
    facts.most_ms = take_time(texts);
    facts.limits = parse_limits(texts);
    const std::vector<Vary> vary = varied_by(command);
    const SweepOptions options = sweep_options(command, file);
    if (options.by == RankBy::work && (facts.most_ms || facts.most_p95_ms)) {
      throw Error(ErrorKind::usage,
                  "--by work: no clock is read, expected limits of errors, or --by time");
    }
    if (facts.most_p95_ms && options.views.size() < 2) {
      throw Error(ErrorKind::usage, "--limit p95_ms: of one view, expected several by --views");
    }
    const io::OutputFolder folder(command.output);
    const Stoppable stoppable;
    Sweep result;
    {
      ProgressBar bar("sweep", command.common.quiet);
      io::RunOptions run = run_options(command.common.threads, command.resume, bar);
      run.facts = facts;
      result = io::run_sweep(file, vary, command.output, options, run);
    }
    const Setting* const best = chosen_by(result, facts);
    if (best != nullptr) {
      facts.chosen = static_cast<std::size_t>(best - result.settings.data());
    }
    const io::SweepFiles files = io::write_sweep(command.output, result, title_of(file), facts);
    if (command.common.json) {
      put(io::sweep_json(result, facts));
    } else if (!command.common.quiet) {
      put(io::sweep_text(result));
      for (const std::string& path : {files.csv, files.json, files.script, files.png, files.svg,
                                      files.lines_png, files.lines_svg, files.report}) {
        if (!path.empty()) print("{}\n", path);
      }
    }
    if (!files.problem.empty() && !command.common.quiet) complain(files.problem);
    return tell_chosen(command, result, facts, best);
  });
}

}  // namespace photonlane::tool
