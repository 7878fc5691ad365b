#include "photonlane/io/scene_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "io/camera_node.hpp"
#include "io/document.hpp"
#include "io/field_node.hpp"
#include "io/files.hpp"
#include "io/kept_parts.hpp"
#include "io/map_file.hpp"
#include "io/portal_node.hpp"
#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/sign_texture.hpp"
#include "io/solid_kinds.hpp"
#include "photonlane/io/picture.hpp"
#include "photonlane/measure/named_setting.hpp"

namespace photonlane::io {
namespace {

/// A budget's dotted names as nested maps; `places` is told where each stands.
void read_budget(const Node& node, const std::string& prefix, Budget& budget,
                 std::map<std::string, Place>& places) {
  const auto names = knob_names(budget_knobs());
  for (const auto& pair : node.map("a budget")) {
    const Node& key = pair.first;
    const Node& value = pair.second;
    const std::string name = prefix + key.text();
    const bool group = std::any_of(names.begin(), names.end(), [&](std::string_view one) {
      return one.starts_with(name + ".");
    });
    if (group) {
      read_budget(value, name + ".", budget, places);
    } else if (const Knob<Budget>* entry = find_knob(budget_knobs(), name)) {
      at_place(value, [&] { entry->assign(budget, entry->info, value.value_text()); });
      places[name] = value.place();
    } else {
      std::vector<std::string_view> here;
      for (std::string_view one : names) {
        if (one.starts_with(prefix)) {
          const std::string_view rest = one.substr(prefix.size());
          here.push_back(rest.substr(0, rest.find('.')));
        }
      }
      refuse_key(key, here);
    }
  }
}

void read_material(const Node& node, const Scene& scene, Material& material) {
  read_node(node, "material", material_knobs(), material,
            [&](const std::string&, const Node& value) {
              material.texture = index_of(value, scene.texture_names, "texture");
            });
}

/// How many texels the scene's textures may still have.
std::size_t texels_left(const Scene& scene) {
  std::size_t taken = 0;
  for (const Texture& texture : scene.textures) taken += texture.texels.size();
  return Texture::most_texels - std::min(taken, Texture::most_texels);
}

/// A texture of a scene file before it is drawn or read.
struct TextureNode {
  const Node* node = nullptr;
  const Node* picture = nullptr;
  const Node* sign = nullptr;
  std::string name;
  TextureSource source;
};

TextureNode read_texture_node(const Node& node, const std::string& name) {
  TextureNode read{&node, nullptr, nullptr, name, {}};
  read_node(node, "texture", texture_recipe_knobs(), read.source.recipe,
            [&](const std::string& key, const Node& value) {
              (key == "file" ? read.picture : read.sign) = &value;
            });
  if (read.picture != nullptr && node.map("a texture").size() > 1) {
    read.picture->refuse("a file beside other keys, expected it alone");
  }
  if (read.sign != nullptr && node.find("pattern") != nullptr) {
    read.sign->refuse("a sign beside a pattern, expected one of them");
  }
  return read;
}

/// What a file is read with beside its text: what the same file was made into before, or nothing,
/// and what it is made into now.
struct Keeping {
  const KeptParts* before = nullptr;
  KeptParts now;

