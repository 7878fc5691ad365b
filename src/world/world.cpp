#include "photonlane/world/world.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/stopwatch.hpp"
#include "light/texture_set.hpp"
#include "room/portal_faces.hpp"
#include "world/room_maker.hpp"

namespace photonlane {
namespace {

/// Links the rooms and gives rims their materials.
void add_portals(const Scene& scene, World::Data& data) {
  std::vector<std::string> names;
  std::vector<std::vector<Portal>> portals;
  for (const Room& room : scene.rooms) {
    names.push_back(room.name);
    portals.push_back(room.portals);
  }
  for (const Sheets& sheets : scene.sheets) {
    for (SeamPortal& seam : seam_portals(sheets, names)) {
      portals[seam.room].push_back(std::move(seam.portal));
    }
  }
  std::vector<RoomOpenings> openings;
  for (const Room& room : scene.rooms) {
    const auto same = std::count_if(scene.rooms.begin(), scene.rooms.end(),
                                    [&](const Room& other) { return other.name == room.name; });
    if (scene.rooms.size() > 1 && (room.name.empty() || same > 1)) {
      throw Error(ErrorKind::input, room.name.empty()
                                        ? "a room without a name among several"
                                        : fmt::format("a second room '{}'", room.name));
    }
    openings.push_back({room.name, portals[openings.size()]});
  }
  CompiledPortals compiled = compile_portals(openings);
  data.portals = std::move(compiled.portals);
  for (std::size_t r = 0; r < data.rooms.size(); ++r) {
    std::vector<PortalFace>& faces = compiled.faces[r];
    data.rooms[r].swells = scene.rooms[r].swells;
    for (std::size_t s = 0; s < data.rooms[r].swells.size(); ++s) {
      validate(data.rooms[r].swells[s]);
      check_apart(std::span(data.rooms[r].swells).first(s + 1));
      faces.push_back(swell_face(data.rooms[r].swells[s], static_cast<std::uint32_t>(r),
                                 static_cast<std::int32_t>(s)));
    }

    if (faces.empty()) continue;
    for (PortalFace& face : faces) {
      face.rim_material = static_cast<std::uint32_t>(data.materials.size());
      data.materials.push_back({.base = face.rim_color});
    }
    data.rooms[r].portals = std::make_shared<const PortalFaces>(std::move(faces));
  }
}

}  // namespace

void World::refuse_empty() {
  throw Error(ErrorKind::usage, "a world that was moved from, expected one that was compiled");
}

std::size_t World::room_index(std::string_view name) const {
  if (name.empty()) {
    data();
    return 0;
  }
  std::vector<std::string_view> names;
  for (std::size_t r = 0; r < rooms().size(); ++r) {
    if (rooms()[r].name == name) return r;
    names.push_back(rooms()[r].name);
  }
  throw Error(ErrorKind::input, fmt::format("no room '{}'{}", name, suggestion(name, names)));
}

World compile(const Scene& scene) { return compile(scene, World(nullptr)); }

World compile(const Scene& scene, const World& before) {
  const Stopwatch watch;
  auto data = std::make_shared<World::Data>();
  if (scene.rooms.empty()) throw Error(ErrorKind::input, "a scene without a room");
  if (scene.plane) validate(*scene.plane);
  data->plane = scene.plane;
  data->materials = scene.materials;
  data->scene_materials = scene.materials.size();
  for (const Material& material : scene.materials) check_material(scene, material);
  const World::Data* old = before.data_.get();
  const bool same_textures =
      old != nullptr &&
      all_same(scene.textures, old->source_textures, [](const Texture& one, const Texture& other) {
        return one.width == other.width && one.height == other.height &&
               one.texels.shares(other.texels);
      });
  data->textures =
      same_textures ? old->textures : std::make_shared<const TextureSet>(scene.textures);
  data->source_textures = scene.textures;
  data->memory_bytes += data->textures->memory_bytes();
  const bool comparable = old != nullptr && old->rooms.size() == scene.rooms.size();
  for (std::size_t r = 0; r < scene.rooms.size(); ++r) {
    const Room& room = scene.rooms[r];
    if (room.empty() && scene.rooms.size() == 1 && !scene.plane) {
      throw Error(ErrorKind::input, "a room with nothing in it, expected something to meet");
    }
    const RoomBefore its = comparable ? RoomBefore{&old->rooms[r], &old->sources[r]} : RoomBefore{};
    data->rooms.push_back(make_room(scene, room, its, *data));
  }
  add_portals(scene, *data);

  data->spent = static_cast<std::uint32_t>(data->materials.size());
  data->materials.push_back({.base = spent_color});
  data->compile_ms = watch.milliseconds();
  return World(std::move(data));
}

World edit(World world, std::span<const CellEdit> edits, std::size_t room) {
  const Stopwatch watch;
  if (room >= world.rooms().size()) {
    throw Error(ErrorKind::usage,
                fmt::format("no room {} in a world of {}", room, world.rooms().size()));
  }
  if (!world.rooms()[room].has_cells) {
    throw Error(ErrorKind::input, "the room has no cell map, expected one to edit");
  }
  for (const CellEdit& one : edits) {
    const std::size_t materials = world.data_->scene_materials;
    if (one.cell != empty_cell && material_of(one.cell) >= materials) {
      throw Error(ErrorKind::input, fmt::format("a cell of material {}, of which there are {}",
                                                material_of(one.cell), materials));
    }
    if (one.form) check_form(*one.form, materials);
  }
  // Data and solids are made as objects that may change, and held as ones that may not: one that
  // has a single holder, which is giving it up, may.
  const bool own = world.data_.use_count() == 1;
  auto data = own ? std::const_pointer_cast<World::Data>(std::move(world.data_))
                  : std::make_shared<World::Data>(*world.data_);
  std::shared_ptr<const Solid>& held = data->rooms[room].solids.front();
  const CellSolid& cells = *data->rooms[room].cells();
  auto solid = held.use_count() == 1
                   ? std::const_pointer_cast<CellSolid>(
                         std::static_pointer_cast<const CellSolid>(std::move(held)))
                   : std::make_shared<CellSolid>(cells);
  solid->edit(edits);
  held = std::move(solid);
  data->compile_ms = watch.milliseconds();
  return World(std::move(data));
}

std::size_t World::missing() const {
  std::size_t sum = 0;
  for (const CompiledRoom& room : rooms()) {
    for (const auto& solid : room.parts()) sum += solid->missing();
  }
  return sum;
}

World seen_by(const World& world, const Camera& camera, bool wait,
              const std::function<bool()>& go_on) {
  const auto surrounds = [](const auto& solid) { return solid->surrounds_eye(); };
  const bool any =
      std::any_of(world.rooms().begin(), world.rooms().end(), [&](const CompiledRoom& room) {
        return std::any_of(room.parts().begin(), room.parts().end(), surrounds);
      });
  if (!any) return world;
  const std::pair seen_from{world.room_index(camera.room), camera.eye};
  if (world.data().seen_from == seen_from && (!wait || world.missing() == 0)) return world;
  const Stopwatch watch;
  auto data = std::make_shared<World::Data>(world.data());
  data->seen_from = seen_from;
  bool changed = false;
  for (std::size_t r = 0; r < data->rooms.size(); ++r) {
    CompiledRoom& room = data->rooms[r];
    Vec3d eye = camera.eye;
    if (r != seen_from.first) {
      eye = room.portals != nullptr && !room.portals->faces().empty()
                ? room.portals->faces().front().middle
                : Vec3d(0, 0, 0);
    }
    bool other = false;
    const std::size_t first = room.solids.size() - room.parts().size();
    for (std::size_t i = first; i < room.solids.size(); ++i) {
      std::shared_ptr<const Solid>& solid = room.solids[i];
      std::shared_ptr<const Solid> next = solid->seen_from(eye, wait, go_on);
      if (next == nullptr) continue;
      data->memory_bytes += next->memory_bytes();
      data->memory_bytes -= std::min(data->memory_bytes, solid->memory_bytes());
      solid = std::move(next);
      other = true;
    }
    if (other) make_near_field(data->sources[r], room);
    changed = changed || other;
  }
  if (changed) data->compile_ms = watch.milliseconds();
  return World(std::move(data));
}

}  // namespace photonlane
