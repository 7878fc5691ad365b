#include "io/scene_nodes.hpp"

#include <fmt/format.h>

#include <map>

#include "io/field_node.hpp"
#include "io/json.hpp"
#include "io/plate_node.hpp"
#include "io/solid_kinds.hpp"
#include "io/voxel_node.hpp"
#include "photonlane/field/sample.hpp"
#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/grid/map_generator.hpp"
#include "photonlane/io/scene_file.hpp"
#include "photonlane/spheres/pollen_generator.hpp"
#include "photonlane/spheres/spheres.hpp"
#include "photonlane/voxels/field_voxels.hpp"
#include "photonlane/voxels/land_sources.hpp"
#include "photonlane/voxels/terrace_generator.hpp"
#include "photonlane/voxels/voxels.hpp"
#include "photonlane/walk/walk.hpp"
#include "photonlane/world/camera_matrices.hpp"

namespace photonlane::io {
namespace {

template <class Owner>
void add_defaults(std::map<std::string, std::string>& defaults, std::string_view node,
                  std::span<const Knob<Owner>> table, const Owner& owner) {
  for (const Knob<Owner>& entry : table) {
    defaults[fmt::format("{}/{}", node, entry.info.name)] = knob_text(entry, owner);
  }
}

std::map<std::string, std::string> default_texts() {
  std::map<std::string, std::string> defaults;
  add_defaults(defaults, "camera", camera_knobs(), Camera{});
  add_defaults(defaults, "view", view_knobs(), View{});
  add_defaults(defaults, "material", material_knobs(), Material{});
  add_defaults(defaults, "texture", texture_recipe_knobs(), TextureRecipe{});
  add_defaults(defaults, "light", lighting_knobs(), Lighting{});
  add_defaults(defaults, "sun", sun_knobs(), Sun{});
  add_defaults(defaults, "lamp", lamp_knobs(), Lamp{});
  add_defaults(defaults, "sprite", sprite_knobs(), Sprite{});
  add_defaults(defaults, "sky", sky_knobs(), Sky{});
  add_defaults(defaults, "portal", portal_knobs(), Portal{});
  add_defaults(defaults, "to", portal_target_knobs(), PortalTarget{});
  for (const OpeningShape shape :
       {OpeningShape::rectangle, OpeningShape::disc, OpeningShape::sphere, OpeningShape::box}) {
    add_defaults(defaults, name_of(shape), opening_knobs(shape), Opening{.shape = shape});
  }
  add_defaults(defaults, "plane", escape_plane_knobs(), EscapePlane{});
  add_defaults(defaults, "trap", orbit_trap_knobs(), OrbitTrap{});
  add_defaults(defaults, "window", plane_window_knobs(), PlaneWindow{});
  add_defaults(defaults, "swell", swell_knobs(), Swell{});
  add_defaults(defaults, "sheets", sheets_knobs(), Sheets{});
  add_defaults(defaults, "fog", fog_knobs(), Fog{});
  add_defaults(defaults, "cells", cell_map_knobs(), CellMap{});
  add_defaults(defaults, "cell", cell_form_knobs(), CellForm{});
  add_defaults(defaults, "budget", budget_knobs(), Budget{});
  add_defaults(defaults, "body", room_body_knobs(), RoomBody{});
  add_defaults(defaults, "ball", body_ball_knobs(), BodyBall{});
  add_defaults(defaults, "one_sphere", sphere_knobs(), Sphere{});
  add_defaults(defaults, "pollen", pollen_recipe_knobs(), PollenRecipe{});
  add_defaults(defaults, "voxels", voxels_knobs(), Voxels{});
  add_defaults(defaults, "terraces", terrace_recipe_knobs(), TerraceRecipe{});
  add_defaults(defaults, "voxel_land", land_options_knobs(), LandOptions{});
  add_defaults(defaults, "garden", garden_recipe_knobs(), GardenRecipe{});
  add_defaults(defaults, "field_voxels", field_voxel_recipe_knobs(), FieldVoxelRecipe{});
  add_defaults(defaults, "plate", plate_knobs(), Plate{});
  add_defaults(defaults, "plate_depth", plate_depth_knobs(), PlateDepth{});
  add_defaults(defaults, "matrices", camera_matrices_knobs(), CameraMatrices{});
  add_defaults(defaults, "walk", walk_script_knobs(), WalkScript{});
  add_defaults(defaults, "move", walk_move_knobs(), WalkMove{});
  return defaults;
}

Json value_schema(const KnobInfo& knob) {
  Json schema;
  switch (knob.kind) {
    case KnobKind::integer:
      schema["type"] = "integer";
      break;
    case KnobKind::number:
      schema["type"] = "number";
      break;
    case KnobKind::flag:
      schema["type"] = "boolean";
      break;
    case KnobKind::choice:
      schema["enum"] = std::vector<std::string>(knob.choices.begin(), knob.choices.end());
      break;
    case KnobKind::text:
      schema["type"] = "string";
      break;
    case KnobKind::point:
      schema = {
          {"type", "array"}, {"items", {{"type", "number"}}}, {"minItems", 3}, {"maxItems", 3}};
      break;
    case KnobKind::decimal:
      schema["type"] = {"number", "string"};
      break;
    case KnobKind::place:
      schema["anyOf"] = {{{"type", "array"},
                          {"items", {{"type", {"number", "string"}}}},
                          {"minItems", 2},
                          {"maxItems", 2}},
                         {{"type", "string"}}};
      break;
    case KnobKind::color:
      schema["anyOf"] = {
          {{"type", "array"}, {"items", {{"type", "number"}}}, {"minItems", 3}, {"maxItems", 3}},
          {{"type", "string"}, {"pattern", "^#[0-9a-fA-F]{6}$"}}};
      break;
  }
  if (knob.kind == KnobKind::integer || knob.kind == KnobKind::number) {
    if (std::isfinite(knob.range.low)) {
      schema[knob.range.open_low ? "exclusiveMinimum" : "minimum"] = knob.range.low;
    }
    if (std::isfinite(knob.range.high)) {
      schema[knob.range.open_high ? "exclusiveMaximum" : "maximum"] = knob.range.high;
    }
  }
  schema["description"] = std::string(knob.help) + ": " + knob.expected();
  return schema;
}

}  // namespace

std::vector<std::string_view> SceneNode::names() const {
  std::vector<std::string_view> result;
  for (const StructureKey& key : keys) result.push_back(key.name);
  for (const KnobInfo& knob : knobs) result.push_back(knob.name);
  return result;
}

namespace {

/// An entry of `solids`.
SceneNode solid_node() {
  SceneNode node{"solid",
                 "one thing lanes can hit: one of these keys",
                 {},
                 {{"cells", "cells", "a map of square cells", "cells"},
                  {"field", "a field, see Fields", "signed distances put together", ""}}};
  for (const SolidKind& kind : solid_kinds()) {
    node.keys.push_back({kind.name, kind.name, kind.help, kind.name});
  }
  return node;
}

}  // namespace

const std::vector<SceneNode>& scene_nodes() {
  static const std::vector<SceneNode> table = [] {
    std::vector<SceneNode> nodes{
        {"scene",
         "the whole file",
         {},
         {{"title", "text", "what the scene is called", ""},
          {"numbers", "a map of names to numbers",
           "numbers with names: `$name` in the file stands for the number; `--set "
           "scene.name=VALUE` "
           "gives it another value",
           "number", Holds::named},
          {"camera", "a camera",
           "the camera of the picture; without an `eye` it stands at the map's start", "camera"},
          {"views", "a list of views",
           "several cameras in one frame, each with its part of it, instead of one camera", "view",
           Holds::list},
          {"textures", "a map of names to textures", "textures by name, for materials to use",
           "texture", Holds::named},
          {"materials", "a map of names to materials",
           "materials by name, for walls, fields and everything else to use", "material",
           Holds::named},
          {"room", "a room", "the room: its surroundings and what stands in it", "room"},
          {"rooms", "a map of names to rooms",
           "several rooms by name, joined by portals, instead of one room", "room", Holds::named},
          {"plane", "a plane",
           "a plane of complex numbers instead of rooms; its camera is the window", "plane"},
          {"window", "a window", "the part of the plane that the frame shows", "window"},
          {"sheets", "a list of sheets",
           "rooms joined like the turns of a spiral stair: going round an axis leads from each to "
           "the next",
           "sheets", Holds::list},
          {"budget", "a budget", "the budget of a frame: steps, samples, bounces and methods",
           "budget"}}},
        {"plane",
         "a plane of complex numbers, every point of which is put into z^power + c again and again "
         "until it is far away",
         infos(escape_plane_knobs()),
         {{"palette", "a list of colors", "colors of points that escape, repeated in this order",
           "color", Holds::list},
          {"undecided", "a color",
           "color of points that ran out of steps; by default the violet of everything spent",
           "color", Holds::one},
          {"trap", "a trap",
           "the figure whose distance from the orbit is shown where `tells` is trap", "trap"}}},
        {"trap", "a figure that orbits may come near to", infos(orbit_trap_knobs()), {}},
        {"window", "the part of a plane that a frame shows", infos(plane_window_knobs()), {}},
        {"sheets",
         "rooms that lie over one another like the turns of a spiral stair: going round the axis "
         "leads "
         "from each to the next, and from the last to the first",
         infos(sheets_knobs()),
         {{"rooms", "a list of names of rooms",
           "names of the rooms, at least two, in the order of the turns", ""}}},
        {"camera",
         "where a frame is seen from",
         infos(camera_knobs()),
         {{"look_at", "three numbers [x, y, z], in meters",
           "a point to show in the middle, instead of heading and pitch", ""},
          {"matrices", "a map", "the camera of another program, instead of all but the room",
           "matrices"}}},
        {"view",
         "an eye and the part of the frame it fills",
         infos(view_knobs()),
         {{"camera", "a camera",
           "the camera of this part; keys it does not have are those of the scene's camera",
           "camera"}}},
        {"texture",
         "a picture to lay on surfaces: from a file, a sign, or drawn by a pattern",
         infos(texture_recipe_knobs()),
         {{"file", "a file name", "name of a PNG file; stands alone", ""},
          {"sign", "text", "a board with this text in `second` on `color`, instead of a pattern",
           ""}}},
        {"material",
         "what a surface looks like",
         infos(material_knobs()),
         {{"texture", "the name of a texture", "name of the texture that multiplies the base color",
           ""}}},
        {"room",
         "a space and what stands in it",
         {},
         {{"fog", "a fog", "the fog: what everything fades to with distance", "fog"},
          {"light", "a light", "the lights of the room; without them colors are shown unlit",
           "light"},
          {"floor", "a material", "the floor at height 0", "material"},
          {"ceiling", "a material, or none", "the ceiling at the height of the walls", "material"},
          {"sky", "a sky", "what is seen outside; without one, the color of the fog", "sky"},
          {"sprites", "a list of sprites",
           "upright pictures that face the camera: plants, moths, signs", "sprite", Holds::list},
          {"bodies", "a list of bodies", "balls that roll on the room's fields during a walk",
           "body", Holds::list},
          {"portals", "a list of portals", "openings that lead to other places", "portal",
           Holds::list},
          {"swells", "a list of swells", "balls in which space is stretched along an axis", "swell",
           Holds::list},
          {"solids", "a list of solids, each of one key", "what stands in the room", "solid",
           Holds::list}}},
        solid_node(),
        {"spheres",
         "balls that lanes meet exactly: a list of them, or files with any number",
         {},
         {{"material", "a material name", "material of the spheres that have none of their own",
           ""},
          {"radius", "number, more than 0 and at most 1000000, in meters",
           "radius of the spheres that have none of their own; 0.05 unless given", ""},
          {"at", "a list, each [x, y, z], [x, y, z, radius] or one_sphere", "the spheres",
           "one_sphere", Holds::list},
          {"files", "a name or a list of names",
           "instead of at: .ply, .csv or .spheres, from the scene's folder on; * and ? stand for "
           "any "
           "letters",
           ""},
          {"pollen", "a map", "instead of at: pollen that drifts through a hall", "pollen"},
          {"scale", "number, more than 0",
           "places and radii of files are times this; 1 unless given", ""},
          {"columns", "a map", "what quantities are called in a PLY's vertices or a CSV's head",
           "sphere_columns"},
          {"record", "a map", "where numbers lie in files that are nothing else, little-endian",
           "sphere_record"},
          {"materials", "a list of material names", "what the numbers of materials in files mean",
           ""},
          {"keep", "automatic, exact or compact",
           "in doubles, or moved by a little in a quarter of the memory; automatic is exact up to "
           "a "
           "million",
           ""}}},
        {"pollen",
         "pollen that drifts through a hall, any number of grains, the same each time",
         infos(pollen_recipe_knobs()),
         {}},
        {"sphere_columns",
         "names of columns; those of the quantities unless given",
         {},
         {{"x", "text", "column of x", ""},
          {"y", "text", "column of y", ""},
          {"z", "text", "column of z", ""},
          {"radius", "text", "column of radii", ""},
          {"red", "text", "column of red: 0 to 255, or 0 to 1 where a PLY has floats", ""},
          {"green", "text", "column of green", ""},
          {"blue", "text", "column of blue", ""},
          {"material", "text", "column of numbers of materials", ""}}},
        {"sphere_record",
         "where numbers lie: of each quantity the offset of the first in bytes, and where they "
         "differ its type and stride",
         {},
         {{"stride", "integer", "bytes from one sphere to the next; 12 unless given", ""},
          {"type", "float32, float64, uint8, uint16, uint32, int8, int16 or int32",
           "type of numbers that have none of their own; float32 unless given", ""},
          {"count", "integer", "how many; all that are there unless given", ""},
          {"x", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first x", ""},
          {"y", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first y", ""},
          {"z", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first z", ""},
          {"radius", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first radius", ""},
          {"red", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first red", ""},
          {"green", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first green", ""},
          {"blue", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first blue", ""},
          {"material", "OFFSET, OFFSET:TYPE or OFFSET:TYPE:STRIDE", "place of the first material",
           ""}}},
        {"one_sphere",
         "a sphere of a set, where it has a material of its own",
         infos(sphere_knobs()),
         {{"material", "a material name", "material of this sphere; the set's unless given", ""}}},
        {"swell",
         "a ball in which space is longer or shorter along one axis, fading out toward its rim",
         infos(swell_knobs()),
         {}},
        {"portal",
         "an opening of one shape that hands lanes over to another place",
         infos(portal_knobs()),
         {{"name", "text", "name by which other portals lead to this one", ""},
          {"rectangle", "a rectangle", "an upright opening unless pitched", "rectangle"},
          {"polygon", "a polygon", "a flat opening with corners", "polygon"},
          {"disc", "a disc", "a round flat opening", "disc"},
          {"sphere", "a sphere", "a ball that is entered from all sides", "sphere"},
          {"box", "a box", "a box that is entered through its sides", "box"},
          {"to", "a target", "where it leads; without one, to the portal that leads here", "to"},
          {"fallback", "a color",
           "color shown to lanes that have used up crossings.limit; without one they are spent",
           "color", Holds::one}}},
        {"rectangle", "a flat opening", infos(opening_knobs(OpeningShape::rectangle)), {}},
        {"polygon",
         "a flat opening of any convex form",
         {},
         {{"corners", "a list of corners, each [right, up] in meters",
           "from its middle, counterclockwise as one stands before its front", ""}}},
        {"disc", "a round flat opening", infos(opening_knobs(OpeningShape::disc)), {}},
        {"sphere",
         "a ball; what is seen in it stands around the place it leads to",
         infos(opening_knobs(OpeningShape::sphere)),
         {}},
        {"box",
         "a box; what is seen in it stands around the place it leads to",
         infos(opening_knobs(OpeningShape::box)),
         {{"sides", "a list of front, back, left, right, top, bottom",
           "sides that are open; the others do not exist; all unless given", ""}}},
        {"to",
         "where a portal leads",
         infos(portal_target_knobs()),
         {{"portal", "the name of a portal",
           "name of the portal where lanes come out; stands alone", ""},
          {"room", "the name of a room", "room where lanes come out; the portal's own unless given",
           ""}}},

        {"light",
         "the light in a room; lights add up as 1 - (1 - a)(1 - b), never above 1",
         infos(lighting_knobs()),
         {{"sun", "a sun", "a light from far away", "sun"},
          {"lamps", "a list of lamps", "lights that reach as far as their range", "lamp",
           Holds::list}}},
        {"sun", "a light so far away that it comes from one direction", infos(sun_knobs()), {}},
        {"lamp", "a light with a range", infos(lamp_knobs()), {}},
        {"sprite",
         "an upright picture, covered once by its material's texture",
         infos(sprite_knobs()),
         {{"material", "a material name", "material of the picture", ""}}},
        {"body",
         "balls of one piece that fall and roll on a room's fields",
         infos(room_body_knobs()),
         {{"radius", "number, in meters", "radius of a body of one ball; 0.05 unless given", ""},
          {"balls", "a list of balls", "the balls of a body of several", "ball", Holds::list},
          {"material", "a material name", "material of the body", ""}}},
        {"ball", "one ball of a body", infos(body_ball_knobs()), {}},
        {"sky",
         "what lanes see that leave the room",
         infos(sky_knobs()),
         {{"panorama", "the name of a texture",
           "name of a texture that covers the whole sphere of directions, its middle in the east, "
           "instead of the two colors",
           ""}}},
        {"fog", "the fade with the distance along the ray", infos(fog_knobs()), {}},
        {"cells",
         "a map of square cells, each empty or a wall",
         infos(cell_map_knobs()),
         {{"legend",
           "a map of letters, or colors as #rrggbb, to material names, empty, start, goal or cells",
           "what the letters of a drawing, or the pixels of a PNG, stand for; '.' and ' ' are "
           "empty "
           "unless listed",
           ""},
          {"map", "text, a line a row", "the plan as seen from above, first line in the north", ""},
          {"map_file", "a file name", "a text file like map, or a PNG of one pixel a cell", ""}}},
        {"cell",
         "an entry of a legend that is more than a wall of one material",
         infos(cell_form_knobs()),
         {{"material", "a material name, empty, start or goal",
           "material of the wall, pane or door", ""},
          {"tint", "a color", "multiplies the material's base color", "color", Holds::one},
          {"top", "a material name",
           "material of the top of a low block; that of its sides unless given", ""},
          {"floor", "a material name",
           "material of the cell's floor where it is seen; the room's unless given", ""}}},
        {"budget",
         "the budget of a frame: steps, samples, bounces and methods",
         infos(budget_knobs()),
         {}},
        {"walk",
         "a script for photonlane walk, in a file of its own",
         infos(walk_script_knobs()),
         {{"moves", "a list of moves", "the moves, one after the other", "move", Holds::list}}},
        {"move",
         "one move of a walk",
         infos(walk_move_knobs()),
         {{"cells", "a list of changes", "changes of cells during the move", ""},
          {"numbers", "a map of names to numbers",
           "numbers of the scene that change evenly to these values until the move's end", ""}}},
        {"change",
         "a change of one cell during a walk",
         {},
         {{"at", "a cell [column, row]", "cell, counted from the south-west corner", ""},
          {"opening", "number, 0 to 1",
           "how far the door there is open at the move's end; it moves evenly", ""},
          {"material", "a material name, or empty",
           "material of the cell from the move's start on, or empty", ""}}},
    };
    // After the other kinds of solids.
    const auto after = std::find_if(nodes.begin(), nodes.end(), [](const SceneNode& node) {
      return node.name == "one_sphere";
    });
    std::vector<SceneNode> more = voxel_nodes();
    const std::vector<SceneNode> plates = plate_nodes();
    more.insert(more.end(), plates.begin(), plates.end());
    nodes.insert(after + 1, more.begin(), more.end());
    return nodes;
  }();
  return table;
}

const SceneNode& scene_node(std::string_view name) {
  for (const SceneNode& node : scene_nodes()) {
    if (node.name == name) return node;
  }
  throw Error(ErrorKind::usage, fmt::format("no scene node {}", name));
}

std::string scene_reference() {
  const auto defaults = default_texts();
  std::string text =
      "# Scene files\n\n"
      "Made by `photonlane describe --as markdown`; every table below comes from the tables the\n"
      "reader itself goes by. A scene file is YAML. Angles are degrees, lengths meters, colors\n"
      "linear light `[red, green, blue]` in [0, 1] or display values `\"#rrggbb\"`. Unknown keys\n"
      "are errors.\n";
  for (const SceneNode& node : scene_nodes()) {
    text += fmt::format("\n## {}\n\n{}\n\n| key | value | default | meaning |\n|---|---|---|---|\n",
                        node.name,
                        std::string(1, static_cast<char>(std::toupper(node.help[0]))) +
                            std::string(node.help.substr(1)) + ".");
    for (const StructureKey& key : node.keys) {
      text += fmt::format("| `{}` | {} | | {} |\n", key.name, key.expected, key.help);
    }
    for (const KnobInfo& knob : node.knobs) {
      text += fmt::format("| `{}` | {} | {} | {} |\n", knob.name, knob.expected(),
                          defaults.at(fmt::format("{}/{}", node.name, knob.name)), knob.help);
    }
  }
  text += field_reference();
  text +=
      "\nIn a file the dotted names of the budget are nested maps: `budget: {cells: {method: "
      "leap}}`.\nOptions write them dotted: `--set cells.method=leap`; a camera's keys get "
      "`camera.` in front:\n`--set camera.heading=45`.\n";
  return text;
}

std::string knob_list() {
  std::string text;
  const auto add = [&](std::string_view heading, std::string_view prefix, const auto& table,
                       const auto& defaults) {
    text += fmt::format("{}{}\n", text.empty() ? "" : "\n", heading);
    for (const auto& entry : table) {
      text += fmt::format("  {:<22} {}; default {}\n  {:<22} {}\n",
                          fmt::format("{}{}", prefix, entry.info.name), entry.info.expected(),
                          knob_text(entry, defaults), "", entry.info.help);
    }
  };
  add("render, sweep, check: --set", "", budget_knobs(), Budget{});
  add("render, sweep, check: --set (camera)", "camera.", camera_knobs(), Camera{});
  add("render, sweep: --set (window of a plane)", "window.", plane_window_knobs(), PlaneWindow{});
  add("make map: --set", "", map_recipe_knobs(), MapRecipe{});
  add("make volume: --set", "", volume_recipe_knobs(), VolumeRecipe{});
  add("make pollen: --set", "", pollen_recipe_knobs(), PollenRecipe{});
  add("make voxels: --set", "", field_voxel_recipe_knobs(), FieldVoxelRecipe{});
  add("make terraces: --set", "", terrace_recipe_knobs(), TerraceRecipe{});
  return text;
}

namespace {

/// What a key that is not a plain value may be.
Json key_schema(const StructureKey& key) {
  Json one = Json::object();
  if (key.node == "color") {
    one = value_schema(find_knob(escape_plane_knobs(), "inside")->info);
    one.erase("description");
  } else if (key.node == "number") {
    one["type"] = "number";
  } else if (!key.node.empty()) {
    one["$ref"] = fmt::format("#/$defs/{}", key.node);
  }
  Json schema = one;
  if (key.holds == Holds::list) schema = {{"type", "array"}, {"items", one}};
  if (key.holds == Holds::named) schema = {{"type", "object"}, {"additionalProperties", one}};
  schema["description"] = fmt::format("{}: {}", key.help, key.expected);
  return schema;
}

}  // namespace

std::string scene_schema() {
  Json schema{{"$schema", "https://json-schema.org/draft/2020-12/schema"},
              {"title", "Photon Lane scene"},
              {"$ref", "#/$defs/scene"}};
  for (const SceneNode& node : scene_nodes()) {
    Json object{{"type", "object"},
                {"description", std::string(node.help)},
                {"additionalProperties", false},
                {"properties", Json::object()}};
    for (const StructureKey& key : node.keys) {
      object["properties"][std::string(key.name)] = key_schema(key);
    }
    for (const KnobInfo& knob : node.knobs) {
      Json* place = &object;
      std::string_view rest = knob.name;
      for (auto dot = rest.find('.'); dot != rest.npos; dot = rest.find('.')) {
        place = &(*place)["properties"][std::string(rest.substr(0, dot))];
        (*place)["type"] = "object";
        (*place)["additionalProperties"] = false;
        rest = rest.substr(dot + 1);
      }
      (*place)["properties"][std::string(rest)] = value_schema(knob);
    }
    schema["$defs"][std::string(node.name)] = std::move(object);
  }
  auto& ceiling = schema["$defs"]["room"]["properties"]["ceiling"];
  ceiling.erase("$ref");
  ceiling["anyOf"] = {{{"$ref", "#/$defs/material"}}, {{"const", "none"}}};
  auto& sphere = schema["$defs"]["spheres"]["properties"]["at"]["items"];
  sphere = {
      {"anyOf",
       {sphere,
        {{"type", "array"}, {"items", {{"type", "number"}}}, {"minItems", 3}, {"maxItems", 4}}}}};
  return json_text(schema);
}

}  // namespace photonlane::io
