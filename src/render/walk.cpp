#include "photonlane/render/walk.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/field/field_body.hpp"

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

/// A body's moves between fields.
class AmongFields {
 public:
  /// `cells`: there is a floor at height 0 too.
  AmongFields(const CompiledField& field, bool cells, const Camera& camera,
              const WalkScript& script)
      : field_(field), cells_(cells), radius_(script.radius), step_(script.step) {
    const double eye = camera.eye.z();
    const double below = ground_below(field, camera.eye, most_drop);
    floats_ = !cells && below <= eye - most_drop;
    start_ = cells ? 0 : floats_ ? eye - 2 * radius_ - step_ : below;
    // Up to the eye, but for its own radius; at least a ball.
    height_ = std::max(0.0, eye - start_ - step_ - 2 * radius_);
  }

  /// After a move that nothing but cells hindered.
  Moved go(const WalkStep& from, const Moved& wanted, double seconds) const {
    const double foot = start_ + from.level;
    const FieldBody body{
        {from.place.x(), from.place.y(), foot + step_ + radius_}, radius_, height_, true};
    const Vec2d way = wanted.place - from.place;
    const FieldMoved moved = move_body(field_, body, {way.x(), way.y(), 0});
    Moved result = wanted;
    result.place = {moved.place.x(), moved.place.y()};
    result.contacts += moved.contacts;
    if (floats_) {
      result.level = from.level;
      return result;
    }
    // From as high as it steps down to the ground, or as far as it falls meanwhile.
    const double fall = std::max(fall_speed * seconds, step_);
    const double ground =
        ground_below(field_, {result.place.x(), result.place.y(), foot + step_}, step_ + fall);
    result.level = cells_ ? std::max(wanted.level, ground) : ground - start_;
    return result;
  }

 private:
  static constexpr double most_drop = 1000;  // meters
  static constexpr double fall_speed = 4;    // meters a second

  const CompiledField& field_;
  bool cells_;
  bool floats_ = false;
  double radius_, step_;
  double start_ = 0;
  double height_ = 0;
};

}  // namespace

std::span<const Knob<WalkMove>> walk_move_knobs() {
  static const Knob<WalkMove> table[] = {
      knob<&WalkMove::forward>("forward", "meters", {-10000, 10000},
                               "way along the heading; below 0 backward"),
      knob<&WalkMove::sideways>("sideways", "meters", {-10000, 10000},
                                "way to the right of the heading; below 0 to the left"),
      knob<&WalkMove::turn>("turn", "degrees", {-36000, 36000}, "turn to the left", degrees(1)),
      knob<&WalkMove::over>("over", "seconds", {0.001, 100000}, "time the move takes"),
  };
  return table;
}

std::span<const Knob<WalkScript>> walk_script_knobs() {
  static const Knob<WalkScript> table[] = {
      knob<&WalkScript::radius>("radius", "meters", {0, 1000, true}, "radius of the body"),
      knob<&WalkScript::step>("step", "meters", {0, 1000},
                              "how much higher than where it stands the body steps"),
      knob<&WalkScript::rate>("rate", "frames a second", {0, 1000, true}, "frames taken"),
  };
  return table;
}

namespace {

std::vector<WalkStep> play(const CellMap& map, bool cells, const CompiledField* field,
                           const Camera& camera, const WalkScript& script) {
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
  std::optional<AmongFields> among;
  if (field != nullptr) among.emplace(*field, cells, camera, script);

  WalkStep now{0, {camera.eye.x(), camera.eye.y()}, camera.heading, 0, 0, false, {}};
  now.level = cells ? standing_level(map, now.place) : 0;

  now.in_goal = in_cell(map, now.place, map.goal);
  std::vector<WalkStep> steps{now};
  const double interval = 1 / script.rate;
  double begin = 0;
  for (const WalkMove& move : script.moves) {
    // A frame falls into one move or goes over into the next: each move is walked in parts that
    // end at frames and at its own end.
    const double end = begin + move.over;
    changing.begin(move);
    while (now.time < end - 1e-9) {
      const double next = std::min(end, interval * (static_cast<double>(steps.size())));
      const double share = std::max(0.0, next - now.time) / move.over;
      const auto [sine, cosine] = sine_cosine(now.heading + 0.5 * share * move.turn);
      const Vec2d way =
          share * (move.forward * Vec2d(cosine, sine) + move.sideways * Vec2d(sine, -cosine));
      changing.advance(std::clamp((next - begin) / move.over, 0.0, 1.0));
      const double passed = std::max(0.0, next - now.time);
      Moved moved{.place = now.place + way, .level = 0};
      if (cells) {
        moved = move_body(changing.map(), {now.place, script.radius, script.step}, way);
      }
      if (among) moved = among->go(now, moved, passed);
      now.time = next;
      now.place = moved.place;
      now.level = moved.level;
      now.heading += share * move.turn;
      now.contacts += moved.contacts;
      now.in_goal = in_cell(map, now.place, map.goal);
      if (std::abs(next - interval * static_cast<double>(steps.size())) < 1e-9) {
        now.edits = changing.take_edits();
        steps.push_back(now);
        now.edits.clear();
        now.contacts = 0;
      }
    }
    begin = end;
  }
  if (now.time > steps.back().time + 1e-9) {
    now.edits = changing.take_edits();
    steps.push_back(now);
  }
  return steps;
}

}  // namespace

std::vector<WalkStep> walk(const CellMap& map, const Camera& camera, const WalkScript& script) {
  return play(map, true, nullptr, camera, script);
}

std::vector<WalkStep> walk(const World& world, const Camera& camera, const WalkScript& script) {
  const CompiledRoom& room = world.room();
  return play(room.cells->map(), !room.fields_only, room.near_field.get(), camera, script);
}

Camera camera_at(const Camera& camera, const WalkStep& step) {
  Camera moved = camera;
  moved.eye.x() = step.place.x();
  moved.eye.y() = step.place.y();
  moved.eye.z() += step.level;
  moved.heading = step.heading;
  return moved;
}

}  // namespace photonlane
