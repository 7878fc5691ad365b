#include <fmt/format.h>

#include "commands.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "shared.hpp"
#include "terminal.hpp"

namespace photonlane::tool {
namespace {

VoxelGridOptions options_of(const MakeOptions& command, bool shared) {
  VoxelGridOptions options;
  options.shared = shared;
  options.threads = command.threads;
  options.memory_limit = memory_of(command.memory, options.memory_limit);
  return options;
}

void write(const MakeOptions& command, const VoxelGrid& grid, ProgressBar& bar) {
  io::write_voxels(command.output, grid, bar.callback());
  bar.clear();
}

void tell(const MakeOptions& command, const VoxelGrid& grid, const std::string& more = "") {
  if (command.json) {
    put(io::voxel_json(grid));
  } else if (!command.quiet) {
    print("{}{}{}\n", io::voxel_text(grid), more, command.output);
  }
}

}  // namespace

int run(const MakeVoxelsCommand& command) {
  io::check_output(command.output, {".voxels"});
  FieldVoxelRecipe recipe;
  SceneOptions options;
  options.scene = command.scene;
  for (const std::string& set : command.sets) {
    if (set.starts_with("scene.")) options.sets.push_back(set);
  }
  bool points_said = false;
  for (const std::string& set : command.sets) {
    if (set.starts_with("scene.")) continue;
    io::set_all({set}, [&](std::string_view name, std::string_view value) {
      set_knob(field_voxel_recipe_knobs(), recipe, name, value);
    });
    points_said = true;
  }
  return on_scene(options, [&](io::SceneFile& file) {
    const Room& room = file.scene.room();
    std::vector<const Voxels*> parts;
    for (const auto& part : room.parts) {
      if (const auto* const voxels = dynamic_cast<const Voxels*>(part.get())) {
        parts.push_back(voxels);
      }
    }
    ProgressBar bar("voxels", command.quiet || command.json);
    const Stoppable stoppable;
    if (command.field == 0 && !parts.empty() && !points_said) {
      if (command.part < 1 || command.part > std::ssize(parts)) {
        throw Error(ErrorKind::usage, fmt::format("--part {}: the scene has {} of voxels",
                                                  command.part, parts.size()));
      }
      const Voxels* const part = parts[static_cast<std::size_t>(command.part) - 1];
      const auto own = part->seen_from(file.camera.eye).grid;
      const VoxelGrid& grid = *own;
      write(command, grid, bar);
      tell(command, grid);
      return success;
    }
    const auto wanted = static_cast<std::size_t>(std::max(command.field, 1));
    if (command.field < 0 || wanted > room.fields.size()) {
      throw Error(ErrorKind::usage, fmt::format("--field {}: the scene has {} fields",
                                                command.field, room.fields.size()));
    }
    std::vector<std::uint32_t> colors(file.scene.materials.size(), VoxelKind::no_color);
    const FieldVoxels source(room.fields[wanted - 1], recipe, colors);
    VoxelGridOptions making = options_of(command, command.shared);
    making.progress = bar.callback();
    const auto grid = VoxelGrid::make(source, making);
    write(command, *grid, bar);
    const Vec3d& corner = source.corner();
    const VoxelCell& size = grid->size();
    const double cells = static_cast<double>(size[0]) * size[1] * size[2];
    tell(command, *grid,
         fmt::format("the field was looked at {} times, {:.2g} of all cells\n"
                     "in a scene: {{voxels: {{file: {}, cell: {}, place: [{}, {}, {}]}}}}\n",
                     source.evaluations(), static_cast<double>(source.evaluations()) / cells,
                     command.output, source.cell(), corner.x(), corner.y(), corner.z()));
    return success;
  });
}

int run(const MakeTerracesCommand& command) {
  io::check_output(command.output, {".voxels"});
  TerraceRecipe recipe;
  io::set_all(command.sets, [&](std::string_view name, std::string_view value) {
    set_knob(terrace_recipe_knobs(), recipe, name, value);
  });
  ProgressBar bar("terraces", command.quiet || command.json);
  const Stoppable stoppable;
  VoxelGridOptions making = options_of(command, command.shared);
  making.progress = bar.callback();
  const auto grid = VoxelGrid::make(TerraceSource(recipe, 0, 1), making);
  write(command, *grid, bar);
  tell(command, *grid);
  return success;
}

}  // namespace photonlane::tool
