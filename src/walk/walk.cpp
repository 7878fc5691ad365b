#include "photonlane/walk/walk.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>
#include <utility>

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/field/field_body.hpp"
#include "walk/walk_space.hpp"

namespace photonlane {
namespace {

bool in_cell(const CellMap& map, const Vec2d& place, const std::optional<CellPlace>& cell) {
  if (!cell) return false;
  const auto wrapped = [&](double position, int side) {
    const double column = std::floor(position / map.cell_size);
    return map.repeat ? column - side * std::floor(column / side) : column;
  };
  return wrapped(place.x(), map.width) == cell->x && wrapped(place.y(), map.height) == cell->y;
}

/// The map while the script runs, and what of it changes.
class ChangingMap {
 public:
  explicit ChangingMap(const CellMap& map) : map_(map) {}

  const CellMap& map() const { return map_; }

  /// What happens at once, and where doors stand now.
  void begin(const WalkMove& move) {
    doors_.clear();
    for (const WalkEdit& edit : move.cells) {
      const CellPlace at = edit.place;
      if (at.x < 0 || at.y < 0 || at.x >= map_.width || at.y >= map_.height) {
        throw Error(ErrorKind::input, fmt::format("no cell at column {}, row {} of a map of {}x{}",
                                                  at.x, at.y, map_.width, map_.height));
      }
      if (edit.cell) change({at.x, at.y, *edit.cell});
      if (!edit.opening) continue;
      open_door(map_, at.x, at.y, *edit.opening);  // throws where there is none
      doors_.push_back({at, map_.form(at.x, at.y)->opening, *edit.opening});
    }
  }

  /// Doors as they stand after a share of the move.
  void advance(double share) {
    for (const Door& door : doors_) {
      change(open_door(map_, door.at.x, door.at.y, door.from + (door.to - door.from) * share));
    }
  }

  std::vector<CellEdit> take_edits() { return std::exchange(edits_, {}); }

 private:
  struct Door {
    CellPlace at;
    double from, to;
  };
  void change(const CellEdit& edit) {
    map_.at(edit.x, edit.y) = edit.cell;
    map_.set_form(edit.x, edit.y, edit.form);
    std::erase_if(edits_, [&](const CellEdit& one) { return one.x == edit.x && one.y == edit.y; });
    edits_.push_back(edit);
  }

  CellMap map_;
  std::vector<Door> doors_;
  std::vector<CellEdit> edits_;
};

/// The cells of a room, or a map of nothing.
const CellMap& map_of(const CompiledRoom& room) {
  static const CellMap nothing{.width = 1, .height = 1, .cells = {empty_cell}};
  return room.has_cells ? room.cells()->map() : nothing;
}

/// A body on its way through rooms.
class Walker {
 public:
  /// `world` null: a map alone.
  Walker(const World* world, const Camera& camera, const WalkScript& script)
      : world_(world), script_(script), eye_start_(camera.eye.z()) {
    now.place = {camera.eye.x(), camera.eye.y()};
    now.heading = camera.heading;
    eye_height_ = camera.eye.z();
    if (world == nullptr) return;
    now.room = world->room_index(camera.room);
    look_around(camera.eye);
    space_.emplace(*world_);
    if (const CompiledField* field = space_->around(now.room, camera.eye, 0);
        field != nullptr && !room().has_cells) {
      const double below = ground_below(*field, camera.eye, most_drop);
      floats_ = below <= eye_height_ - most_drop;
      foot_ = floats_ ? eye_height_ - 2 * script.radius - script.step : below;
      eye_height_ -= foot_;
    }
    // Up to the eye, but for its own radius; at least a ball.
    height_ = std::max(0.0, eye_height_ - script.step - 2 * script.radius);
  }

  WalkStep now;

  /// Where the map says the body stands, to start with.
  void stand(const CellMap& map) {
    if (!on_cells()) return;
    foot_ = standing_level(map, now.place);
    tell_level();
  }

