#include "commands.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <charconv>
#include <cmath>
#include <limits>
#include <sstream>

#include <algorithm>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "shared.hpp"
#include "terminal.hpp"
#include "tile_command.hpp"

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

/// How spheres and voxels are held, and what making them took.
void tell_sets(const Scene& scene) {
  for (const Room& room : scene.rooms) {
    for (const std::shared_ptr<const SolidPart>& part : room.parts) {
      const auto* const spheres = dynamic_cast<const Spheres*>(part.get());
      if (spheres != nullptr && spheres->set != nullptr) put(io::sphere_set_text(*spheres->set));
      const auto* const voxels = dynamic_cast<const Voxels*>(part.get());
      if (voxels != nullptr && voxels->grid != nullptr) put(io::voxel_text(*voxels->grid));
    }
  }
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

/// Lines of what a frame cost, with `--cost` by stage.
void tell_frame(const RenderCommand& command, const io::SceneFile& file, const Frame& frame) {
  put(io::cost_text(frame));
  if (!command.cost) return;
  tell_sets(file.scene);
  put(io::stages_text(frame.cost));
}

int run_plan(const RenderCommand& command, const io::SceneFile& file) {
  io::PlanOptions options;
  options.legend = !command.no_legend;
  io::write_plan(command.output, file, options);
  if (command.common.json) {
    put(io::check_json(check(file.scene, file.camera, file.budget)));
  } else if (!command.common.quiet) {
    print("{}\n", command.output);
  }
  return success;
}

}  // namespace

io::SceneFile open_scene(const SceneOptions& options) {
  return io::open_scene({options.scene, options.size, options.sets, options.doors});
}

