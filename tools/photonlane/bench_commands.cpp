#include "bench_commands.hpp"

#include <fmt/format.h>

#include "options.hpp"
#include "shared.hpp"

namespace photonlane::tool {
namespace {

/// The command that renders a frame by what was found.
std::string render_line(const TuneCommand& command, const Tuned& tuned) {
  const Trial& base = tuned.trials.front();
  const Trial& best = tuned.best();
  std::vector<std::pair<std::string, std::string>> turned;
  for (std::size_t k = 0; k < tuned.knobs.size(); ++k) {
    if (best.values[k] == "-" || best.values[k] == base.values[k]) continue;
    turned.emplace_back(tuned.knobs[k], best.values[k]);
  }
  return render_line(command.common, turned);
}

/// Prints the paths of what was left in a folder.
void name_files(const io::ResultFiles& files, bool quiet) {
  if (quiet) return;
  for (const std::string& path : {files.csv, files.json, files.report}) print("{}\n", path);
}

/// The cameras of --views, or where it is not given those of the scene, if it has several.
std::vector<Camera> views_of(const std::string& path, const io::SceneFile& file) {
  if (!path.empty()) return io::read_views(path, file);
  std::vector<Camera> views;
  for (const View& view : file.views) views.push_back(view.camera);
  return views;
}

TuneOptions options_of(const TuneCommand& command, const io::SceneFile& file) {
  TuneOptions options;
  std::vector<std::string> texts = command.limits;
  options.goal.most_p95_ms = take_number(texts, "p95_ms");
  options.goal.most_ms = take_time(texts);
  options.goal.limits = parse_limits(texts);
  for (const std::string& text : command.vary) {
    try {
      options.vary.push_back(parse_vary(text));
    } catch (const Error& error) {
      throw Error(error.kind(), fmt::format("--vary {}", error.message()));
    }
  }
  try {
    parse_limit(command.metric + "=0");
  } catch (const Error& error) {
    throw Error(error.kind(), fmt::format("--metric {}", error.message()));
  }
  options.metric = command.metric;
  options.by = command.by == name_of(TuneCost::work) ? TuneCost::work : TuneCost::time;
  options.repeats = command.repeats;
  options.most_trials = command.trials;
  options.views = views_of(command.views, file);
  return options;
}

int run(const TuneCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    TuneOptions options = options_of(command, file);
    const io::OutputFolder folder(command.output);
    const Stoppable stoppable;
    io::RunFacts facts = facts_of(file, command.common.threads);
    facts.limits = options.goal.limits;
    facts.most_ms = options.goal.most_ms;
    facts.most_p95_ms = options.goal.most_p95_ms;
    Tuned tuned;
    {
      ProgressBar bar("tune", command.common.quiet);
      tuned = io::run_tune(file, command.output, options,
                           run_options(command.common.threads, command.resume, bar));
    }
    const io::TuneFiles files = io::write_tune(command.output, tuned, title_of(file), facts);
    if (command.common.json) {
      put(io::tune_json(tuned, facts));
    } else if (!command.common.quiet) {
      put(io::tune_text(tuned));
      for (const std::string& path :
           {files.csv, files.json, files.budget, files.png, files.svg, files.report}) {
        if (!path.empty()) print("{}\n", path);
      }
    }
    if (!files.problem.empty() && !command.common.quiet) complain(files.problem);
    if (!tuned.kept()) {
      complain("no setting that was tried keeps the limits; the nearest is in " + files.budget);
      return check_failed;
    }
    if (command.write) {
      io::write_budget(file, tuned.best().budget);
      if (!command.common.quiet) print("{}\n", file.path);
    }
    if (!command.common.quiet && !command.common.json) {
      print("{}\n", render_line(command, tuned));
    }
    return success;
  });
}

int run(const PredictCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    const World world = compile(file.scene);
    PredictOptions options;
    options.threads = command.common.threads;
    options.share = command.share / 100;
    Prediction all;
    {
      ProgressBar bar("predict", command.common.quiet);
      options.progress = bar.callback();
      if (file.views.empty()) {
        all = predict(world, file.camera, file.budget, options);
      } else {
        for (const View& view : file.views) {
          Budget own = file.budget;
          const PixelPart part = pixel_part(view, file.budget.frame.size());
          own.frame.width = part.size.width;
          own.frame.height = part.size.height;
          const Prediction one = predict(world, view.camera, own, options);
          all.ms += one.ms;
          all.likely.low += one.likely.low;
          all.likely.high += one.likely.high;
          all.spent_ms += one.spent_ms;
          all.share += one.share / static_cast<double>(file.views.size());
          all.memory_bytes += one.memory_bytes;
        }
      }
    }
    if (command.common.json) {
      put(io::prediction_json(all));
    } else if (!command.common.quiet) {
      put(io::prediction_text(all, file.budget.frame.size()));
    }
    return success;
  });
}

