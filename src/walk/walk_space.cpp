#include "walk/walk_space.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

namespace photonlane {
namespace {

/// A field moved, turned and scaled.
Field moved(const Similarity& by, Field field) {
  const Eigen::Matrix3d& turn = by.turn;
  // About x, then y, then z.
  const double y = -std::asin(std::clamp(turn(2, 0), -1.0, 1.0));
  const bool upright = std::abs(turn(2, 0)) < 1 - 1e-12;
  const double x = upright ? std::atan2(turn(2, 1), turn(2, 2)) : 0;
  const double z =
      upright ? std::atan2(turn(1, 0), turn(0, 0)) : std::atan2(-turn(0, 1), turn(1, 1));
  return field::place(by.shift, std::move(field), {x, y, z}, by.scale);
}

/// The room within a face's opening, from so far before it to so far beyond.
Field within_opening(const PortalFace& face, bool from_front, double before, double beyond) {
  if (face.shape == OpeningShape::sphere) {
    const Field ball = field::place(face.middle, field::sphere(face.radius));
    return from_front ? ball : field::invert(ball);
  }
  const double depth = before + beyond;
  const double middle = 0.5 * (from_front ? before - beyond : beyond - before);
  // Figures are extruded along z.
  Similarity frame;
  frame.turn.col(0) = face.across;
  frame.turn.col(1) = face.up;
  frame.turn.col(2) = face.normal;
  frame.shift = face.middle;
  const Field figure = face.shape == OpeningShape::rectangle
                           ? field::rectangle(2 * face.half_width, 2 * face.half_height)
                       : face.shape == OpeningShape::disc ? field::circle(face.radius)
                                                          : field::outline(face.corners);
  return moved(frame, field::place({0, 0, middle}, field::extrude(depth, figure)));
}

/// What a face shows as a surface: all of it from behind where it is shut, else its rim, which may
/// be none. As thick as `thick`.
std::optional<Field> surface_of(const PortalFace& face, bool all, double thick) {
  if (!all && !(face.rim > 0)) return std::nullopt;
  if (face.shape == OpeningShape::sphere) {
    if (!all) return std::nullopt;
    return field::place(face.middle, field::shell(thick, field::sphere(face.radius)));
  }
  const auto figure = [&](double inset) -> std::optional<Field> {
    const double least = face.shape == OpeningShape::rectangle
                             ? std::min(face.half_width, face.half_height)
                             : face.border(0, 0);
    if (!(inset < least)) return std::nullopt;
    switch (face.shape) {
      case OpeningShape::rectangle:
        return field::rectangle(2 * (face.half_width - inset), 2 * (face.half_height - inset));
      case OpeningShape::disc:
        return field::circle(face.radius - inset);
      default:
        return inset > 0 ? field::offset(-inset, field::outline(face.corners))
                         : field::outline(face.corners);
    }
  };
  Field shown = *figure(0);
  if (const std::optional<Field> open = all ? std::nullopt : figure(face.rim)) {
    shown = field::carve({shown, *open});
  }
  Similarity frame;
  frame.turn.col(0) = face.across;
  frame.turn.col(1) = face.up;
  frame.turn.col(2) = face.normal;
  frame.shift = face.middle;
  return moved(frame, field::extrude(thick, std::move(shown)));
}

/// The parts of sharp joins, each by itself.
void take_apart(const Field& field, std::vector<Field>& parts) {
  if (field.kind() == FieldKind::join && field.numbers().front() == 0) {
    for (const Field& part : field.parts()) take_apart(part, parts);
  } else {
    parts.push_back(field);
  }
}

/// Places all over an opening, a little off it.
std::vector<Vec3d> over_opening(const PortalFace& face, double off) {
  if (face.shape == OpeningShape::sphere) return {};
  std::vector<Vec3d> places = face.places(0);
  for (Vec3d& place : places) place += off * face.normal;
  return places;
}

/// Of places on the far side of an opening those whose neighbors on the near side are free: what is
/// hidden, below a floor or in a wall, cannot be reached.
std::vector<Vec3d> reached(const std::optional<Field>& near_side, const std::vector<Vec3d>& near,
                           const std::vector<Vec3d>& far) {
  if (!near_side || near.empty()) return far;
  const CompiledField field(*near_side);
  const std::vector<double> values = field.distances(near);
  std::vector<Vec3d> result;
  for (std::size_t i = 0; i < far.size(); ++i) {
    if (values[i] > 0) result.push_back(far[i]);
  }
  return result;
}

/// What is left of fields where an opening is cut through what stands behind it: parts that do are
/// cut on both sides, since what is cut off is farther away than its surface was, others where
/// `cut` says.
Field cut_open(const Field& field, const std::vector<Vec3d>& behind, const Field& through,
               const Field* cut) {
  std::vector<Field> parts;
  take_apart(field, parts);
  for (Field& part : parts) {
    const CompiledField asked(part);
    const bool wall = std::any_of(behind.begin(), behind.end(),
                                  [&](const Vec3d& place) { return asked.distance(place) < 0; });
    if (wall) {
      part = field::carve({part, through});
    } else if (cut != nullptr) {
      part = field::carve({part, *cut});
    }
  }
  return parts.size() == 1 ? parts.front() : field::join(std::move(parts));
}

/// From beyond a face to where it is seen here; of stretched ones as it is close to the face.
Similarity from_beyond(const PortalFace& face) {
  Similarity map = face.map;
  if (face.stretched()) map.shift = face.beyond(face.middle) - map.scale * map.turn * face.middle;
  return map.inverse();
}

}  // namespace

const CompiledField* WalkSpace::around(std::size_t room, const Vec3d& place, double reach) {
  const CompiledRoom& here = world_.rooms()[room];
  Key key{room, {}, 0};
  if (here.portals) {
    const auto faces = here.portals->faces();
    for (std::size_t f = 0; f < faces.size(); ++f) {
      const PortalFace& face = faces[f];
      if (face.swell >= 0) continue;
      const Vec3d off = place - face.middle;
      const bool ball = face.shape == OpeningShape::sphere;
      const double away = ball ? off.norm() - face.radius : off.dot(face.normal);
      const double border = face.border(off.dot(face.across), off.dot(face.up));
      if (std::abs(away) > reach || border < -reach) continue;
      const bool open = away >= 0 ? face.front : face.back;
      if (!open && !(face.shut && away < 0)) continue;
      key.faces.push_back({static_cast<std::int32_t>(f), away >= 0, open});
    }
  }
  if (key.faces.empty()) return here.near_field.get();
  key.reach = reach;
  std::shared_ptr<const CompiledField>& known = known_[key];
  if (!known) known = put_together(key);
  return known.get();
}

std::shared_ptr<const CompiledField> WalkSpace::put_together(const Key& key) const {
  const CompiledRoom& here = world_.rooms()[key.room];
  std::optional<Field> own;
  if (here.near_field) own = here.near_field->field();
  std::vector<Field> parts;
  for (const Near& near : key.faces) {
    const PortalFace& face = here.portals->faces()[static_cast<std::size_t>(near.face)];
    const double thick = 0.1 * key.reach;
    if (const auto surface = surface_of(face, !near.open, thick)) parts.push_back(*surface);
    if (!near.open) continue;
    // A body's middle is beyond the face before more of it is than it reaches.
    const double far = 3 * key.reach;
    const double sign = near.from_front ? 1 : -1;
    const double little = 0.02 * key.reach;
    const Field behind = within_opening(face, near.from_front, 0, far);
    const Field through = within_opening(face, near.from_front, 2 * key.reach, far);
    const std::vector<Vec3d> before = over_opening(face, sign * little);
    const std::vector<Vec3d> past = over_opening(face, -sign * little);
    const std::vector<Vec3d> walls = reached(own, before, past);
    // An opening of which nothing is free leads nowhere.
    if (own && !past.empty() && walls.empty()) continue;
    if (own) own = cut_open(*own, walls, through, &behind);
    const CompiledRoom& there = world_.rooms()[face.room];
    if (!there.near_field) continue;
    const Similarity back = from_beyond(face);
    const Similarity to_there = back.inverse();
    std::vector<Vec3d> arrival = before;
    std::vector<Vec3d> arrived = past;
    for (Vec3d& place : arrival) place = to_there.place(place);
    for (Vec3d& place : arrived) place = to_there.place(place);
    arrival = reached(there.near_field->field(), arrived, arrival);
    const Field open =
        cut_open(there.near_field->field(), arrival, moved(back.inverse(), through), nullptr);
    parts.push_back(field::meet({behind, moved(back, open)}));
  }
  if (own) parts.push_back(*own);
  if (parts.empty()) {
    // Nothing stands anywhere near: a ball out of reach.
    parts.push_back(field::place({0, 0, -1e6}, field::sphere(1)));
  }
  return std::make_shared<const CompiledField>(parts.size() == 1 ? parts.front()
                                                                 : field::join(std::move(parts)));
}

Carried carry(const World& world, std::size_t room, const Vec3d& from, const Vec3d& to,
              const Vec3d& heading) {
  // Enough for any move that gets anywhere.
  constexpr int most = 64;
  Carried result{room, to, heading, 1, 0};
  Vec3d start = from;
  std::int32_t came_out = -1;
  while (result.crossings < most) {
    const CompiledRoom& here = world.rooms()[result.room];
    if (!here.portals) break;
    const Vec3d rest = result.place - start;
    const double length = rest.norm();
    if (!(length > 0)) break;
    const Vec3d way = rest / length;
    const auto faces = here.portals->faces();
    double nearest = length;
    std::int32_t met = -1;
    for (std::size_t f = 0; f < faces.size(); ++f) {
      const auto index = static_cast<std::int32_t>(f);
      if (faces[f].swell >= 0) continue;
      const double at = faces[f].meet(start, way, 0, index == came_out);
      const bool shut = faces[f].shut && faces[f].normal.dot(way) > 0;
      if (at > nearest || shut) continue;
      nearest = at;
      met = index;
    }
    if (met < 0) break;
    const PortalFace& face = faces[static_cast<std::size_t>(met)];
    const Vec3d at = start + nearest * way;
    const Crossing crossing = here.portals->cross(met, at, way);
    if (crossing.turned_back) {
      // A body is not reflected: its way ends there.
      result.place = start + std::max(0.0, nearest - 1e-6) * way;
      break;
    }
    // A little on, so as to be beyond the face for sure.
    start = crossing.place;
    result.place = start + std::max((length - nearest) * crossing.scale, 1e-9) * crossing.way;
    // As a lane of that heading would go on: bent where the sides of a box are.
    const double ahead = result.heading.dot(way);
    const Vec3d looks = ahead < 0 ? Vec3d(-result.heading) : result.heading;
    const Crossing turned = here.portals->cross(met, at, looks);
    const bool bends = face.stretched() && std::abs(ahead) > 1e-6 && !turned.turned_back;
    result.heading = !bends      ? face.map.direction(result.heading)
                     : ahead < 0 ? Vec3d(-turned.way)
                                 : turned.way;
    result.scale *= crossing.scale;
    result.room = crossing.room;
    came_out = crossing.twin;
    ++result.crossings;
  }
  return result;
}

}  // namespace photonlane
