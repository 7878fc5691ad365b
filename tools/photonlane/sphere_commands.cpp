#include <fmt/format.h>

#include "commands.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "terminal.hpp"

namespace photonlane::tool {
namespace {

SphereSetOptions options_of(const MakeOptions& command) {
  SphereSetOptions options;
  options.threads = command.threads;
  options.memory_limit = memory_of(command.memory, options.memory_limit);
  options.working_file = [output = command.output] { return io::working_file(output); };
  return options;
}

void tell(const MakeOptions& command, const SphereSet& set) {
  if (command.json) {
    put(io::sphere_set_json(set));
  } else if (!command.quiet) {
    print("{}{}\n", io::sphere_set_text(set), command.output);
  }
}

int tell(const MakeOptions& command, ProgressBar& bar, const SphereParts& parts) {
  bar.clear();
  if (command.json) {
    put(io::sphere_parts_json(parts));
  } else if (!command.quiet) {
    print("{}{}\n", io::sphere_parts_text(parts), command.output);
  }
  return success;
}

void check_output(const std::string& output, int parts,
                  std::initializer_list<std::string_view> kinds) {
  if (parts < 0) throw Error(ErrorKind::usage, "--parts: expected 1 at least");
  if (parts > 0) return io::check_output(output, {".parts"});
  io::check_output(output, kinds);
}

}  // namespace

int run(const MakeSpheresCommand& command) {
  check_output(command.output, command.parts, {".spheres"});
  io::SphereFiles files;
  files.paths = command.inputs;
  files.radius = command.radius;
  files.scale = command.scale;
  const auto option = [](const char* name, const auto& work) {
    try {
      work();
    } catch (const Error& error) {
      throw Error(ErrorKind::usage, fmt::format("{}: {}", name, error.message()));
    }
  };
  option("--columns", [&] { io::set_columns(command.columns, files); });
  option("--record", [&] { io::set_record(command.record, files); });
  if (!(files.radius >= 0 && files.radius <= 1e6)) {
    throw Error(ErrorKind::usage, "--radius: expected 0 to 1e6 meters");
  }
  if (!(files.scale > 0 && files.scale <= 1e12)) {
    throw Error(ErrorKind::usage, "--scale: expected a number above 0");
  }
  SphereSetOptions options = options_of(command);
  options.keeping = command.keep == "exact" ? SphereKeeping::exact : SphereKeeping::compact;
  ProgressBar bar("spheres", command.quiet || command.json);
  const Stoppable stoppable;
  options.progress = bar.callback();
  if (command.parts > 0) {
    return tell(command, bar,
                *io::write_sphere_parts(command.output, files, command.parts, options));
  }
  const auto set = io::put_in_order(files, options);
  io::write_spheres(command.output, *set, bar.callback());
  bar.clear();
  tell(command, *set);
  return success;
}

int run(const MakePollenCommand& command) {
  check_output(command.output, command.parts, {".spheres", ".ply"});
  PollenRecipe recipe;
  io::set_all(command.sets, [&](std::string_view name, std::string_view value) {
    set_knob(pollen_recipe_knobs(), recipe, name, value);
  });
  const PollenSource source(recipe);
  ProgressBar bar("pollen", command.quiet || command.json);
  const Stoppable stoppable;
  if (command.output.ends_with(".ply")) {
    io::write_ply(command.output, source, bar.callback());
    bar.clear();
    if (!command.quiet && !command.json) print("{} grains\n{}\n", recipe.count, command.output);
    return success;
  }
  SphereSetOptions options = options_of(command);
  options.keeping = SphereKeeping::compact;
  options.progress = bar.callback();
  if (command.parts > 0) {
    return tell(command, bar,
                *io::write_sphere_parts(command.output, source, command.parts, options));
  }
  const auto set = SphereSet::make(source, options);
  io::write_spheres(command.output, *set, bar.callback());
  bar.clear();
  tell(command, *set);
  return success;
}

}  // namespace photonlane::tool