namespace {

/// The range that --range asks for.
std::optional<io::ValueRange> range_of(const RenderCommand& command, Layer layer) {
  if (!command.range) return std::nullopt;
  const std::string& text = *command.range;
  const auto refuse = [](const std::string& what) {
    throw Error(ErrorKind::usage, fmt::format("--range: {}", what));
  };
  if (command.view == "plan") refuse("a plan has no colors by value");
  const auto comma = text.find(',');
  if (comma == std::string::npos) {
    refuse(fmt::format("'{}', expected two numbers with a comma between", text));
  }
  io::ValueRange range;
  const KnobInfo number{"--range", KnobKind::number, "", {-1e30, 1e30}, {}, ""};
  try {
    detail::assign(range.low, number, text.substr(0, comma));
    detail::assign(range.high, number, text.substr(comma + 1));
    io::check_range(layer, range);
  } catch (const Error& error) {
    refuse(error.message());
  }
  return range;
}

/// The pixels that --part asks for.
std::optional<PixelPart> part_of(const RenderCommand& command) {
  if (command.part.empty()) return std::nullopt;
  PixelPart part;
  const KnobInfo number{"--part", KnobKind::integer, "", {0, 1'000'000}, {}, ""};
  const std::string& text = command.part;
  const auto one = text.find(',');
  const auto two = one == std::string::npos ? one : text.find(',', one + 1);
  const auto cross = two == std::string::npos ? two : text.find('x', two);
  try {
    if (cross == std::string::npos) throw Error(ErrorKind::usage, "");
    detail::assign(part.x, number, text.substr(0, one));
    detail::assign(part.y, number, text.substr(one + 1, two - one - 1));
    detail::assign(part.size.width, number, text.substr(two + 1, cross - two - 1));
    detail::assign(part.size.height, number, text.substr(cross + 1));
  } catch (const Error&) {
    throw Error(ErrorKind::usage,
                fmt::format("--part: found '{}', expected X,Y,WIDTHxHEIGHT in pixels", text));
  }
  return part;
}

/// The layers that are rendered for an output file.
LayerSet layers_for(const io::SceneFile& file, Layer layer, bool exr) {
  if (!exr) return layer == Layer::color ? LayerSet{Layer::display} : LayerSet{layer};
  // A plane is compiled in no time; rooms all have the same.
  LayerSet layers =
      file.scene.plane ? measurable_layers(compile(file.scene)) : LayerSet::measurable();
  if (file.budget.light.transport == Transport::paths && !file.scene.plane) {
    for (const Layer one : {Layer::radiance, Layer::samples, Layer::variance}) layers.add(one);
  }
  return layers;
}

/// A picture that grows until a limit holds or it is stopped.
int run_growing(const RenderCommand& command, const io::SceneFile& file, const World& world,
                const LayerSet& layers) {
  if (!command.part.empty() || !file.views.empty()) {
    throw Error(ErrorKind::usage, "--until and --resume take one whole view of a scene");
  }
  io::GrowingRun growing;
  for (const std::string& text : command.until) growing.until.push_back(io::parse_until(text));
  growing.threads = command.common.threads;
  growing.resume = command.resume;
  growing.layers = layers;
  const Stoppable stoppable;
  ProgressBar bar("render", command.common.quiet);
  const auto show = bar.callback();
  growing.progress = [&](const io::GrowingProgress& now) {
    if (now.samples >= 2) {
      bar.note(fmt::format("{:.4g} samples, RMSE {:.4f} ({:.4f} to {:.4f})", now.samples,
                           now.error.rmse, now.error.low, now.error.high));
    }
    return show(now.share);
  };
  const io::GrownFrame grown = io::grow_frame(file, world, command.output, growing);
  bar.clear();
  if (command.common.json) {
    put(io::frame_json(grown.frame));
  } else if (!command.common.quiet) {
    tell_frame(command, file, grown.frame);
    if (!grown.stopped) print("ended by {}\n", grown.ended_by);
    print("{}\n", command.output);
  }
  if (!grown.stopped) return success;
  complain(fmt::format("stopped at {:.4g} samples a pixel; --resume goes on from {}.growing",
                       grown.progress.samples, command.output));
  end_by_signal();
  return success;
}

Layer layer_of(const RenderCommand& command) {
  for (std::size_t i = 0; i < layer_count; ++i) {
    if (choice_names<Layer>[i] == command.layer) return static_cast<Layer>(i);
  }
  throw Error(ErrorKind::usage, fmt::format("--layer: no such layer '{}', expected one of {}{}",
                                            command.layer, fmt::join(choice_names<Layer>, ", "),
                                            suggestion(command.layer, choice_names<Layer>)));
}

/// What stands in the eye's way, and lanes that ran out of steps.
void note_faults(const RenderCommand& command, const io::SceneFile& file, const World& world,
                 const Frame& frame) {
  std::vector<Camera> cameras;
  for (const View& one : file.views) cameras.push_back(one.camera);
  if (cameras.empty()) cameras.push_back(file.camera);
  for (const Camera& camera : cameras) {
    for (const std::string& fault : find_eye_faults(file.scene, world, camera)) {
      complain(fmt::format("{}: note: {}", command.common.scene, fault));
    }
  }
  // Points of planes that are not decided yet have a note of their own.
  const double lanes = static_cast<double>(frame.tally.lanes);
  const double spent = static_cast<double>(frame.tally.spent);
  if (!file.scene.plane && spent > 0.05 * lanes) {
    complain(
        fmt::format("{}: note: {:.0f} % of the lanes ran out of steps and show no surface; "
                    "the layer 'ending' shows where",
                    command.common.scene, 100 * spent / lanes));
  }
}

/// A picture of one scene, of the given layer.
int run_picture(const RenderCommand& command, const io::SceneFile& file, Layer layer,
                const std::optional<io::ValueRange>& range) {
  const bool picture_of_colors = layer == Layer::color || layer == Layer::display;
  const bool exr = io::is_exr(command.output);
  const LayerSet layers = layers_for(file, layer, exr);
  if (command.tiles != 0 || !command.store.empty() || command.parted) {
    if (command.tiles < 1) {
      throw Error(ErrorKind::usage, "--tiles-in and --parted are for --tiles N, at least 1");
    }
    if (!picture_of_colors || !command.part.empty() || !command.until.empty() || command.resume) {
      throw Error(ErrorKind::usage,
                  "--tiles make a whole picture, expected no --layer, --part, --until or --resume");
    }
    return run_tiles(command, file, layers_for(file, Layer::color, exr));
  }
  const World world = compile(file.scene);
  if (!command.until.empty() || command.resume) {
    if (!picture_of_colors) {
      throw Error(ErrorKind::usage, "--until and --resume make pictures, expected no --layer");
    }
    return run_growing(command, file, world, layers_for(file, Layer::color, exr));
  }
  Frame frame;
  {
    ProgressBar bar("render", command.common.quiet);
    RenderOptions options;
    options.threads = command.common.threads;
    options.part = part_of(command);
    options.progress = bar.callback();
    options.layers = layers;
    frame = file.views.empty() ? render(world, file.camera, file.budget, std::move(options))
                               : render_views(world, file.views, file.budget, std::move(options));
  }
  if (exr || picture_of_colors) {
    io::write_frame(command.output, frame);
  } else {
    io::write_layer(command.output, frame, layer, {.legend = !command.no_legend, .range = range});
  }
  if (!command.common.quiet) note_faults(command, file, world, frame);
  if (command.common.json) {
    put(io::frame_json(frame));
  } else if (!command.common.quiet) {
    tell_frame(command, file, frame);
    print("{}\n", command.output);
  }
  return success;
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

int run(const RenderCommand& command) {
  const Layer layer = layer_of(command);
  const std::optional<io::ValueRange> range = range_of(command, layer);
  const bool picture_of_colors = layer == Layer::color || layer == Layer::display;
  if (picture_of_colors && command.view != "plan") {
    io::check_output(command.output, {".png", ".exr"});
  } else {
    io::check_output(command.output, {".png"});
  }
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    if (command.view == "plan") return run_plan(command, file);
    return run_picture(command, file, layer, range);
  });
}

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