  /// A move of so many meters ahead and to the right, at the size it had at the start. `first_map`
  /// is how the first room's cells are at the time.
  void go(double ahead, double aside, double turn, double seconds, const CellMap& first_map) {
    const double length = std::hypot(ahead, aside);
    if (seen_) look_around({now.place.x(), now.place.y(), foot_ + eye_height_ * now.scale});
    const bool portals = world_ != nullptr && !world_->portals().empty();
    const bool swells = world_ != nullptr && !room().swells.empty();
    const int parts =
        portals || swells
            ? std::max(1, static_cast<int>(std::ceil(length / (0.25 * script_.radius))))
            : 1;
    // Half the turn before the way, half after, so that it is the same from part to part.
    now.heading += 0.5 * turn;
    for (int part = 0; part < parts; ++part) {
      const auto [sine, cosine] = sine_cosine(now.heading);
      const Vec2d way =
          now.scale / parts * (ahead * Vec2d(cosine, sine) + aside * Vec2d(sine, -cosine));
      step(way, seconds / parts, now.room == 0 ? first_map : map_of(room()));
    }
    now.heading += 0.5 * turn;
    tell_level();
  }

 private:
  static constexpr double most_drop = 1000;  // meters
  static constexpr double fall_speed = 4;    // meters a second

  const CompiledRoom& room() const { return world_->rooms()[now.room]; }
  bool on_cells() const { return world_ == nullptr || room().has_cells; }
  void tell_level() { now.level = foot_ + eye_height_ * now.scale - eye_start_; }

  /// The way as the metric of a swell makes it.
  Vec2d swollen(const Vec2d& way) const {
    Vec3d moved(way.x(), way.y(), 0);
    for (const Swell& swell : room().swells) {
      const Vec3d place(now.place.x(), now.place.y(), foot_ + 0.5 * eye_height_ * now.scale);
      const double stretch = swell_factor(swell, place).stretch;
      const Vec3d axis = swell.axis.normalized();
      moved += (1 / stretch - 1) * axis.dot(moved) * axis;
    }
    return {moved.x(), moved.y()};
  }

  void step(Vec2d way, double seconds, const CellMap& map) {
    const double scale = now.scale;
    const double radius = script_.radius * scale;
    const double step_up = script_.step * scale;
    if (world_ != nullptr && !room().swells.empty()) way = swollen(way);
    Moved moved{.place = now.place + way, .level = 0};
    if (on_cells()) moved = move_body(map, {now.place, radius, step_up}, way);
    // The middle of the body is what goes through portals.
    const double middle = step_up + radius + 0.5 * height_ * scale;
    const Vec3d from(now.place.x(), now.place.y(), foot_ + middle);
    double foot = on_cells() ? moved.level : foot_;
    if (const CompiledField* field =
            space_ ? space_->around(now.room, from, 1.5 * radius) : nullptr) {
      const FieldBody body{
          {now.place.x(), now.place.y(), foot_ + step_up + radius}, radius, height_ * scale, true};
      const Vec2d rest = moved.place - now.place;
      const FieldMoved among = move_body(*field, body, {rest.x(), rest.y(), 0});
      moved.place = {among.place.x(), among.place.y()};
      moved.contacts += among.contacts;
      if (!floats_) {
        // From as high as it steps down to the ground, or as far as it falls meanwhile.
        const double fall = std::max(fall_speed * seconds, step_up);
        const double ground = ground_below(
            *field, {moved.place.x(), moved.place.y(), foot_ + step_up}, step_up + fall);
        foot = on_cells() ? std::max(moved.level, ground) : ground;
      }
    }
    now.contacts += moved.contacts;
    now.place = moved.place;
    foot_ = foot;
    if (world_ == nullptr || world_->portals().empty()) return;
    const auto [sine, cosine] = sine_cosine(now.heading);
    const Carried carried =
        carry(*world_, now.room, from, {moved.place.x(), moved.place.y(), foot + middle},
              {cosine, sine, 0});
    if (carried.crossings == 0) return;
    now.room = carried.room;
    now.place = {carried.place.x(), carried.place.y()};
    now.scale *= carried.scale;
    now.crossings += carried.crossings;
    foot_ = carried.place.z() - middle * carried.scale;
    if (std::hypot(carried.heading.x(), carried.heading.y()) > 1e-9) {
      const double turned = std::atan2(carried.heading.y(), carried.heading.x()) - now.heading;
      now.heading += turned - 2 * pi * std::round(turned / (2 * pi));
    }
  }

  /// Has all made that is made around an eye, where there is such.
  void look_around(const Vec3d& eye) {
    Camera camera;
    camera.room = room().name;
    camera.eye = eye;
    World next = seen_by(seen_ ? *seen_ : *world_, camera, true);
    const auto& field = next.rooms()[now.room].near_field;
    if (!seen_ && field == room().near_field) return;
    const bool other = !seen_ || field != room().near_field;
    seen_ = std::move(next);
    world_ = &*seen_;
    if (other && space_) space_.emplace(*world_);
  }