  /// Takes over what a node was made into, or makes it.
  template <class Made, class Make>
  Made get(std::map<Digest, Made> KeptParts::*kind, const Node& node, const Make& make) {
    const Digest digest = node.digest();
    std::map<Digest, Made>& made = now.*kind;
    if (const auto found = made.find(digest); found != made.end()) return found->second;
    if (before != nullptr) {
      if (const auto found = (before->*kind).find(digest); found != (before->*kind).end()) {
        return made.emplace(digest, found->second).first->second;
      }
    }
    return made.emplace(digest, make()).first->second;
  }
};

Texture read_or_draw(const TextureNode& read, const SceneFile& file) {
  const TextureSource& source = read.source;
  if (read.picture != nullptr) {
    const std::string path = path_from(folder_of(file.path), source.file);
    try {
      return read_texture(path, texels_left(file.scene));
    } catch (const Error& error) {
      read.picture->refuse(fmt::format("texture {} {}", path, error.message()));
    }
  }
  if (read.sign != nullptr) {
    return at_place(*read.sign, [&] { return sign_texture(source.sign, source.recipe); });
  }
  return at_place(*read.node, [&] { return make_texture(source.recipe); });
}

void add_texture(TextureNode read, SceneFile& file, Keeping& keeping) {
  if (read.picture != nullptr) read.source.file = read.picture->text();
  if (read.sign != nullptr) read.source.sign = read.sign->text();
  file.scene.add(
      keeping.get(&KeptParts::textures, *read.node, [&] { return read_or_draw(read, file); }),
      read.name);
  file.texture_sources.push_back(std::move(read.source));
}

/// All textures; those that are drawn are counted before the first one is.
void read_textures(const Node& node, SceneFile& file, Keeping& keeping) {
  std::vector<TextureNode> all;
  std::size_t drawn = 0;
  for (const auto& pair : node.map("a map of names to textures")) {
    all.push_back(read_texture_node(pair.second, pair.first.text()));
    const TextureRecipe& recipe = all.back().source.recipe;
    if (all.back().picture != nullptr) continue;
    drawn += static_cast<std::size_t>(recipe.width) * static_cast<std::size_t>(recipe.height);
    if (drawn > Texture::most_texels) {
      pair.second.refuse(
          fmt::format("with this one the textures have {} texels together, expected "
                      "at most {}",
                      drawn, Texture::most_texels));
    }
  }
  for (TextureNode& read : all) add_texture(std::move(read), file, keeping);
}

void read_materials(const Node& node, Scene& scene) {
  for (const auto& pair : node.map("a map of names to materials")) {
    const Node& key = pair.first;
    const Node& value = pair.second;
    for (const char* word : {"empty", "start", "goal"}) {
      if (key.text() == word) {
        key.refuse(fmt::format("'{}' is the name of a cell without a wall", word));
      }
    }
    Material material;
    read_material(value, scene, material);
    at_place(key, [&] { scene.wall(material, key.text()); });
  }
}

void read_cells(const Node& node, const std::string& text, Room& room, SceneFile& file) {
  CellMap settings;
  const Node* legend_node = nullptr;
  const Node* drawing = nullptr;
  const Node* map_file = nullptr;
  read_node(node, "cells", cell_map_knobs(), settings,
            [&](const std::string& key, const Node& value) {
              (key == "legend" ? legend_node : key == "map" ? drawing : map_file) = &value;
            });
  if ((drawing == nullptr) == (map_file == nullptr)) {
    node.refuse("expected one of map and map_file");
  }
  const MapLegend legend =
      legend_node == nullptr ? MapLegend{} : read_legend(*legend_node, file.scene);
  CellMap map = drawing != nullptr ? map_from_drawing(*drawing, text, legend)
                                   : map_from_file(*map_file, folder_of(file.path), legend);
  for (const LegendEntry& entry : legend.entries) {
    if (!entry.used(map)) {
      file.notes.push_back(
          {entry.place, fmt::format("no cell uses '{}' of the legend", entry.text)});
    }
  }
  settings.width = map.width;
  settings.height = map.height;
  settings.cells = std::move(map.cells);
  settings.start = map.start;
  settings.goal = map.goal;
  settings.form_of = std::move(map.form_of);
  settings.forms = std::move(map.forms);
  at_place(node, [&] { validate(settings); });
  room.add(std::move(settings));
}

void read_sprite(const Node& node, const Scene& scene, Room& room) {
  Sprite sprite;
  bool named = false;
  read_node(node, "sprite", sprite_knobs(), sprite, [&](const std::string&, const Node& value) {
    sprite.material = static_cast<std::uint32_t>(index_of(value, scene.material_names, "material"));
    named = true;
  });
  if (!named) node.refuse("a sprite without a material, expected one");
  room.sprites.push_back(sprite);
}

RoomBody read_body(const Node& node, const Scene& scene) {
  RoomBody body;
  read_node(node, "body", room_body_knobs(), body, [&](const std::string& key, const Node& value) {
    if (key == "material") {
      body.material = index_of(value, scene.material_names, "material");
      return;
    }
    if (key == "radius") {
      const Knob<BodyBall>& like = *find_knob(body_ball_knobs(), "radius");
      at_place(value, [&] { like.assign(body.body.balls.front(), like.info, value.value_text()); });
      return;
    }
    body.body.balls.clear();
    for (const Node& one : value.list("balls")) {
      read_plain(one, "ball", body_ball_knobs(), body.body.balls.emplace_back());
    }
  });
  return body;
}

void read_light(const Node& node, Lighting& light) {
  read_node(node, "light", lighting_knobs(), light, [&](const std::string& key, const Node& value) {
    if (key == "sun") {
      read_plain(value, "sun", sun_knobs(), light.sun.emplace());
    } else {
      for (const Node& one : value.list("lamps")) {
        read_plain(one, "lamp", lamp_knobs(), light.lamps.emplace_back());
      }
    }
  });
}

using FieldsRead = std::map<const void*, Field>;

void read_solid(const Node& node, const std::string& text, Room& room, SceneFile& file,
                FieldsRead& fields, Keeping& keeping) {
  const std::vector<std::string_view> words = solid_words();
  for (const auto& pair :
       node.map(fmt::format("a solid: one key, one of {}", fmt::join(words, ", ")))) {
    const Node& kind = pair.first;
    if (kind.text() == "field") {
      room.add(keeping.get(&KeptParts::fields, pair.second, [&] {
        return read_field(pair.second, {file.scene, folder_of(file.path), fields});
      }));
    } else if (kind.text() == "cells") {
      if (room.cells) kind.refuse("a second cell map, expected one");
      read_cells(pair.second, text, room, file);
    } else {
      const auto kinds = solid_kinds();
      const auto found = std::find_if(kinds.begin(), kinds.end(), [&](const SolidKind& one) {
        return one.name == kind.text();
      });
      if (found == kinds.end()) refuse_key(kind, words);
      room.parts.push_back(keeping.get(&KeptParts::solids, node, [&] {
        return found->read(pair.second, file.scene, folder_of(file.path));
      }));
    }
  }
}

/// The places of a room's portals, for what is found out once all rooms are known.
using PortalPlaces = std::vector<const Node*>;

PortalPlaces read_room(const Node& node, const std::string& text, bool alone, Room& room,
                       SceneFile& file, Keeping& keeping) {
  PortalPlaces places;
  FieldsRead fields;
  // The name of a material, or a material of its own.
  const auto read_surface = [&](const Node& value, Material& material) {
    if (value.kind() == Node::Kind::scalar) {
      const int index = index_of(value, file.scene.material_names, "material");
      material = file.scene.materials[static_cast<std::size_t>(index)];
    } else {
      read_material(value, file.scene, material);
    }
  };
  int nothing = 0;
  read_node(node, "room", std::span<const Knob<int>>(), nothing,
            [&](const std::string& key, const Node& value) {
              if (key == "fog") {
                read_plain(value, "fog", fog_knobs(), room.fog);
                at_place(value, [&] { validate(room.fog); });
              } else if (key == "floor") {
                read_surface(value, room.floor);
              } else if (key == "ceiling") {
                room.has_ceiling = value.kind() != Node::Kind::scalar || value.text() != "none";
                if (room.has_ceiling) read_surface(value, room.ceiling);
              } else if (key == "light") {
                read_light(value, room.light);
              } else if (key == "sprites") {
                for (const Node& one : value.list("sprites")) read_sprite(one, file.scene, room);
              } else if (key == "bodies") {
                for (const Node& one : value.list("bodies")) {
                  room.bodies.push_back(read_body(one, file.scene));
                }
              } else if (key == "portals") {
                for (const Node& one : value.list("portals")) {
                  room.portals.push_back(read_portal(one));
                  places.push_back(&one);
                }
              } else if (key == "swells") {
                for (const Node& one : value.list("swells")) {
                  Swell& swell = room.swells.emplace_back();
                  read_plain(one, "swell", swell_knobs(), swell);
                  at_place(one, [&] {
                    validate(swell);
                    check_apart(room.swells);
                  });
                }
              } else if (key == "sky") {
                Sky& sky = room.sky.emplace();
                read_node(value, "sky", sky_knobs(), sky,
                          [&](const std::string&, const Node& panorama) {
                            sky.panorama = index_of(panorama, file.scene.texture_names, "texture");
                          });
              } else {
                for (const Node& solid : value.list("solids")) {
                  read_solid(solid, text, room, file, fields, keeping);
                }
              }
            });
  if (alone && room.empty()) {
    node.refuse(fmt::format("nothing in the room, expected solids: a list, each of one of {}",
                            fmt::join(solid_words(), ", ")));
  }
  return places;
}

/// Whether every portal leads somewhere, told where it stands in the file.
void check_portals(const Scene& scene, const std::vector<PortalPlaces>& places) {
  std::vector<RoomOpenings> openings;
  for (const Room& room : scene.rooms) openings.push_back({room.name, room.portals});
  if (const auto fault = find_portal_fault(openings)) {
    places[fault->room][fault->portal]->refuse(fault->message);
  }
}

Color read_color(const Node& node) {
  const Knob<EscapePlane>& like = *find_knob(escape_plane_knobs(), "inside");
  EscapePlane scratch;
  at_place(node, [&] { like.assign(scratch, like.info, node.value_text()); });
  return scratch.inside;
}

EscapePlane read_plane(const Node& node) {
  EscapePlane plane;
  read_node(node, "plane", escape_plane_knobs(), plane,
            [&](const std::string& key, const Node& value) {
              if (key == "trap") {
                read_plain(value, "trap", orbit_trap_knobs(), plane.trap);
              } else if (key == "undecided") {
                plane.undecided = read_color(value);
              } else {
                plane.palette.clear();
                for (const Node& one : value.list("a list of colors")) {
                  plane.palette.push_back(read_color(one));
                }
                if (plane.palette.empty()) value.refuse("no colors, expected one or more");
              }
            });
  at_place(node, [&] { validate(plane); });
  return plane;
}

/// What is read of a scene that is a plane; it has nothing of rooms.
void read_plane_scene(const Node& root, const Node& plane, SceneFile& file) {
  for (const char* other :
       {"camera", "views", "textures", "materials", "room", "rooms", "sheets"}) {
    if (const Node* given = root.find(other)) {
      given->refuse(fmt::format("{} beside a plane, which has none", other));
    }
  }
  file.scene.plane = read_plane(plane);
  if (const Node* window = root.find("window")) {
    read_plain(*window, "window", plane_window_knobs(), file.camera.window);
    at_place(*window, [&] { validate(file.camera.window); });
  }
}

/// The numbers a file names, and puts them where it has them stand.
void read_numbers(Node& root, const SceneNumbers& others, SceneNumbers& numbers) {
  Settings settings;
  if (const Node* named = root.find("numbers")) {
    for (const auto& [key, value] : named->map("a map of names to numbers")) {
      Settings one;
      at_place(value, [&, &name = key, &text = value] {
        photonlane::set_by_name(one, "scene." + name.text(), text.text());
      });
      settings.numbers.merge(one.numbers);
    }
  }
  for (const auto& [name, value] : others) {
    if (settings.numbers.empty()) throw Error(ErrorKind::usage, "the scene has no numbers");
    photonlane::set_by_name(settings, "scene." + name, value);
  }
  numbers = settings.numbers;
  std::vector<std::string_view> names;
  for (const auto& pair : numbers) names.push_back(pair.first);
  root.fill_in([&](const Node& node, std::string_view name) {
    const auto found = numbers.find(name);
    if (found == numbers.end()) {
      node.refuse(fmt::format(
          "no such number '{}'{}", name.substr(0, 60),
          names.empty() ? ", expected a key 'numbers' that has it" : suggestion(name, names)));
    }
    return found->second;
  });
}

}  // namespace

namespace {

SceneFile read_document(Node& root, const std::string& text, const std::string& path,
                        const SceneNumbers& numbers, Keeping& keeping) {
  SceneFile file;
  file.path = path;
  file.text = text;
  read_numbers(root, numbers, file.numbers);
  int nothing = 0;
  // Textures and materials first, whatever the order in the file: what follows names them.
  if (const Node* textures = root.find("textures")) read_textures(*textures, file, keeping);
  if (const Node* materials = root.find("materials")) read_materials(*materials, file.scene);
  read_node(root, "scene", std::span<const Knob<int>>(), nothing,
            [&](const std::string& key, const Node& value) {
              if (key == "title") file.scene.title = value.text();
              // Its look_at is read below, when the eye is known.
              if (key == "camera") read_plain(value, "camera", camera_knobs(), file.camera);
              if (key == "budget") read_budget(value, "", file.budget, file.places);
            });
  if (const Node* camera = root.find("camera")) {
    file.places["camera"] = camera->place();
    for (const auto& [key, value] : camera->map("a camera")) {
      file.places["camera." + key.text()] = value.place();
    }
  }
  if (const Node* plane = root.find("plane")) {
    read_plane_scene(root, *plane, file);
    return file;
  }
  if (const Node* window = root.find("window")) {
    window->refuse("a window without a plane, expected a camera");
  }
  const Node* one_room = root.find("room");
  const Node* rooms = root.find("rooms");
  if (one_room == nullptr && rooms == nullptr) {
    root.refuse("no room, expected a key 'room', 'rooms' or 'plane'");
  }
  if (one_room != nullptr && rooms != nullptr) {
    one_room->refuse("a room beside rooms, expected one of them");
  }
  std::vector<PortalPlaces> places;
  if (one_room != nullptr) {
    places.push_back(read_room(*one_room, text, true, file.scene.room(), file, keeping));
  } else {
    const auto& named = rooms->map("a map of names to rooms");
    if (named.empty()) rooms->refuse("no rooms, expected a map of names to rooms");
    file.scene.rooms.clear();
    for (const auto& pair : named) {
      Room& room = file.scene.add_room(pair.first.text());
      places.push_back(read_room(pair.second, text, named.size() == 1, room, file, keeping));
    }
  }
  check_portals(file.scene, places);
  std::vector<std::string> room_names;
  for (const Room& room : file.scene.rooms) room_names.push_back(room.name);
  if (const Node* sheets = root.find("sheets")) {
    for (const Node& one : sheets->list("sheets")) {
      Sheets& added = file.scene.sheets.emplace_back();
      read_node(one, "sheets", sheets_knobs(), added, [&](const std::string&, const Node& list) {
        for (const Node& name : list.list("a list of names of rooms")) {
          index_of(name, room_names, "room");
          added.rooms.push_back(name.text());
        }
      });
      at_place(one, [&] { seam_portals(added, room_names); });
    }
  }
  // What a camera says of its room.
  const auto check_room = [&](const Node& camera, const Camera& seen_by) {
    const Node* node = camera.find("room");
    if (node == nullptr) return;
    if (!seen_by.room.empty()) index_of(*node, room_names, "room");
  };
  const Node* seen_from = root.find("camera");
  const std::optional<CellMap>& map = file.scene.room().cells;
  if (map && map->start &&
      (seen_from == nullptr ||
       (seen_from->find("eye") == nullptr && seen_from->find("matrices") == nullptr))) {
    file.camera.eye.x() = (map->start->x + 0.5) * map->cell_size;
    file.camera.eye.y() = (map->start->y + 0.5) * map->cell_size;
  }
  const auto finish = [&](const Node& camera, Size size, Camera& seen_by) {
    check_room(camera, seen_by);
    finish_camera(camera, size, seen_by);
  };
  if (const Node* camera = root.find("camera")) {
    finish(*camera, file.budget.frame.size(), file.camera);
  }
  if (const Node* views = root.find("views")) {
    for (const Node& node : views->list("views")) {
      View& view = file.views.emplace_back(View{file.camera});
      file.places[view_title(file.views.size() - 1)] = node.place();
      read_node(node, "view", view_knobs(), view, [&](const std::string&, const Node& camera) {
        read_plain(camera, "camera", camera_knobs(), view.camera);
        finish(camera, pixel_part(view, file.budget.frame.size()).size, view.camera);
      });
    }
  }
  return file;
}

}  // namespace

namespace {

/// Reads a file; what was made of it `before` is taken over where it says the same.
SceneFile parse_again(const std::string& text, const std::string& path, const SceneNumbers& numbers,
                      const KeptParts* before) {
  Node root = parse_document(text, path);
  Keeping keeping{before, {}};
  SceneFile file = read_document(root, text, path, numbers, keeping);
  file.kept = std::make_shared<const KeptParts>(std::move(keeping.now));
  return file;
}

}  // namespace

SceneFile parse_scene(const std::string& text, const std::string& path,
                      const SceneNumbers& numbers) {
  return parse_again(text, path, numbers, nullptr);
}

SceneFile read_scene(const std::string& path, const SceneNumbers& numbers) {
  return parse_scene(read_file(path), path, numbers);
}

Scene scene_with(const SceneFile& file, const SceneNumbers& numbers) {
  if (numbers == file.numbers) return file.scene;
  SceneNumbers all = file.numbers;
  for (const auto& [name, value] : numbers) all.insert_or_assign(name, value);
  SceneFile other = parse_again(file.text, file.path, all, file.kept.get());
  for (const std::string& door : file.opened) open_door_by_text(other, door);
  return std::move(other.scene);
}

void set_by_name(SceneFile& file, std::string_view name, std::string_view value) {
  if (constexpr std::string_view of_scene = "scene."; name.starts_with(of_scene)) {
    SceneNumbers numbers = file.numbers;
    numbers.insert_or_assign(std::string(name.substr(of_scene.size())), value);
    file = parse_again(file.text, file.path, numbers, file.kept.get());
    return;
  }
  Settings settings{file.budget, file.camera};
  photonlane::set_by_name(settings, name, value);
  file.places[std::string(name)] = Place{file.path};
  file.budget = settings.budget;
  file.camera = settings.camera;
}

Error placed(const SceneFile& file, const Error& error) {
  if (!error.place().file.empty()) return error;
  // A message begins with what it is about: "view 2: camera.eye: ...".
  const std::string_view text = error.message();
  const std::string_view subject = text.substr(0, text.find(": "));
  for (const std::string_view name : {subject, subject.substr(0, subject.find('.'))}) {
    const auto found = file.places.find(std::string(name));
    if (found != file.places.end()) return error.at(found->second);
  }
  return error.at(Place{file.path});
}

void open_door_by_text(SceneFile& file, const std::string& text) {
  const auto comma = text.find(',');
  const auto equals = text.find('=');
  if (comma == text.npos || equals == text.npos || comma > equals) {
    throw Error(ErrorKind::usage, "expected COLUMN,ROW=OPENING");
  }
  // Numbers are read as knobs are.
  const auto number = [](const std::string& part, const KnobInfo& info) {
    std::int64_t value = 0;
    detail::assign(value, info, part);
    return static_cast<int>(value);
  };
  const KnobInfo place{"cell", KnobKind::integer, "", {0, CellMap::largest_side}};
  CellMap& map = file.scene.room().cell_map();
  const int x = number(text.substr(0, comma), place);
  const int y = number(text.substr(comma + 1, equals - comma - 1), place);
  CellForm form;
  const Knob<CellForm>& opening = *find_knob(cell_form_knobs(), "opening");
  opening.assign(form, opening.info, text.substr(equals + 1));
  map.set_form(x, y, open_door(map, x, y, form.opening).form);
  file.opened.push_back(text);
}

}  // namespace photonlane::io
