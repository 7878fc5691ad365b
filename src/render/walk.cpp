#include "photonlane/render/walk.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "photonlane/base/trigonometry.hpp"

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
      knob<&WalkScript::rate>("rate", "frames a second", {0, 1000, true}, "frames taken"),
  };
  return table;
}

std::vector<WalkStep> walk(const CellMap& map, const Camera& camera, const WalkScript& script) {
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
  WalkStep now{0, {camera.eye.x(), camera.eye.y()}, camera.heading, 0, 0, false, {}};
  now.level = standing_level(map, now.place);
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
      const Moved moved = move_body(changing.map(), {now.place, script.radius}, way);
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

Camera camera_at(const Camera& camera, const WalkStep& step) {
  Camera moved = camera;
  moved.eye.x() = step.place.x();
  moved.eye.y() = step.place.y();
  moved.eye.z() += step.level;
  moved.heading = step.heading;
  return moved;
}

}  // namespace photonlane