int run(const CompareCommand& command) {
  if (!command.output.empty()) io::check_output(command.output, {".png"});
  const std::vector<Limit> limits = parse_limits(command.limits);
  const Frame frame = io::read_frame(command.picture);
  const Frame reference = io::read_frame(command.reference);
  Difference difference;
  try {
    difference = compare(frame, reference);
  } catch (const Error& error) {
    throw error.at(Place{fmt::format("{}, {}", command.picture, command.reference)});
  }
  std::vector<std::string> broken;
  for (const Limit& limit : limits) {
    if (!holds(limit, difference)) {
      broken.push_back(fmt::format("{} is {:.6g}, expected {}", limit.metric->name,
                                   limit.metric->value(difference).value_or(0), limit_text(limit)));
    }
  }
  if (!command.output.empty()) {
    io::write_png(command.output, io::difference_picture(difference, !command.no_legend));
  }
  if (command.json) {
    put(io::difference_json(difference));
  } else if (!command.quiet) {
    put(io::difference_text(difference));
    if (!command.output.empty()) print("{}\n", command.output);
  }
  if (broken.empty()) return success;
  for (const std::string& line : broken) complain(line);
  return check_failed;
}

int run(const CheckCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    SceneReport report = check(file.scene, file.camera, file.budget);
    for (const io::Note& note : file.notes) {
      report.warnings.push_back(
          fmt::format("{}:{}: {}", note.place.line, note.place.column, note.text));
    }
    if (command.common.json) {
      put(io::check_json(report));
    } else if (!command.common.quiet) {
      put(io::check_text(report));
    }
    return report.warnings.empty() ? success : check_failed;
  });
}

int run(const MatchCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    Size size = file.budget.frame.size();
    for (const Room& room : file.scene.rooms) {
      for (const std::shared_ptr<const SolidPart>& part : room.parts) {
        const auto* const plate = dynamic_cast<const Plate*>(part.get());
        if (plate != nullptr && command.common.size.empty()) size = plate->depth.size;
      }
    }
    const std::vector<PlateMark> pairs = io::read_pairs(command.pairs);
    const CameraMatch match = [&] {
      try {
        return match_camera(pairs, size, {.shift = command.shift, .aspect = command.aspect});
      } catch (const Error& error) {
        throw error.at(Place{command.pairs});
      }
    }();
    if (command.common.json) {
      put(io::match_json(match, pairs));
    } else if (!command.common.quiet) {
      put(io::match_text(match, pairs));
    }
    return match.outliers.empty() && match.unsure.empty() ? success : check_failed;
  });
}

