#include "world/room_bodies.hpp"

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

namespace {

/// What bodies of a room roll on.
CompiledField ground_of(const Room& room) {
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
      const auto field_at = [&](double time) { return ground_of(scene_at(time).rooms.at(r)); };
      roll(field_at, bodies, from, to, settings, 0.02);
    } else {
      roll(ground_of(room), bodies, to - from, settings);
    }
    for (std::size_t i = 0; i < bodies.size(); ++i) room.bodies[i].body = bodies[i];
  }
}

}  // namespace photonlane
