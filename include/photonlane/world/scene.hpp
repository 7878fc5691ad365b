#pragma once

///   Scene scene;
///   const Cell brick = scene.wall({.base = {0.55f, 0.25f, 0.18f}}, "brick");
///   scene.room().add(field::sphere(0.5).made_of(static_cast<int>(material_of(brick))));
///   scene.room().light.sun.emplace();

#include <concepts>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "photonlane/field/field.hpp"
#include "photonlane/field/rolling.hpp"
#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/grid/cell_map.hpp"
#include "photonlane/lane/solid.hpp"
#include "photonlane/light/fog.hpp"
#include "photonlane/light/lights.hpp"
#include "photonlane/light/material.hpp"
#include "photonlane/light/sky.hpp"
#include "photonlane/light/texture.hpp"
#include "photonlane/room/portal.hpp"
#include "photonlane/room/sheets.hpp"
#include "photonlane/room/swell.hpp"
#include "photonlane/world/sprite.hpp"

namespace photonlane {

/// A body that rolls on a room's fields, and what it is made of: an index of materials, or -1.
struct RoomBody {
  RollingBody body;
  int material = -1;
};

std::span<const Knob<RoomBody>> room_body_knobs();
std::span<const Knob<BodyBall>> body_ball_knobs();

/// A space of its own with what stands in it.
struct Room {
  Fog fog;
  Lighting light;
  Material floor{.base = {0.22f, 0.20f, 0.18f}};
  Material ceiling{.base = {0.16f, 0.18f, 0.22f}};
  bool has_ceiling = true;       ///< false: lanes that rise above the walls leave the room
  std::optional<Sky> sky;        ///< what is seen outside; without one, the color of the fog
  std::optional<CellMap> cells;  ///< a room without them has no floor and ceiling
  std::vector<Field> fields;
  std::vector<std::shared_ptr<const SolidPart>> parts;  ///< what else lanes can meet
  std::vector<Sprite> sprites;
  std::vector<RoomBody> bodies;
  std::vector<Portal> portals;
  std::vector<Swell> swells;

  std::string name;  ///< that portals and cameras call it by

  /// Throws Error (input) where there is one already.
  void add(CellMap map);
  void add(Field field) { fields.push_back(std::move(field)); }
  /// Any other kind of solid, like Spheres.
  template <std::derived_from<SolidPart> Part>
  void add(Part part) {
    parts.push_back(std::make_shared<const Part>(std::move(part)));
  }
  bool empty() const { return !cells && fields.empty() && parts.empty(); }
  /// Throws Error (input) where there is none.
  const CellMap& cell_map() const;
  CellMap& cell_map();
};

/// What the user writes: plain data, free to copy and edit. Compile it to trace it.
struct Scene {
  std::string title;
  std::vector<std::string> material_names;  ///< as many as materials, or fewer
  std::vector<Material> materials;
  std::vector<std::string> texture_names;  ///< as many as textures, or fewer
  std::vector<Texture> textures;
  std::vector<Room> rooms{Room{}};
  std::optional<EscapePlane> plane;  ///< what the scene is instead of rooms
  std::vector<Sheets> sheets;        ///< rooms that one gets to by going round something

  /// The first room: the only one of a plain scene.
  Room& room() { return rooms.front(); }
  const Room& room() const { return rooms.front(); }
  /// Adds a room with nothing in it; references to others may end.
  Room& add_room(std::string name);

  /// Adds a material and gives the wall made of it. Throws Error (input) past 65535 materials.
  Cell wall(const Material& material, std::string name = "");

  /// Adds a texture and gives its index, for Material::texture.
  int add(Texture texture, std::string name = "");
};

/// Rolls the bodies of all rooms of a scene on, by the fields of their own rooms, from one time to
/// another, in seconds. `scene_at` gives the scene at a time where its fields move, or nothing
/// where they do not.
void roll_bodies(Scene& scene, double from, double to, const RollSettings& settings = {},
                 const std::function<Scene(double time)>& scene_at = {});

}  // namespace photonlane