int run(const MakeMapCommand& command) {
  io::check_output(command.output, {".yaml", ".txt", ".png"});
  MapRecipe recipe;
  const auto set = [&](std::string_view name, std::string_view value) {
    set_knob(map_recipe_knobs(), recipe, name, value);
  };
  if (!command.size.empty()) {
    io::set_size(command.size, "width", "height",
                 fmt::format("WIDTHxHEIGHT in cells, 3 to {} each", CellMap::largest_side), set);
  }
  io::set_all(command.sets, set);
  const CellMap map = make_map(recipe);
  io::write_map(command.output, map,
                fmt::format("A {} of {}x{} cells, seed {}", name_of(recipe.kind), recipe.width,
                            recipe.height, recipe.seed));
  if (!command.quiet) {
    const auto open = std::count(map.cells.begin(), map.cells.end(), empty_cell);
    print(
        "{} of {}x{} cells, {:.1f} % open, start at column {}, row {}, goal at column {}, "
        "row {} from the south\n{}\n",
        name_of(recipe.kind), map.width, map.height,
        100.0 * static_cast<double>(open) / static_cast<double>(map.cells.size()), map.start->x,
        map.start->y, map.goal->x, map.goal->y, command.output);
  }
  return success;
}

int run(const MakeFractalCommand& command) {
  io::check_output(command.output, {".yaml"});
  FractalRecipe recipe;
  const auto set = [&](std::string_view name, std::string_view value) {
    set_knob(fractal_recipe_knobs(), recipe, name, value);
  };
  io::set_all({"seed=" + command.seed}, set);
  io::set_all(command.sets, set);
  const Field made = make_fractal(recipe);
  io::write_fractal(command.output, made, recipe);
  if (command.quiet) return success;
  const Field tried = field::measured(made);
  std::string trust = "its distances are exact or bounds";
  for (const FieldEstimate& estimate : find_estimates(tried)) {
    trust = fmt::format("its distances are estimates, trusted over {:.3g}", estimate.safety);
  }
  print("{} of seed {}: {}\n{}\n", name_of(made.parts().front().kind()), recipe.seed, trust,
        command.output);
  return success;
}

namespace {

const Field& field_of(const MakeVolumeCommand& command, const io::SceneFile& file) {
  const auto& fields = file.scene.room().fields;
  if (command.field < 1 || command.field > std::ssize(fields)) {
    throw Error(ErrorKind::usage,
                fmt::format("--field {}: the scene has {} fields", command.field, fields.size()));
  }
  return fields[static_cast<std::size_t>(command.field) - 1];
}

/// What stands in a box of a plate.
Field plate_of(const MakeVolumeCommand& command, const io::SceneFile& file) {
  std::vector<const Plate*> plates;
  for (const std::shared_ptr<const SolidPart>& part : file.scene.room().parts) {
    if (const auto* const plate = dynamic_cast<const Plate*>(part.get())) plates.push_back(plate);
  }
  if (command.plate > std::ssize(plates)) {
    throw Error(ErrorKind::usage,
                fmt::format("--plate {}: the scene has {}", command.plate, plates.size()));
  }
  if (command.box.size() != 6) {
    throw Error(ErrorKind::usage, "--plate takes a box as well: --box X,Y,Z,X,Y,Z");
  }
  const std::vector<double>& box = command.box;
  return plate_field(*plates[static_cast<std::size_t>(command.plate) - 1],
                     {{box[0], box[1], box[2]}, {box[3], box[4], box[5]}});
}

}  // namespace

