#include "commands.hpp"

#include <fmt/format.h>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "shared.hpp"
#include "terminal.hpp"

namespace photonlane::tool {

io::SceneFile open_scene(const SceneOptions& options) {
  return io::open_scene({options.scene, options.size, options.sets, options.doors});
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
        if (plate != nullptr && command.common.size.empty()) {
          size = plate->frame.width > 0 ? plate->frame : plate->depth.size;
        }
      }
    }
    const std::vector<PlateMark> pairs = io::read_pairs(command.pairs);
    const CameraMatch match = [&] {
      try {
        return match_camera(
            pairs, size,
            {.shift = command.shift, .aspect = command.aspect, .distortion = command.distortion});
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
