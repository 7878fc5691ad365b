#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <vector>

#include "io/field_node.hpp"
#include "io/files.hpp"
#include "io/map_marks.hpp"
#include "io/portal_node.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {
namespace {

/// The knobs of a table, a line each; dotted names open maps.
template <class Owner>
std::string knob_lines(std::span<const Knob<Owner>> table, const Owner& owner, int indent) {
  std::string text;
  std::string group;
  for (const Knob<Owner>& entry : table) {
    std::string_view name = entry.info.name;
    int deeper = 0;
    if (const auto dot = name.find('.'); dot != name.npos) {
      const std::string_view of = name.substr(0, dot);
      if (group != of) text += fmt::format("{:{}}{}:\n", "", indent, of);
      group = of;
      name = name.substr(dot + 1);
      deeper = 2;
    }
    std::string value = knob_text(entry, owner);
    if (entry.info.kind == KnobKind::text) {
      if (value.empty()) continue;
      value = yaml_quoted(value);
    }
    text += fmt::format("{:{}}{}: {}\n", "", indent + deeper, name, value);
  }
  return text;
}

std::string name_of_material(const Scene& scene, std::size_t i) {
  const bool named = i < scene.material_names.size() && !scene.material_names[i].empty();
  return named ? scene.material_names[i] : fmt::format("material_{}", i);
}

std::string name_of_texture(const Scene& scene, int i) {
  const auto index = static_cast<std::size_t>(i);
  const bool named = index < scene.texture_names.size() && !scene.texture_names[index].empty();
  return named ? scene.texture_names[index] : fmt::format("texture_{}", i);
}

std::string material_lines(const Scene& scene, const Material& material, int indent) {
  std::string text = knob_lines(material_knobs(), material, indent);
  if (material.texture >= 0) {
    text += fmt::format("{:{}}texture: {}\n", "", indent,
                        yaml_quoted(name_of_texture(scene, material.texture)));
  }
  return text;
}

std::string textures_text(const SceneFile& file) {
  if (file.scene.textures.empty()) return "";
  if (file.texture_sources.size() != file.scene.textures.size()) {
    throw Error(ErrorKind::usage, "a texture without a source cannot be written");
  }
  std::string text = "textures:\n";
  for (std::size_t i = 0; i < file.texture_sources.size(); ++i) {
    const TextureSource& source = file.texture_sources[i];
    text += fmt::format("  {}:\n", yaml_quoted(name_of_texture(file.scene, static_cast<int>(i))));
    if (!source.file.empty()) {
      text += fmt::format("    file: {}\n", yaml_quoted(source.file));
      continue;
    }
    if (!source.sign.empty()) text += fmt::format("    sign: {}\n", yaml_quoted(source.sign));
    const std::string knobs = knob_lines(texture_recipe_knobs(), source.recipe, 4);
    // A sign has no pattern.
    text += source.sign.empty() ? knobs : knobs.substr(knobs.find('\n') + 1);
  }
  return text;
}

/// An entry of a legend, or of the few lines that a formed cell takes.
std::string legend_text(const Scene& scene, Cell cell, const CellForm* form) {
  const auto material = [&](std::uint32_t i) { return yaml_quoted(name_of_material(scene, i)); };
  const std::string name = cell == empty_cell ? "empty" : material(material_of(cell));
  if (form == nullptr) return fmt::format(" {}\n", name);
  std::string text = fmt::format("\n            material: {}\n", name);
  if (cell != empty_cell) text += knob_lines(cell_form_knobs(), *form, 12);
  if (form->top >= 0) {
    text += fmt::format("            top: {}\n", material(static_cast<std::uint32_t>(form->top)));
  }
  if (form->floor >= 0) {
    text +=
        fmt::format("            floor: {}\n", material(static_cast<std::uint32_t>(form->floor)));
  }
  return text;
}

std::string cells_text(const Scene& scene, const CellMap& map) {
  constexpr std::string_view letters =
      "#ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789";
  // A letter for every cell and form that occur together; equal forms share one.
  struct Kind {
    Cell cell;
    const CellForm* form;
    char letter;
  };
  std::vector<Kind> kinds{{empty_cell, nullptr, '.'}};
  const auto letter_of = [&](std::size_t id) {
    const Cell cell = map.cells[id];
    const CellForm* form = map.form(id);
    for (const Kind& kind : kinds) {
      const bool same_form = (form == nullptr) == (kind.form == nullptr) &&
                             (form == nullptr || form == kind.form || *form == *kind.form);
      if (kind.cell == cell && same_form) return kind.letter;
    }
    if (kinds.size() > 60) {
      throw Error(ErrorKind::usage, "a map of more than 60 kinds of cells cannot be drawn");
    }
    kinds.push_back({cell, form, letters[kinds.size() - 1]});
    return kinds.back().letter;
  };
  const std::string drawing = draw_map(map, "          ", letter_of);
  std::string text = knob_lines(cell_map_knobs(), map, 8);
  text += "        legend:\n";
  if (map.start) text += fmt::format("          \"{}\": start\n", start_letter);
  if (map.goal) text += fmt::format("          \"{}\": goal\n", goal_letter);
  for (const Kind& kind : kinds) {
    text +=
        fmt::format("          \"{}\":{}", kind.letter, legend_text(scene, kind.cell, kind.form));
  }
  return text + "        map: |\n" + drawing;
}

/// What is in a room, two spaces in.
std::string room_text(const Scene& scene, const Room& room) {
  std::string text = "  fog:\n" + knob_lines(fog_knobs(), room.fog, 4);
  text += "  light:\n" + knob_lines(lighting_knobs(), room.light, 4);
  if (room.light.sun) text += "    sun:\n" + knob_lines(sun_knobs(), *room.light.sun, 6);
  if (!room.light.lamps.empty()) text += "    lamps:\n";
  for (const Lamp& lamp : room.light.lamps) {
    const std::string lines = knob_lines(lamp_knobs(), lamp, 8);
    text += "      -" + lines.substr(7);
  }
  text += "  floor:\n" + material_lines(scene, room.floor, 4);
  text += room.has_ceiling ? "  ceiling:\n" + material_lines(scene, room.ceiling, 4)
                           : "  ceiling: none\n";
  if (room.sky) {
    text += "  sky:\n" + knob_lines(sky_knobs(), *room.sky, 4);
    if (room.sky->panorama >= 0) {
      text += fmt::format("    panorama: {}\n",
                          yaml_quoted(name_of_texture(scene, room.sky->panorama)));
    }
  }
  if (!room.sprites.empty()) text += "  sprites:\n";
  for (const Sprite& sprite : room.sprites) {
    text +=
        fmt::format("    - material: {}\n", yaml_quoted(name_of_material(scene, sprite.material)));
    text += knob_lines(sprite_knobs(), sprite, 6);
  }
  if (!room.bodies.empty()) text += "  bodies:\n";
  for (const RoomBody& body : room.bodies) {
    text += "    -" + knob_lines(room_body_knobs(), body, 6).substr(5);
    if (body.material >= 0) {
      text += fmt::format(
          "      material: {}\n",
          yaml_quoted(name_of_material(scene, static_cast<std::size_t>(body.material))));
    }
    text += "      balls:\n";
    for (const BodyBall& ball : body.body.balls) {
      text += "        -" + knob_lines(body_ball_knobs(), ball, 10).substr(9);
    }
  }
  if (!room.portals.empty()) text += "  portals:\n";
  for (const Portal& portal : room.portals) text += portal_text(portal, 4);
  if (!room.swells.empty()) text += "  swells:\n";
  for (const Swell& swell : room.swells) {
    text += "    -" + knob_lines(swell_knobs(), swell, 6).substr(5);
  }
  if (!room.solids.empty() || !room.fields.empty()) text += "  solids:\n";
  for (const CellMap& map : room.solids) text += "    - cells:\n" + cells_text(scene, map);
  for (const Field& field : room.fields) {
    text += "    - field:\n        " + field_text(field, scene, 8);
  }
  return text;
}

std::string color_text(const Color& color) {
  return detail::read(color, find_knob(escape_plane_knobs(), "inside")->info);
}

/// All of a plane's scene but the title.
std::string plane_text(const SceneFile& file) {
  const EscapePlane& plane = *file.scene.plane;
  std::string text = "plane:\n" + knob_lines(escape_plane_knobs(), plane, 2) + "  palette:\n";
  for (const Color& color : plane.palette) text += "    - " + color_text(color) + "\n";
  if (plane.undecided) text += "  undecided: " + color_text(*plane.undecided) + "\n";
  text += "  trap:\n" + knob_lines(orbit_trap_knobs(), plane.trap, 4);
  text += "window:\n" + knob_lines(plane_window_knobs(), file.camera.window, 2);
  return text + "budget:\n" + knob_lines(budget_knobs(), file.budget, 2);
}

/// Every line two spaces farther in.
std::string indented(const std::string& text) {
  std::string result;
  for (std::size_t i = 0; i < text.size();) {
    const std::size_t end = std::min(text.find('\n', i), text.size() - 1) + 1;
    result += "  " + text.substr(i, end - i);
    i = end;
  }
  return result;
}

}  // namespace