int run(const MakeVolumeCommand& command) {
  io::check_output(command.output, {".volume"});
  VolumeRecipe recipe;
  io::set_all(command.sets, [&](std::string_view name, std::string_view value) {
    set_knob(volume_recipe_knobs(), recipe, name, value);
  });
  SceneOptions options;
  options.scene = command.scene;
  return on_scene(options, [&](io::SceneFile& file) {
    const Field field = command.plate > 0 ? plate_of(command, file) : field_of(command, file);
    const Volume volume = sample_volume(field, recipe);
    io::write_volume(command.output, volume);
    const VolumeError error = volume_error(volume, field);
    if (command.json) {
      put(io::volume_json(volume, error));
    } else if (!command.quiet) {
      print("{}{}\n", io::volume_text(volume, error), command.output);
    }
    return success;
  });
}

int run(const ZoomCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!file.scene.plane) {
      throw Error(ErrorKind::input, "the scene is no plane, expected one to zoom into");
    }
    PlaneWindow last;
    try {
      set_knob(plane_window_knobs(), last, "width", command.width);
    } catch (const Error& error) {
      throw Error(ErrorKind::usage, fmt::format("--width: {}", error.message()));
    }
    try {
      set_knob(plane_window_knobs(), last, "center", command.to);
      validate(last);
    } catch (const Error& error) {
      throw Error(ErrorKind::usage, fmt::format("--to: {}", error.message()));
    }
    double allowed_error = 0;
    if (!command.allow_error.empty()) {
      const KnobInfo number{"--allow-error", KnobKind::number, "steps", {0, 1e9, true}, {}, ""};
      try {
        detail::assign(allowed_error, number, command.allow_error);
      } catch (const Error& error) {
        throw Error(ErrorKind::usage, fmt::format("--allow-error: {}", error.message()));
      }
    }
    const Stoppable stoppable;
    std::vector<io::ZoomStep> steps;
    {
      ProgressBar bar("zoom", command.common.quiet || command.common.json);
      steps =
          io::play_zoom(file, {last.center, last.width, command.frames, allowed_error},
                        command.output, run_options(command.common.threads, command.resume, bar));
    }
    if (command.common.json) {
      put(io::zoom_json(steps));
    } else if (!command.common.quiet) {
      print("{}{}/zoom.csv\n", io::zoom_csv(steps), command.output);
    }
    return success;
  });
}

int run(const FindCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!file.scene.plane) {
      throw Error(ErrorKind::input, "the scene is no plane, expected one to look around in");
    }
    LandmarkSearch search = around(
        file.camera.window, command.kind == "copy" ? LandmarkKind::copy : LandmarkKind::branching);
    const auto read = [&](const char* option, const char* knob, const std::string& text) {
      PlaneWindow window;
      try {
        set_knob(plane_window_knobs(), window, knob, text);
      } catch (const Error& error) {
        throw Error(ErrorKind::usage, fmt::format("{}: {}", option, error.message()));
      }
      return window;
    };
    if (!command.near.empty()) search.near = read("--near", "center", command.near).center;
    if (!command.within.empty()) search.within = read("--within", "width", command.within).width;
    const Stoppable stoppable;
    search.progress = [] { return !Stoppable::asked(); };
    const auto found = find_landmark(*file.scene.plane, search);
    if (!found) {
      throw Error(ErrorKind::input, fmt::format("no {} is found there within {}", command.kind,
                                                search.within.text()));
    }
    put(command.common.json ? io::landmark_json(*found) : io::landmark_text(*found));
    return success;
  });
}

int run(const WalkCommand& command) {
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    const WalkScript script = io::read_walk_script(command.script, file);
    const Stoppable stoppable;
    RenderOptions options;
    options.threads = command.common.threads;
    io::WalkRecord record;
    {
      ProgressBar bar("walk", command.common.quiet);
      options.progress = bar.callback();
      record = io::play_walk(file, script, command.output, std::move(options), command.resume);
    }
    if (command.common.json) {
      put(io::walk_json(record));
    } else if (!command.common.quiet) {
      print("{}{}\n", io::walk_text(record), command.output);
    }
    return success;
  });
}

int run(const DescribeCommand& command) {
  if (command.as == "markdown") {
    put(io::scene_reference());
  } else if (command.as == "schema") {
    put(io::scene_schema());
  } else {
    put(io::knob_list());
  }
  return success;
}

}  // namespace photonlane::tool