  const World* world_;
  std::optional<World> seen_;  ///< by the body, of a world that is made around it
  const WalkScript& script_;
  std::optional<WalkSpace> space_;
  double eye_start_;
  double eye_height_ = 0;  ///< above the foot, at the size of the start
  double height_ = 0;      ///< of the capsule
  double foot_ = 0;        ///< where it stands, in its room
  bool floats_ = false;
};

}  // namespace

std::span<const Knob<WalkMove>> walk_move_knobs() {
  static const Knob<WalkMove> table[] = {
      knob<&WalkMove::forward>("forward", "meters", {-10000, 10000},
                               "distance along the heading; below 0 backward"),
      knob<&WalkMove::sideways>("sideways", "meters", {-10000, 10000},
                                "distance to the right of the heading; below 0 to the left"),
      knob<&WalkMove::turn>("turn", "degrees", {-36000, 36000}, "turn to the left", degrees(1)),
      knob<&WalkMove::over>("over", "seconds", {0.001, 100000}, "duration of the move"),
  };
  return table;
}

std::span<const Knob<WalkScript>> walk_script_knobs() {
  static const Knob<WalkScript> table[] = {
      knob<&WalkScript::radius>("radius", "meters", {0, 1000, true}, "radius of the body"),
      knob<&WalkScript::step>("step", "meters", {0, 1000}, "height of a step the body can climb"),
      knob<&WalkScript::rate>("rate", "frames a second", {0, 1000, true},
                              "frames of the walk per second"),
  };
  return table;
}

namespace {

std::vector<WalkStep> play(const CellMap& map, const World* world, const Camera& camera,
                           const WalkScript& script) {
  validate_knobs(walk_script_knobs(), script);
  double length = 0;
  for (const WalkMove& move : script.moves) {
    validate_knobs(walk_move_knobs(), move);
    length += move.over;
  }
  if (length * script.rate > 1e6) {
    throw Error(ErrorKind::input, fmt::format("a walk of {:.0f} frames, expected at most 1000000",
                                              length * script.rate));
  }
  ChangingMap changing(map);
  Walker walker(world, camera, script);
  WalkStep& now = walker.now;
  walker.stand(now.room == 0 || world == nullptr ? map : map_of(world->rooms()[now.room]));
  const auto goal = [&] { return now.room == 0 && in_cell(map, now.place, map.goal); };
  now.in_goal = goal();
  std::vector<WalkStep> steps{now};
  const double interval = 1 / script.rate;
  double begin = 0;
  const auto keep = [&] {
    now.edits = changing.take_edits();
    steps.push_back(now);
    now.edits.clear();
    now.contacts = 0;
    now.crossings = 0;
  };
  for (const WalkMove& move : script.moves) {
    // A frame falls into one move or goes over into the next: each move is walked in parts that
    // end at frames and at its own end.
    const double end = begin + move.over;
    changing.begin(move);
    while (now.time < end - 1e-9) {
      const double next = std::min(end, interval * (static_cast<double>(steps.size())));
      const double share = std::max(0.0, next - now.time) / move.over;
      changing.advance(std::clamp((next - begin) / move.over, 0.0, 1.0));
      walker.go(share * move.forward, share * move.sideways, share * move.turn,
                std::max(0.0, next - now.time), changing.map());
      now.time = next;
      now.in_goal = goal();
      if (std::abs(next - interval * static_cast<double>(steps.size())) < 1e-9) keep();
    }
    begin = end;
  }
  if (now.time > steps.back().time + 1e-9) keep();
  return steps;
}

}  // namespace

std::vector<WalkStep> walk(const CellMap& map, const Camera& camera, const WalkScript& script) {
  return play(map, nullptr, camera, script);
}

std::vector<WalkStep> walk(const World& world, const Camera& camera, const WalkScript& script) {
  if (world.plane() != nullptr) throw Error(ErrorKind::usage, "nobody walks in a plane");
  return play(map_of(world.room()), &world, camera, script);
}

Camera camera_at(const Camera& camera, const WalkStep& step) {
  Camera moved = camera;
  moved.eye.x() = step.place.x();
  moved.eye.y() = step.place.y();
  moved.eye.z() += step.level;
  moved.heading = step.heading;
  return moved;
}

Camera camera_at(const World& world, const Camera& camera, const WalkStep& step) {
  Camera moved = camera_at(camera, step);
  moved.room = world.rooms()[step.room].name;
  return moved;
}

}  // namespace photonlane