std::string scene_text(const SceneFile& file) {
  const Scene& scene = file.scene;
  std::string text = fmt::format("title: {}\n", yaml_quoted(scene.title));
  if (scene.plane) return text + plane_text(file);
  text += "camera:\n" + knob_lines(camera_knobs(), file.camera, 2);
  if (!file.views.empty()) text += "views:\n";
  for (const View& view : file.views) {
    text += "  -" + knob_lines(view_knobs(), view, 4).substr(3);
    text += "    camera:\n" + knob_lines(camera_knobs(), view.camera, 6);
  }
  text += textures_text(file);
  if (!scene.materials.empty()) text += "materials:\n";
  for (std::size_t i = 0; i < scene.materials.size(); ++i) {
    text += fmt::format("  {}:\n", yaml_quoted(name_of_material(scene, i)));
    text += material_lines(scene, scene.materials[i], 4);
  }
  if (scene.rooms.size() == 1 && scene.room().name.empty()) {
    text += "room:\n" + room_text(scene, scene.room());
  } else {
    text += "rooms:\n";
    for (const Room& room : scene.rooms) {
      text += fmt::format("  {}:\n", yaml_quoted(room.name)) + indented(room_text(scene, room));
    }
  }
  if (!scene.sheets.empty()) text += "sheets:\n";
  for (const Sheets& sheets : scene.sheets) {
    std::string names;
    for (const std::string& name : sheets.rooms)
      names += (names.empty() ? "" : ", ") + yaml_quoted(name);
    text += fmt::format("  - rooms: [{}]\n", names) + knob_lines(sheets_knobs(), sheets, 4);
  }
  text += "budget:\n" + knob_lines(budget_knobs(), file.budget, 2);
  return text;
}

