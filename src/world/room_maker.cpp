#include "world/room_maker.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "light/texture_set.hpp"
#include "world/room_bodies.hpp"

namespace photonlane {

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

namespace {

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

bool same_fields(const RoomSource& a, const RoomSource& b) {
  const auto same_field = [](const Field& one, const Field& other) {
    return one.identity() == other.identity();
  };
  const auto same_ball = [](const BodyBall& one, const BodyBall& other) {
    return one.place == other.place && one.radius == other.radius;
  };
  const auto same_body = [&](const RoomBody& one, const RoomBody& other) {
    return one.material == other.material && one.body.place == other.body.place &&
           one.body.turn == other.body.turn &&
           all_same(one.body.balls, other.body.balls, same_ball);
  };
  return a.plain == b.plain && a.bending == b.bending && all_same(a.fields, b.fields, same_field) &&
         all_same(a.bodies, b.bodies, same_body);
}

/// Compiles one room; its own materials are put behind those of the world.
class RoomMaker {
 public:
  RoomMaker(const Scene& scene, const Room& room, World::Data& data, const RoomBefore& before)
      : scene_(scene), room_(room), data_(data), before_(before) {}

  CompiledRoom make() {
    validate(room_.fog);
    validate(room_.light);
    check_material(scene_, room_.floor);
    check_material(scene_, room_.ceiling);
    made_.fog = room_.fog;
    made_.light = room_.light;
    made_.has_ceiling = room_.has_ceiling;
    made_.sky = room_.sky;
    made_.name = room_.name;
    add_surroundings();
    if (room_.cells) add_cells(*room_.cells);
    if (!room_.fields.empty() || !room_.bodies.empty() || !room_.parts.empty()) {
      plain_ = add_material({.base = {0.6f, 0.6f, 0.6f}});
    }
    source_.fields = room_.fields;
    source_.bodies = room_.bodies;
    source_.parts = room_.parts;
    source_.plain = plain_;
    for (const Material& material : scene_.materials) source_.bending.push_back(material.bends());
    check_fields();
    const bool same = before_.source != nullptr && same_fields(source_, *before_.source);
    if (same) {
      source_.measured = before_.source->measured;
      source_.opaque = before_.source->opaque;
      for (const auto& solid : before_.room->fields()) add_solid(solid);
    } else {
      add_fields();
    }
    made_.field_count = made_.others().size();
    const bool same_parts = add_parts();
    if (same && same_parts) {
      made_.near_field = before_.room->near_field;
    } else {
      make_near_field(source_, made_);
    }
    if (made_.near_field != nullptr && std::find(made_.solids.begin(), made_.solids.end(),
                                                 made_.near_field) == made_.solids.end()) {
      data_.memory_bytes += made_.near_field->memory_bytes();
    }
    data_.sources.push_back(std::move(source_));
    for (const Sprite& sprite : room_.sprites) {
      validate_knobs(sprite_knobs(), sprite);
      if (sprite.material >= scene_.materials.size()) {
        throw Error(ErrorKind::input, fmt::format("a sprite of material {}, of which there are {}",
                                                  sprite.material, scene_.materials.size()));
      }
    }
    made_.sprites = room_.sprites;
    return std::move(made_);
  }

 private:
  std::uint32_t add_material(const Material& material) {
    data_.materials.push_back(material);
    return static_cast<std::uint32_t>(data_.materials.size() - 1);
  }

  void add_solid(std::shared_ptr<const Solid> solid) {
    data_.memory_bytes += solid->memory_bytes();
    made_.solids.push_back(std::move(solid));
  }

  /// Floor, ceiling and what is seen outside.
  void add_surroundings() {
    made_.floor = add_material(room_.floor);
    made_.ceiling = add_material(room_.ceiling);
    Material open{.base = room_.fog.color};
    if (room_.sky) {
      validate_knobs(sky_knobs(), *room_.sky);
      // A panorama is a whole turn wide.
      open = {.base = {1, 1, 1}, .texture = room_.sky->panorama, .tile = 2 * pi};
      check_material(scene_, open);
    }
    made_.open = add_material(open);
  }

