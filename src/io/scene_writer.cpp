#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <vector>

#include "io/field_node.hpp"
#include "io/files.hpp"
#include "io/map_marks.hpp"
#include "io/portal_node.hpp"
#include "io/scene_names.hpp"
#include "io/solid_kinds.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {
namespace {

/// A key and its map, where that has lines.
std::string block(std::string_view key, const std::string& lines, int indent) {
  return lines.empty() ? "" : keyed(key, lines, indent);
}

std::string material_lines(const Scene& scene, const Material& material, int indent,
                           const Material& usual = {}) {
  std::string text = changed_lines(material_knobs(), material, indent, usual);
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
    std::string lines;
    if (!source.file.empty()) {
      lines = fmt::format("    file: {}\n", yaml_quoted(source.file));
    } else {
      TextureRecipe usual;
      if (!source.sign.empty()) {
        lines = fmt::format("    sign: {}\n", yaml_quoted(source.sign));
        // A sign has no pattern.
        usual.pattern = source.recipe.pattern;
      }
      lines += changed_lines(texture_recipe_knobs(), source.recipe, 4, usual);
    }
    text += keyed(yaml_quoted(name_of_texture(file.scene, static_cast<int>(i))), lines, 2);
  }
  return text;
}

/// An entry of a legend, or of the few lines that a formed cell takes.
std::string legend_text(const Scene& scene, Cell cell, const CellForm* form) {
  const auto material = [&](std::uint32_t i) { return yaml_quoted(name_of_material(scene, i)); };
  const std::string name = cell == empty_cell ? "empty" : material(material_of(cell));
  if (form == nullptr) return fmt::format(" {}\n", name);
  std::string text = fmt::format("\n            material: {}\n", name);
  if (cell != empty_cell) text += changed_lines(cell_form_knobs(), *form, 12);
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
  std::string text = changed_lines(cell_map_knobs(), map, 8);
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
  static const Room usual;
  std::string text = block("fog", changed_lines(fog_knobs(), room.fog, 4), 2);
  std::string light = changed_lines(lighting_knobs(), room.light, 4);
  if (room.light.sun) light += keyed("sun", changed_lines(sun_knobs(), *room.light.sun, 6), 4);
  if (!room.light.lamps.empty()) light += "    lamps:\n";
  for (const Lamp& lamp : room.light.lamps) {
    light += list_item(changed_lines(lamp_knobs(), lamp, 8), 6);
  }
  text += block("light", light, 2);
  text += block("floor", material_lines(scene, room.floor, 4, usual.floor), 2);
  text += room.has_ceiling
              ? block("ceiling", material_lines(scene, room.ceiling, 4, usual.ceiling), 2)
              : "  ceiling: none\n";
  if (room.sky) {
    std::string lines = changed_lines(sky_knobs(), *room.sky, 4);
    if (room.sky->panorama >= 0) {
      lines += fmt::format("    panorama: {}\n",
                           yaml_quoted(name_of_texture(scene, room.sky->panorama)));
    }
    text += keyed("sky", lines, 2);
  }
  if (!room.sprites.empty()) text += "  sprites:\n";
  for (const Sprite& sprite : room.sprites) {
    text +=
        fmt::format("    - material: {}\n", yaml_quoted(name_of_material(scene, sprite.material)));
    text += changed_lines(sprite_knobs(), sprite, 6);
  }
  if (!room.bodies.empty()) text += "  bodies:\n";
  for (const RoomBody& body : room.bodies) {
    std::string lines = changed_lines(room_body_knobs(), body, 6);
    if (body.material >= 0) {
      lines += fmt::format(
          "      material: {}\n",
          yaml_quoted(name_of_material(scene, static_cast<std::size_t>(body.material))));
    }
    lines += "      balls:\n";
    for (const BodyBall& ball : body.body.balls) {
      lines += list_item(changed_lines(body_ball_knobs(), ball, 10), 8);
    }
    text += list_item(std::move(lines), 4);
  }
  if (!room.portals.empty()) text += "  portals:\n";
  for (const Portal& portal : room.portals) text += portal_text(portal, 4);
  if (!room.swells.empty()) text += "  swells:\n";
  for (const Swell& swell : room.swells) {
    text += list_item(changed_lines(swell_knobs(), swell, 6), 4);
  }
  if (!room.empty()) text += "  solids:\n";
  if (room.cells) text += "    - cells:\n" + cells_text(scene, *room.cells);
  for (const Field& field : room.fields) {
    text += "    - field:\n        " + field_text(field, scene, 8);
  }
  for (const std::shared_ptr<const SolidPart>& part : room.parts) {
    text += solid_text(*part, scene, 4);
  }
  return text;
}

std::string color_text(const Color& color) {
  return detail::read(color, find_knob(escape_plane_knobs(), "inside")->info);
}

/// All of a plane's scene but the title.
std::string plane_text(const SceneFile& file) {
  const EscapePlane& plane = *file.scene.plane;
  std::string text = "plane:\n" + changed_lines(escape_plane_knobs(), plane, 2) + "  palette:\n";
  for (const Color& color : plane.palette) text += "    - " + color_text(color) + "\n";
  if (plane.undecided) text += "  undecided: " + color_text(*plane.undecided) + "\n";
  text += block("trap", changed_lines(orbit_trap_knobs(), plane.trap, 4), 2);
  text += block("window", changed_lines(plane_window_knobs(), file.camera.window, 2), 0);
  return text + block("budget", changed_lines(budget_knobs(), file.budget, 2), 0);
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
  // A camera that does not say where its eye is stands at the map's start.
  Camera usual;
  usual.eye = file.camera.eye + Vec3d(1, 1, 1);
  text += "camera:\n" + changed_lines(camera_knobs(), file.camera, 2, usual);
  if (!file.views.empty()) text += "views:\n";
  for (const View& view : file.views) {
    // What a view's camera does not say is as in the scene's.
    text += list_item(
        changed_lines(view_knobs(), view, 4) +
            keyed("camera", changed_lines(camera_knobs(), view.camera, 6, file.camera), 4),
        2);
  }
  text += textures_text(file);
  if (!scene.materials.empty()) text += "materials:\n";
  for (std::size_t i = 0; i < scene.materials.size(); ++i) {
    text += keyed(yaml_quoted(name_of_material(scene, i)),
                  material_lines(scene, scene.materials[i], 4), 2);
  }
  if (scene.rooms.size() == 1 && scene.room().name.empty()) {
    text += keyed("room", room_text(scene, scene.room()), 0);
  } else {
    text += "rooms:\n";
    for (const Room& room : scene.rooms) {
      text += keyed(yaml_quoted(room.name), indented(room_text(scene, room)), 2);
    }
  }
  if (!scene.sheets.empty()) text += "sheets:\n";
  for (const Sheets& sheets : scene.sheets) {
    std::string names;
    for (const std::string& name : sheets.rooms)
      names += (names.empty() ? "" : ", ") + yaml_quoted(name);
    text += fmt::format("  - rooms: [{}]\n", names) + changed_lines(sheets_knobs(), sheets, 4);
  }
  text += block("budget", changed_lines(budget_knobs(), file.budget, 2), 0);
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
