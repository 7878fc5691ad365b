#include "photonlane/render/world.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/stopwatch.hpp"
#include "photonlane/grid/cell_solid.hpp"

namespace photonlane {

World compile(const Scene& scene) {
  const Stopwatch watch;
  auto data = std::make_shared<World::Data>();
  if (scene.rooms.size() != 1) {
    throw Error(ErrorKind::input,
                fmt::format("scene with {} rooms, expected one", scene.rooms.size()));
  }
  data->materials = scene.materials;
  for (const Material& material : scene.materials) validate_knobs(material_knobs(), material);
  for (const Room& room : scene.rooms) {
    if (room.solids.size() != 1) {
      throw Error(ErrorKind::input,
                  fmt::format("room with {} cell maps, expected one", room.solids.size()));
    }
    validate(room.fog);
    validate_knobs(material_knobs(), room.floor);
    validate_knobs(material_knobs(), room.ceiling);
    const CellMap& map = room.solids.front();
    const auto largest = std::max_element(map.cells.begin(), map.cells.end());
    if (largest != map.cells.end() && *largest > scene.materials.size()) {
      throw Error(ErrorKind::input, fmt::format("a cell of material {}, of which there are {}",
                                                material_of(*largest), scene.materials.size()));
    }
    CompiledRoom compiled;
    compiled.fog = room.fog;
    const auto add_material = [&](const Material& material) {
      data->materials.push_back(material);
      return static_cast<std::uint32_t>(data->materials.size() - 1);
    };
    compiled.floor = add_material(room.floor);
    compiled.ceiling = add_material(room.ceiling);
    compiled.ceiling_height = map.wall_height;
    compiled.north_shade = Color::Constant(static_cast<float>(map.face_shade));
    compiled.cell_size = map.cell_size;
    compiled.solids.push_back(std::make_shared<CellSolid>(map, compiled.floor, compiled.ceiling));
    data->memory_bytes += compiled.solids.front()->memory_bytes();
    data->rooms.push_back(std::move(compiled));
  }
  data->compile_ms = watch.milliseconds();
  return World(std::move(data));
}

World edit(World world, std::span<const CellEdit> edits) {
  const Stopwatch watch;
  for (const CellEdit& one : edits) {
    // The last two materials are those of floor and ceiling.
    if (one.cell != empty_cell && material_of(one.cell) + 2 >= world.materials().size()) {
      throw Error(ErrorKind::input,
                  fmt::format("a cell of material {}, of which there are {}", material_of(one.cell),
                              world.materials().size() - 2));
    }
  }
  // Data and solids are made as objects that may change, and held as ones that may not: one that
  // has a single holder, which is giving it up, may.
  const bool own = world.data_.use_count() == 1;
  auto data = own ? std::const_pointer_cast<World::Data>(std::move(world.data_))
                  : std::make_shared<World::Data>(*world.data_);
  std::shared_ptr<const Solid>& held = data->rooms.front().solids.front();
  std::shared_ptr<CellSolid> solid;
  if (held.use_count() == 1) {
    solid = std::const_pointer_cast<CellSolid>(std::dynamic_pointer_cast<const CellSolid>(held));
  } else {
    solid = std::make_shared<CellSolid>(dynamic_cast<const CellSolid&>(*held));
  }
  solid->edit(edits);
  held = std::move(solid);
  data->compile_ms = watch.milliseconds();
  return World(std::move(data));
}

}  // namespace photonlane
