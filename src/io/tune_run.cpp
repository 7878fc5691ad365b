#include "photonlane/io/tune_run.hpp"

#include <fmt/format.h>

#include "io/files.hpp"
#include "io/kept_references.hpp"
#include "io/run_journal.hpp"
#include "io/run_parts.hpp"
#include "io/run_pictures.hpp"
#include "io/text_table.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/machine.hpp"
#include "photonlane/io/output.hpp"

namespace photonlane::io {
namespace {

Json to_json(const TrialPart& part) {
  SweepPart like;
  like.error = part.error;
  Json json = io::to_json(like);
  json["cost"] = part.cost;
  json["p95"] = part.p95;
  json["work"] = part.work;
  return json;
}

TrialPart trial_part_from(const Json& json) {
  TrialPart part;
  part.error = sweep_part_from(json).error;
  json.at("cost").get_to(part.cost);
  json.at("p95").get_to(part.p95);
  json.at("work").get_to(part.work);
  return part;
}

std::string errors_text(const Tuned& tuned, const Difference& error) {
  const Metric& metric = *parse_limit(tuned.metric + "=0").metric;
  return fmt::format("{} {}", metric.name, metric_text(metric, error));
}

std::string ms_text(const std::vector<double>& times) {
  const Interval interval = interval_of_median(times);
  return fmt::format("{:.4g} ms ({:.4g} to {:.4g})", quantile(times, 0.5), interval.low,
                     interval.high);
}

std::string cost_of(const Tuned& tuned, const Trial& trial) {
  return fmt::format("{:.4g} {}", trial.cost, tuned.by == TuneCost::time ? "ms" : "of work");
}

}  // namespace

std::string tune_text(const Tuned& tuned) {
  const Trial& base = tuned.trials.front();
  const Trial& best = tuned.best();
  std::string text = fmt::format(
      "{} settings tried on {:.1f} % of the pixels: the work of {:.1f} frames\n"
      "reference: {} samples a pixel, within {:.2g} of one with half of them\n",
      tuned.trials.size(), 100 * tuned.pixels, tuned.frames, tuned.reference.frame.samples,
      tuned.converged);
  std::vector<std::vector<std::string>> rows{
      {"knob", "before", tuned.kept() ? "chosen" : "nearest"}};
  for (std::size_t k = 0; k < tuned.knobs.size(); ++k) {
    if (best.values[k] == base.values[k] || best.values[k] == "-") continue;
    rows.push_back({tuned.knobs[k], base.values[k], best.values[k]});
  }
  if (rows.size() > 1) {
    text += aligned(rows, {.left = {0}});
  } else {
    text += "no knob has a better value than before\n";
  }
  const bool timed = !tuned.chosen_ms.empty();
  text += fmt::format("before: {}, {}\n", timed ? ms_text(tuned.base_ms) : cost_of(tuned, base),
                      errors_text(tuned, base.error));
  text += fmt::format("{}: {}, {}", tuned.kept() ? "chosen" : "nearest",
                      timed ? ms_text(tuned.chosen_ms) : cost_of(tuned, best),
                      errors_text(tuned, best.error));
  if (tuned.held_out) {
    text += fmt::format("; where the search did not look {}", errors_text(tuned, *tuned.held_out));
  }
  text += "\n";
  if (!tuned.without_effect.empty()) {
    text += "without effect here:";
    for (const std::string& knob : tuned.without_effect) text += " " + knob;
    text += "\n";
  }
  return text;
}

Sweep as_sweep(const Tuned& tuned) {
  Sweep sweep;
  sweep.knobs = tuned.knobs;
  sweep.reference = tuned.reference;
  sweep.metric = tuned.metric;
  sweep.one_by_one = true;
  sweep.by = tuned.by == TuneCost::work ? RankBy::work : RankBy::time;
  for (const Trial& trial : tuned.trials) {
    Setting& setting = sweep.settings.emplace_back();
    setting.values = trial.values;
    setting.budget = trial.budget;
    setting.total_ms = {trial.cost, 0};
    setting.total_likely = {trial.cost, trial.cost};
    setting.error = trial.error;
    setting.on_front = trial.on_front;
  }
  return sweep;
}

std::string tune_csv(const Tuned& tuned) {
  std::string text;
  for (const std::string& knob : tuned.knobs) text += knob + ",";
  text += tuned.by == TuneCost::time ? "ms,p95_ms" : "work,p95_work";
  for (const Metric& metric : metrics()) text += fmt::format(",{}", metric.name);
  text += ",on_front,chosen\n";
  for (std::size_t i = 0; i < tuned.trials.size(); ++i) {
    const Trial& trial = tuned.trials[i];
    for (const std::string& value : trial.values) text += value + ",";
    text += fmt::format("{},{}", trial.cost, trial.p95);
    for (const Metric& metric : metrics()) {
      const auto value = metric.value(trial.error);
      text += value ? fmt::format(",{}", *value) : ",";
    }
    text += fmt::format(",{},{}\n", trial.on_front, tuned.chosen == i);
  }
  return text;
}

std::string tune_json(const Tuned& tuned, const RunFacts& facts) {
  Json trials = Json::array();
  for (const Trial& trial : tuned.trials) {
    trials.push_back({{"values", trial.values},
                      {"cost", trial.cost},
                      {"p95", trial.p95},
                      {"error", metrics_object(trial.error)},
                      {"on_front", trial.on_front}});
  }
  Json object{{"version", PHOTONLANE_VERSION},
              {"machine", machine_name()},
              {"date", date_text()},
              {"scene", facts.scene},
              {"scene_digest", facts.digest},
              {"command", facts.command},
              {"threads", facts.threads},
              {"limits", limits_object(facts)},
              {"knobs", tuned.knobs},
              {"notches", tuned.notches},
              {"without_effect", tuned.without_effect},
              {"metric", tuned.metric},
              {"by", std::string(name_of(tuned.by))},
              {"pixels", tuned.pixels},
              {"frames", tuned.frames},
              {"converged", tuned.converged},
              {"reference", budget_object(tuned.reference)},
              {"trials", std::move(trials)},
              {"chosen", tuned.chosen ? Json(*tuned.chosen) : Json(nullptr)},
              {"nearest", tuned.nearest},
              {"base_ms", tuned.base_ms},
              {"chosen_ms", tuned.chosen_ms},
              {"held_out", tuned.held_out ? metrics_object(*tuned.held_out) : Json(nullptr)},
              {"budget", budget_object(tuned.best().budget)}};
  return json_text(object);
}

std::string budget_yaml(const Budget& budget) {
  const std::string lines = changed_lines(budget_knobs(), budget, 2);
  return lines.empty() ? "budget: {}\n" : "budget:\n" + lines;
}

Tuned run_tune(const SceneFile& file, const std::string& folder, TuneOptions options,
               const RunOptions& run) {
  const OutputFolder made(folder);
  Digest what = digest_of_scene(file);
  add_view(file.camera, file.budget, what);
  for (const Camera& view : options.views) add_view(view, file.budget, what);
  const Digest scene = what;
  for (const Vary& one : options.vary) {
    what.add(one.knob);
    for (const std::string& value : one.values) what.add(value);
  }
  for (const Limit& limit : options.goal.limits) {
    what.add(fmt::format("{} {}", limit.metric->name, limit.bound));
  }
  what.add(fmt::format("{} {} {} {} {}", options.goal.most_ms.value_or(0),
                       options.goal.most_p95_ms.value_or(0), options.metric, name_of(options.by),
                       options.most_trials));
  RunJournal journal(folder, "tune", what, run.resume);
  options.threads = run.threads;
  options.known = [&](std::size_t number) -> std::optional<TrialPart> {
    return journal.left(number, trial_part_from);
  };
  options.measured = [&](std::size_t number, const TrialPart& part) {
    journal.keep(number, to_json(part));
  };
  const KeptReferences references(folder);
  std::vector<Digest> own;
  const auto reference = [&](const Budget& budget, std::size_t which) {
    Digest digest = scene;
    add_view(file.camera, budget, digest);
    digest.add(fmt::format("sample {}", which));
    own.push_back(digest);
    return digest;
  };
  options.kept_reference = [&](const Budget& budget, std::size_t which) {
    return references.read(reference(budget, which));
  };
  options.keep_reference = [&](const Budget& budget, std::size_t which, Frame& frame) {
    references.write(reference(budget, which), frame);
  };
  options.so_far = [&](const Tuned& so_far) {
    write_file(folder + "/tune.csv", tune_csv(so_far));
    write_file(folder + "/budget.yaml", budget_yaml(so_far.best().budget));
  };
  options.progress = run.progress;
  try {
    const World world = compile(file.scene);
    Tuned tuned = tune(world, file.camera, file.budget, options);
    journal.finish();
    references.remove_all_but(own);
    const Camera& view = options.views.empty() ? file.camera : options.views.front();
    make_folder(folder + "/pictures");
    for (const bool found : {false, true}) {
      const Budget& budget = found ? tuned.best().budget : file.budget;
      RenderOptions shown;
      shown.layers = {Layer::display};
      shown.threads = run.threads;
      Frame frame = render(world, view, budget, std::move(shown));
      write_frame(tuned_picture(folder, found), frame);
    }
    return tuned;
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::cancelled) throw;
    throw Error(ErrorKind::cancelled, fmt::format("stopped; the best so far is in {}/budget.yaml{}",
                                                  folder, journal.hint()));
  }
}

}  // namespace photonlane::io