void write_fractal(const std::string& path, const Field& fractal, const FractalRecipe& recipe) {
  SceneFile file;
  Scene& scene = file.scene;
  scene.title = fmt::format("A fractal of seed {}", recipe.seed);
  const auto chance = [&](std::uint32_t which) {
    return random_uniform({.seed = static_cast<std::uint64_t>(recipe.seed), .bounce = 1}, which);
  };
  FoldTint tint;
  // Three neighbors on a wheel of colors, from dark to light.
  const auto hue = [&](double turn, double light) {
    const auto part = [&](double phase) {
      return static_cast<float>(light * (0.62 + 0.38 * std::cos(2 * pi * (turn - phase))));
    };
    return Color(part(0), part(1.0 / 3), part(2.0 / 3));
  };
  for (const char* name : {"deep", "middle", "pale"}) {
    const auto i = static_cast<int>(tint.materials.size());
    const double turn = chance(0) + (0.08 + 0.12 * chance(1)) * i;
    scene.wall({.base = hue(turn, 0.25 + 0.37 * i), .roughness = 0.4, .specular = 0.04}, name);
    tint.materials.push_back(i);
  }
  const std::vector<double>& n = fractal.numbers();
  const Field made = field::place({n[0], n[1], n[2]}, fractal.parts().front().tinted(tint),
                                  {n[3], n[4], n[5]}, n[6]);
  scene.room().add(made);
  // On a dish, for its shadow to fall on.
  const double low = std::max(made.bounds().low.z(), -1.2);
  scene.wall({.base = {0.42f, 0.4f, 0.38f}}, "dish");
  scene.room().add(field::made_of(static_cast<int>(tint.materials.size()),
                                  field::place({0, 0, low - 0.03}, field::cylinder(1.2, 0.06))));
  scene.room().sky.emplace();
  scene.room().light.ambient = {0.3f, 0.33f, 0.42f};
  scene.room().light.sun =
      Sun{.heading = degrees(245), .elevation = degrees(42), .color = {1.0f, 0.84f, 0.62f}};
  file.camera = Camera::look_at({1.6, -2.7, 0.85}, {0, 0, -0.05}, degrees(42));
  file.budget.frame = {960, 600, 4};
  // Finer than a pixel everything is noise.
  file.budget.field.detail = 1.5;
  write_file(path, scene_text(file));
}

}  // namespace photonlane::io