int run(const ProfileCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    std::optional<io::OutputFolder> folder;
    if (!command.output.empty()) folder.emplace(command.output);
    const World world = compile(file.scene);
    ProfileOptions options;
    options.threads = command.common.threads;
    options.repeats = command.repeats;
    options.knobs = !command.no_knobs;
    options.errors = !command.no_errors;
    options.views = views_of(command.views, file);
    FrameProfile profile;
    {
      ProgressBar bar("profile", command.common.quiet);
      options.progress = bar.callback();
      profile = profile_frame(world, file.camera, file.budget, options);
    }
    if (command.common.json) {
      put(io::profile_json(profile));
    } else if (!command.common.quiet) {
      put(io::profile_text(profile));
    }
    if (!command.output.empty()) {
      name_files(io::write_profile(command.output, profile, title_of(file),
                                   facts_of(file, command.common.threads)),
                 command.common.quiet || command.common.json);
    }
    return success;
  });
}

int run(const KeepCommand& command) {
  std::vector<io::SceneRequest> scenes;
  for (const std::string& scene : command.scenes) {
    scenes.push_back({scene, command.common.size, command.common.sets, command.common.doors});
  }
  const Stoppable stoppable;
  ProgressBar bar("keep", command.common.quiet);
  io::keep(
      scenes, command.output,
      {.threads = command.common.threads, .repeats = command.repeats, .progress = bar.callback()});
  if (!command.common.quiet) print("{}/kept.json\n", command.output);
  return success;
}

int run(const JudgeCommand& command) {
  io::JudgeOptions options;
  options.threads = command.threads;
  options.repeats = command.repeats;
  options.limits = parse_limits(command.limits);
  options.more_work = command.more_work / 100;
  options.slower = command.slower / 100;
  std::optional<io::OutputFolder> folder;
  if (!command.output.empty()) folder.emplace(command.output);
  std::vector<io::Judgement> judgements;
  {
    const Stoppable stoppable;
    ProgressBar bar("judge", command.quiet);
    options.progress = bar.callback();
    judgements = io::judge(command.folder, options);
  }
  bool all_hold = true;
  for (const io::Judgement& one : judgements) {
    all_hold = all_hold && one.holds();
    if (!command.json && (!command.quiet || !one.holds())) print("{}\n", io::judgement_line(one));
  }
  if (command.json) put(io::judgements_json(judgements));
  if (!command.output.empty()) {
    io::RunFacts facts;
    facts.command = command_line();
    facts.threads = command.threads;
    facts.limits = options.limits;
    name_files(io::write_judgements(command.output, judgements, facts),
               command.quiet || command.json);
  }
  return all_hold ? success : check_failed;
}

}  // namespace

void add_tune(CLI::App& app, TuneCommand& command, std::function<int()>& chosen) {
  CLI::App* tune = app.add_subcommand(
      "tune",
      "find the cheapest budget that is good enough, or the best that is quick enough\nTries knobs "
      "of the budget on a sample of the frame's pixels, alone and together, and confirms what it "
      "found by pixels it did not look at and by whole frames.");
  add_scene(*tune, command.common);
  add_threads(*tune, command.common.threads);
  add_limits(*tune, command.limits,
             "what has to be kept, as rmse=0.01, and ms=16, fps=60 or p95_ms=20 (of the views); "
             "with a time the most accurate setting is looked for, else the cheapest; exit 1 where "
             "none keeps them");
  tune->get_option("--limit")->required();
  tune->add_option("--vary", command.vary,
                   "a knob to tune and its values, as in sweep; without any all knobs that have an "
                   "effect")
      ->type_name("KEY=VALUES")
      ->allow_extra_args(false);
  tune->add_option("-o,--output", command.output, "folder to write to")
      ->required()
      ->type_name("DIR");
  tune->add_option("--views", command.views,
                   "tune for several cameras: a list of them, or a walk script (YAML)")
      ->type_name("FILE");
  tune->add_option("--metric", command.metric,
                   "error that is made small where time is limited (rmse)")
      ->type_name("METRIC");
  tune->add_option("--by", command.by,
                   "rank settings by time (the default), or by counted work, which does not depend "
                   "on the machine's mood")
      ->check(CLI::IsMember({"time", "work"}))
      ->type_name("time|work");
  tune->add_option("--repeats", command.repeats, "whole frames timed at the end (5); 0: none")
      ->check(CLI::Range(0, 1000))
      ->type_name("N");
  tune->add_option("--trials", command.trials, "most settings to try (400)")
      ->check(CLI::Range(1, 100000))
      ->type_name("N");
  tune->add_flag("--write", command.write,
                 "put the budget into the scene file; comments and the size stay");
  add_resume(*tune, command.resume);
  tune->callback([&] { chosen = [&] { return run(command); }; });
}

