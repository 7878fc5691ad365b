#include "world/room_bodies.hpp"

#include <memory>
#include <optional>
#include <utility>

namespace photonlane {

Field body_field(const RoomBody& body) {
  std::vector<Field> balls;
  const std::vector<Vec3d> places = ball_places(body.body);
  for (std::size_t i = 0; i < places.size(); ++i) {
    balls.push_back(field::place(places[i], field::sphere(body.body.balls[i].radius)));
  }
  const Field all = balls.size() == 1 ? balls.front() : field::join(std::move(balls));
  return body.material >= 0 ? all.made_of(body.material) : all;
}

std::span<const Knob<RoomBody>> room_body_knobs() {
  static const Knob<RoomBody> table[] = {
      knob<&RoomBody::body, &RollingBody::place>("at", "meters", {-1e6, 1e6},
                                                 "position at the start"),
      knob<&RoomBody::body, &RollingBody::velocity>("velocity", "meters a second", {-1e3, 1e3},
                                                    "velocity at the start"),
      knob<&RoomBody::body, &RollingBody::spin>("spin", "radians a second", {-1e3, 1e3},
                                                "angular velocity at the start, about x, y and z"),
      knob<&RoomBody::body, &RollingBody::mass>("mass", "kilograms", {0, 1e6, true},
                                                "mass of the whole body"),
      knob<&RoomBody::body, &RollingBody::bounce>(
          "bounce", "", {0, 1},
          "coefficient of restitution: share of the speed toward a surface that is kept"),
      knob<&RoomBody::body, &RollingBody::friction>("friction", "", {0, 100},
                                                    "coefficient of friction"),
  };
  return table;
}

std::span<const Knob<BodyBall>> body_ball_knobs() {
  static const Knob<BodyBall> table[] = {
      knob<&BodyBall::place>("at", "meters", {-1e3, 1e3},
                             "center of the ball in the body's own space"),
      knob<&BodyBall::radius>("radius", "meters", {0, 1e3, true}, "radius of the ball"),
  };
  return table;
}

Field solid_field(std::shared_ptr<const Solid> solid, bool opaque_only) {
  FieldFunction function;
  function.name = solid->summary();
  function.bounds = solid->bounds();
  function.slopes = true;
  function.values = [solid = std::move(solid), opaque_only](const SourceBatch<double>& batch) {
    solid->measure({.count = batch.count,
                    .x = batch.x,
                    .y = batch.y,
                    .z = batch.z,
                    .value = batch.value,
                    .slope_x = batch.slope_x,
                    .slope_y = batch.slope_y,
                    .slope_z = batch.slope_z,
                    .opaque_only = opaque_only});
  };
  return field::function(std::move(function));
}

namespace {

/// What bodies of a room roll on: its fields, and its other solids that know distances.
std::optional<CompiledField> ground_of(const Scene& scene, std::size_t room) {
  std::vector<Field> parts = scene.rooms.at(room).fields;
  for (const std::shared_ptr<const SolidPart>& part : scene.rooms[room].parts) {
    const std::shared_ptr<const Solid> solid = part->compile({.materials = scene.materials.size()});
    if (solid->knows_distances()) parts.push_back(solid_field(solid, false));
  }
  if (parts.empty()) return std::nullopt;
  return CompiledField(parts.size() == 1 ? parts.front() : field::join(std::move(parts)));
}

}  // namespace

void roll_bodies(Scene& scene, double from, double to, const RollSettings& settings,
                 const std::function<Scene(double time)>& scene_at) {
  for (std::size_t r = 0; r < scene.rooms.size(); ++r) {
    Room& room = scene.rooms[r];
    if (room.bodies.empty()) continue;
    const std::optional<CompiledField> ground = ground_of(scene, r);
    if (!ground) continue;
    std::vector<RollingBody> bodies;
    for (const RoomBody& body : room.bodies) bodies.push_back(body.body);
    if (scene_at) {
      const auto field_at = [&](double time) { return ground_of(scene_at(time), r).value(); };
      roll(field_at, bodies, from, to, settings, 0.02);
    } else {
      roll(*ground, bodies, to - from, settings);
    }
    for (std::size_t i = 0; i < bodies.size(); ++i) room.bodies[i].body = bodies[i];
  }
}

}  // namespace photonlane
