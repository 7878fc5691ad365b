#include "photonlane/world/world.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/stopwatch.hpp"
#include "light/texture_set.hpp"
#include "room/portal_faces.hpp"
#include "world/room_bodies.hpp"

namespace photonlane {

namespace {

void check_material(const Scene& scene, const Material& material) {
  validate_knobs(material_knobs(), material);
  if (material.texture < -1 || material.texture >= std::ssize(scene.textures)) {
    throw Error(ErrorKind::input, fmt::format("a material of texture {}, of which there are {}",
                                              material.texture, scene.textures.size()));
  }
}

void check_form(const CellForm& form, std::size_t materials) {
  for (const int used : {form.top, form.floor}) {
    if (used < -1 || used >= static_cast<std::ptrdiff_t>(materials)) {
      throw Error(ErrorKind::input,
                  fmt::format("a form of material {}, of which there are {}", used, materials));
    }
  }
}

void check_field(const Field& field, std::size_t materials) {
  if (field.material() < -1 || field.material() >= static_cast<std::ptrdiff_t>(materials)) {
    throw Error(ErrorKind::input, fmt::format("a field of material {}, of which there are {}",
                                              field.material(), materials));
  }
  for (const int material : field.tint().materials) {
    if (material < 0 || material >= static_cast<std::ptrdiff_t>(materials)) {
      throw Error(ErrorKind::input, fmt::format("a field tinted with material {}, of which there "
                                                "are {}",
                                                material, materials));
    }
  }
  for (const Field& part : field.parts()) check_field(part, materials);
}

/// Whether all of a field is of materials that bend light: `of` is that of what it is in.
bool bends(const Field& field, const std::vector<Material>& materials, const Material* of) {
  if (field.material() >= 0) of = &materials[static_cast<std::size_t>(field.material())];
  if (field.parts().empty()) return of != nullptr && of->bends();
  return std::all_of(field.parts().begin(), field.parts().end(),
                     [&](const Field& part) { return bends(part, materials, of); });
}

/// One field of several, so that lanes march once; with `damped`, no part makes the steps of the
/// others shorter.
Field joined(std::span<const Field> fields, bool damped) {
  std::vector<Field> parts;
  for (const Field& field : fields) {
    parts.push_back(damped ? field::calm(field) : field);
  }
  return parts.size() == 1 ? parts.front() : field::join(std::move(parts));
}

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

World compile(const Scene& scene) {
  const Stopwatch watch;
  auto data = std::make_shared<World::Data>();
  if (scene.rooms.empty()) throw Error(ErrorKind::input, "a scene without a room");

  if (scene.plane) validate(*scene.plane);
  data->plane = scene.plane;
  data->materials = scene.materials;
  data->scene_materials = scene.materials.size();
  for (const Material& material : scene.materials) check_material(scene, material);
  data->textures = std::make_shared<const TextureSet>(scene.textures);
  data->memory_bytes += data->textures->memory_bytes();
  for (const Room& room : scene.rooms) {
    if (room.solids.size() > 1 ||
        (room.solids.empty() && room.fields.empty() && scene.rooms.size() == 1 && !scene.plane)) {
      throw Error(ErrorKind::input,
                  fmt::format("room with {} cell maps{}, expected one", room.solids.size(),
                              room.solids.empty() ? " and no field" : ""));
    }
    validate(room.fog);
    validate(room.light);
    check_material(scene, room.floor);
    check_material(scene, room.ceiling);
    static const CellMap nothing{.width = 1, .height = 1, .cells = {empty_cell}};
    const bool fields_only = room.solids.empty();
    const CellMap& map = fields_only ? nothing : room.solids.front();
    const auto largest = std::max_element(map.cells.begin(), map.cells.end());
    if (largest != map.cells.end() && *largest > scene.materials.size()) {
      throw Error(ErrorKind::input, fmt::format("a cell of material {}, of which there are {}",
                                                material_of(*largest), scene.materials.size()));
    }
    CompiledRoom compiled{
        .fog = room.fog, .light = room.light, .has_ceiling = room.has_ceiling, .sky = room.sky};
    compiled.name = room.name;

    const auto add_material = [&](const Material& material) {
      data->materials.push_back(material);
      return static_cast<std::uint32_t>(data->materials.size() - 1);
    };
    compiled.floor = add_material(room.floor);
    compiled.ceiling = add_material(room.ceiling);
    Material open{.base = room.fog.color};
    if (room.sky) {
      validate_knobs(sky_knobs(), *room.sky);
      // A panorama is a whole turn wide.
      open = {.base = {1, 1, 1}, .texture = room.sky->panorama, .tile = 2 * pi};
      check_material(scene, open);
    }
    compiled.open = add_material(open);
    compiled.fields_only = fields_only;
    std::vector<Field> fields = room.fields;
    for (const RoomBody& body : room.bodies) fields.push_back(body_field(body));
    if (!fields.empty()) {
      const std::uint32_t plain = add_material({.base = {0.6f, 0.6f, 0.6f}});
      for (const Field& field : fields) check_field(field, scene.materials.size());
      std::vector<Field> clear;
      std::vector<Field> solid;
      for (const Field& field : fields) {
        (bends(field, scene.materials, nullptr) ? clear : solid).push_back(field::measured(field));
      }
      const auto add = [&](std::shared_ptr<const CompiledField>& to, std::span<const Field> of,
                           bool damped) {
        if (of.empty()) return;
        to = std::make_shared<const CompiledField>(joined(of, damped), plain);
        data->memory_bytes += to->memory_bytes();
      };
      add(compiled.field, solid, true);
      add(compiled.clear_field, clear, true);
      const bool stretched = std::any_of(solid.begin(), solid.end(),
                                         [](const Field& field) { return field.stretch() > 1; });
      compiled.near_field = compiled.field;
      if (stretched) add(compiled.near_field, solid, false);
    }
    compiled.ceiling_height = map.wall_height;
    compiled.face_shade = map.face_shade;
    compiled.cell_size = map.cell_size;
    CellSurfaces surfaces{compiled.floor, compiled.ceiling, compiled.has_ceiling, {}, {}};
    for (const Material& material : scene.materials) {
      const bool clear = material.opacity < 1 || material.density > 0 ||
                         (material.texture >= 0 &&
                          data->textures->any_clear(static_cast<std::size_t>(material.texture)));
      surfaces.clear_materials.push_back(clear);
      surfaces.volume_materials.push_back(material.density > 0);
    }
    for (const CellForm& form : map.forms) check_form(form, scene.materials.size());
    compiled.cells = std::make_shared<CellSolid>(map, std::move(surfaces));
    for (const Sprite& sprite : room.sprites) {
      validate_knobs(sprite_knobs(), sprite);
      if (sprite.material >= scene.materials.size()) {
        throw Error(ErrorKind::input, fmt::format("a sprite of material {}, of which there are {}",
                                                  sprite.material, scene.materials.size()));
      }
    }
    compiled.sprites = room.sprites;
    data->memory_bytes += compiled.cells->memory_bytes();
    data->rooms.push_back(std::move(compiled));
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
  std::shared_ptr<const CellSolid>& held = data->rooms[room].cells;
  auto solid = held.use_count() == 1 ? std::const_pointer_cast<CellSolid>(held)
                                     : std::make_shared<CellSolid>(*held);
  solid->edit(edits);
  held = std::move(solid);
  data->compile_ms = watch.milliseconds();
  return World(std::move(data));
}

}  // namespace photonlane