  void add_cells(const CellMap& map) {
    const auto largest = std::max_element(map.cells.begin(), map.cells.end());
    if (largest != map.cells.end() && *largest > scene_.materials.size()) {
      throw Error(ErrorKind::input, fmt::format("a cell of material {}, of which there are {}",
                                                material_of(*largest), scene_.materials.size()));
    }
    for (const CellForm& form : map.forms) check_form(form, scene_.materials.size());
    CellSurfaces surfaces{made_.floor, made_.ceiling, made_.has_ceiling, {}, {}};
    for (const Material& material : scene_.materials) {
      const bool clear = material.opacity < 1 || material.density > 0 ||
                         (material.texture >= 0 &&
                          data_.textures->any_clear(static_cast<std::size_t>(material.texture)));
      surfaces.clear_materials.push_back(clear);
      surfaces.volume_materials.push_back(material.density > 0);
    }
    const CellSolid* old = before_.room != nullptr ? before_.room->cells() : nullptr;
    if (old != nullptr && old->surfaces() == surfaces && old->map() == map) {
      add_solid(before_.room->solids.front());
    } else {
      add_solid(std::make_shared<CellSolid>(map, std::move(surfaces)));
    }
    made_.has_cells = true;
    made_.ceiling_height = map.wall_height;
    made_.face_shade = map.face_shade;
    made_.cell_size = map.cell_size;
  }

  void check_fields() {
    for (const Field& field : room_.fields) check_field(field, scene_.materials.size());
    for (const RoomBody& body : room_.bodies) {
      check_field(body_field(body), scene_.materials.size());
    }
  }

  /// Those that bend light apart from those that do not.
  void sort_fields() {
    const auto sort = [&](const Field& field, const Field& measured) {
      (bends(field, scene_.materials, nullptr) ? clear_ : source_.opaque).push_back(measured);
    };
    for (std::size_t i = 0; i < room_.fields.size(); ++i) {
      const Field& field = room_.fields[i];
      const bool known = before_.source != nullptr && i < before_.source->fields.size() &&
                         before_.source->fields[i].identity() == field.identity();
      source_.measured.push_back(known ? before_.source->measured[i] : field::measured(field));
      sort(field, source_.measured.back());
    }
    for (const RoomBody& body : room_.bodies) {
      const Field field = body_field(body);
      sort(field, field::measured(field));
    }
  }

  /// Those that do not bend light joined to one, and those that do to another, so that what stands
  /// in glass is met from inside.
  void add_fields() {
    sort_fields();
    for (const std::vector<Field>* of : {&source_.opaque, &clear_}) {
      if (of->empty()) continue;
      add_solid(std::make_shared<const CompiledField>(joined(*of, true), plain_));
    }
  }

  /// True where all are as before.
  bool add_parts() {
    bool all_same = before_.source != nullptr && before_.source->plain == plain_ &&
                    before_.source->bending == source_.bending &&
                    before_.source->parts.size() == room_.parts.size();
    const bool comparable = all_same;
    for (std::size_t i = 0; i < room_.parts.size(); ++i) {
      const std::shared_ptr<const SolidPart>& part = room_.parts[i];
      if (comparable && part == before_.source->parts[i]) {
        add_solid(before_.room->parts()[i]);
      } else {
        all_same = false;
        add_solid(part->compile(
            {.materials = scene_.materials.size(), .plain = plain_, .bends = source_.bending}));
      }
    }
    return all_same;
  }

  const Scene& scene_;
  const Room& room_;
  World::Data& data_;
  CompiledRoom made_;
  std::uint32_t plain_ = 0;
  RoomBefore before_;
  RoomSource source_;
  std::vector<Field> clear_;
};

}  // namespace

/// Of the fields' own values, with the distances of all other solids that know them.
void make_near_field(const RoomSource& source, CompiledRoom& room) {
  std::vector<Field> near = source.opaque;
  for (std::size_t i = 0; i < source.parts.size(); ++i) {
    const std::shared_ptr<const Solid>& solid = room.parts()[i];
    bool all_bend = true;
    source.parts[i]->use_materials([&](int material) {
      const auto which = static_cast<std::size_t>(material);
      all_bend = all_bend && which < source.bending.size() && source.bending[which];
    });
    if (solid->knows_distances() && !all_bend) near.push_back(solid_field(solid, true));
  }
  if (near.empty()) return;
  const bool stretched = std::any_of(source.opaque.begin(), source.opaque.end(),
                                     [](const Field& field) { return field.stretch() > 1; });
  if (!stretched && near.size() == source.opaque.size()) {
    // What is marched is as near as it gets: the first of all solids that are fields.
    room.near_field = std::static_pointer_cast<const CompiledField>(room.fields().front());
    return;
  }
  room.near_field = std::make_shared<const CompiledField>(joined(near, false), source.plain);
}

CompiledRoom make_room(const Scene& scene, const Room& room, const RoomBefore& before,
                       World::Data& data) {
  return RoomMaker(scene, room, data, before).make();
}

}  // namespace photonlane
