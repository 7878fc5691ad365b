#include "photonlane/render/scene.hpp"

namespace photonlane {

std::span<const Knob<RoomBody>> room_body_knobs() {
  using Balls = RoomBody;
  static const Knob<RoomBody> table[] = {
      knob<&Balls::body, &RollingBody::place>("at", "meters", {-1e6, 1e6}, "where it starts"),
      knob<&Balls::body, &RollingBody::velocity>("velocity", "meters a second", {-1e3, 1e3},
                                                 "at the start"),
      knob<&Balls::body, &RollingBody::spin>("spin", "radians a second", {-1e3, 1e3},
                                             "at the start, about x, y and z"),
      knob<&Balls::body, &RollingBody::mass>("mass", "kilograms", {0, 1e6, true}, "of all balls"),
      knob<&Balls::body, &RollingBody::bounce>("bounce", "", {0, 1},
                                               "share of the speed that comes back"),
      knob<&Balls::body, &RollingBody::friction>("friction", "", {0, 100},
                                                 "force along a surface over force into it"),
  };
  return table;
}

std::span<const Knob<BodyBall>> body_ball_knobs() {
  static const Knob<BodyBall> table[] = {
      knob<&BodyBall::place>("at", "meters", {-1e3, 1e3}, "in the body's own space"),
      knob<&BodyBall::radius>("radius", "meters", {0, 1e3, true}, "of the ball"),
  };
  return table;
}

namespace {

/// What bodies of a room roll on; nothing where there is nothing.
std::optional<CompiledField> ground_of(const Room& room) {
  if (room.fields.empty()) return std::nullopt;
  return CompiledField(room.fields.size() == 1 ? room.fields.front() : field::join(room.fields));
}

}  // namespace

void roll_bodies(Scene& scene, double from, double to, const RollSettings& settings,
                 const std::function<Scene(double time)>& scene_at) {
  for (std::size_t r = 0; r < scene.rooms.size(); ++r) {
    Room& room = scene.rooms[r];
    if (room.bodies.empty() || room.fields.empty()) continue;
    std::vector<RollingBody> bodies;
    for (const RoomBody& body : room.bodies) bodies.push_back(body.body);
    if (scene_at) {
      const auto field_at = [&](double time) { return *ground_of(scene_at(time).rooms.at(r)); };
      roll(field_at, bodies, from, to, settings, 0.02);
    } else {
      roll(*ground_of(room), bodies, to - from, settings);
    }
    for (std::size_t i = 0; i < bodies.size(); ++i) room.bodies[i].body = bodies[i];
  }
}

const CellMap& Room::cell_map() const {
  if (solids.empty()) throw Error(ErrorKind::input, "the room has no cell map, expected one");
  return solids.front();
}
CellMap& Room::cell_map() {
  return const_cast<CellMap&>(static_cast<const Room&>(*this).cell_map());
}

Cell Scene::wall(const Material& material, std::string name) {
  if (materials.size() >= 65535) {
    throw Error(ErrorKind::input, "more than 65535 materials");
  }
  material_names.resize(materials.size());
  materials.push_back(material);
  material_names.push_back(std::move(name));
  return wall_of(static_cast<std::uint32_t>(materials.size() - 1));
}

Room& Scene::add_room(std::string name) {
  rooms.emplace_back();
  rooms.back().name = std::move(name);
  return rooms.back();
}

int Scene::add(Texture texture, std::string name) {
  texture_names.resize(textures.size());
  textures.push_back(std::move(texture));
  texture_names.push_back(std::move(name));
  return static_cast<int>(textures.size() - 1);
}

}  // namespace photonlane