void add_predict(CLI::App& app, PredictCommand& command, std::function<int()>& chosen) {
  CLI::App* predict = app.add_subcommand("predict",
                                         "say what a frame will cost, by making a few percent of "
                                         "it\nTime with the interval that holds "
                                         "it in 90 of 100 cases, and memory.");
  add_scene(*predict, command.common);
  add_threads(*predict, command.common.threads);
  predict
      ->add_option("--share", command.share,
                   "percent of the frame's pixels to make (2.5); small frames take more")
      ->check(CLI::Range(0.01, 100.0))
      ->type_name("PERCENT");
  predict->callback([&] { chosen = [&] { return run(command); }; });
}

void add_profile(CLI::App& app, ProfileCommand& command, std::function<int()>& chosen) {
  CLI::App* profile = app.add_subcommand(
      "profile",
      "say where a frame's time goes and what each knob is worth\nBy kinds of work, by regions of "
      "the picture with their reasons, and by what each knob of the budget would save or cost if "
      "it "
      "alone were turned by one notch.");
  add_scene(*profile, command.common);
  add_threads(*profile, command.common.threads);
  profile->add_option("--repeats", command.repeats, "timed frames (3)")
      ->check(CLI::Range(1, 1000))
      ->type_name("N");
  profile->add_option("-o,--output", command.output, "folder to write tables and a report to")
      ->type_name("DIR");
  profile
      ->add_option("--views", command.views,
                   "look at several cameras, a list of them or a walk script (YAML): their times, "
                   "and all else of the slowest")
      ->type_name("FILE");
  profile->add_flag("--no-errors", command.no_errors,
                    "leave out what error each knob brings, which needs a reference");
  profile->add_flag("--no-knobs", command.no_knobs, "leave out what each knob is worth");
  profile->callback([&] { chosen = [&] { return run(command); }; });
}

void add_keep(CLI::App& app, KeepCommand& command, std::function<int()>& chosen) {
  CLI::App* keep = app.add_subcommand(
      "keep",
      "keep what scenes look like and cost now, for judge\nWrites what was counted, times as "
      "multiples of a calibration run, and pictures.");
  keep->add_option("scenes", command.scenes, "scene files (YAML)")->required()->type_name("SCENE");
  add_settings(*keep, command.common);
  add_threads(*keep, command.common.threads);
  keep->add_option("-o,--output", command.output, "folder to write to")
      ->required()
      ->type_name("DIR");
  keep->add_option("--repeats", command.repeats, "timed frames of each scene (7); 0: no times")
      ->check(CLI::Range(0, 1000))
      ->type_name("N");
  keep->callback([&] { chosen = [&] { return run(command); }; });
}

void add_judge(CLI::App& app, JudgeCommand& command, std::function<int()>& chosen) {
  CLI::App* judge = app.add_subcommand(
      "judge",
      "make what was kept anew, and say what has changed\nA line a scene: the picture, the counted "
      "work, the time where it is beyond noise. Exit 1 where something is worse than allowed.");
  judge->add_option("folder", command.folder, "folder that keep has written")
      ->required()
      ->type_name("DIR");
  add_limits(*judge, command.limits,
             "how far a picture may be off, as rmse=0.001; without any it has to be the same");
  judge->add_option("--more-work", command.more_work, "percent that a count may be more (1)")
      ->check(CLI::Range(0.0, 1e6))
      ->type_name("PERCENT");
  judge
      ->add_option("--slower", command.slower,
                   "percent that a frame may take longer, beyond the noise (15)")
      ->check(CLI::Range(0.0, 1e6))
      ->type_name("PERCENT");
  judge->add_option("--repeats", command.repeats, "timed frames of each scene (7); 0: no times")
      ->check(CLI::Range(0, 1000))
      ->type_name("N");
  judge->add_option("-o,--output", command.output, "folder to write tables and a report to")
      ->type_name("DIR");
  add_threads(*judge, command.threads);
  judge->add_flag("--quiet", command.quiet, "print nothing but what does not hold");
  judge->add_flag("--json", command.json, "print JSON instead of text");
  judge->callback([&] { chosen = [&] { return run(command); }; });
}

}  // namespace photonlane::tool
