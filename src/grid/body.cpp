#include "photonlane/grid/body.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

#include "grid/form_walk.hpp"

namespace photonlane {
namespace {

/// Distance kept from walls after a contact, as a share of a cell: more than rounding, less than
/// is visible.
constexpr double skin = 1e-6;

/// Looking for walls costs the square of the radius in cells, and a way its length.
constexpr double most_body_cells = 100;
constexpr double most_way_cells = 1e7;

/// Something upright a body meets: a box turned any way, in cells.
struct Obstacle {
  Vec2d center{0, 0};
  Vec2d along{1, 0};
  Vec2d half{0.5, 0.5};

  /// Into the box's own axes, and back.
  Vec2d inward(const Vec2d& v) const { return {v.dot(along), v.dot(across())}; }
  Vec2d outward(const Vec2d& v) const { return along * v.x() + across() * v.y(); }
  Vec2d across() const { return {-along.y(), along.x()}; }
  double distance(const Vec2d& place) const {
    const Vec2d at = inward(place - center);
    return (at - at.cwiseMax(-half).cwiseMin(half)).norm();
  }
};

/// What of a cell stands in the way of a body that steps up to `reach` meters high.
std::optional<Obstacle> obstacle_in(const CellMap& map, std::int64_t x, std::int64_t y,
                                    double reach) {
  const Vec2d corner(static_cast<double>(x), static_cast<double>(y));
  Obstacle whole{corner + Vec2d(0.5, 0.5)};
  if (map.repeat) {
    x = ((x % map.width) + map.width) % map.width;
    y = ((y % map.height) + map.height) % map.height;
  }
  if (x < 0 || y < 0 || x >= map.width || y >= map.height) return whole;
  const int column = static_cast<int>(x);
  const int row = static_cast<int>(y);
  if (map.at(column, row) == empty_cell) return std::nullopt;
  const CellForm* form = map.form(column, row);
  if (form == nullptr) return whole;
  if (form->passable) return std::nullopt;
  if (form->height > 0 && form->height <= reach) return std::nullopt;
  if (form->shape == CellShape::block) return whole;
  const PanelBox box = panel_box(*form, map.cell_size);
  if (!(box.half_length > 0)) return std::nullopt;
  return Obstacle{corner + Vec2d(box.center_x, box.center_y),
                  {box.along_x, box.along_y},
                  {box.half_length, box.half_width}};
}

struct Contact {
  double share = 1;  ///< of the way
  Vec2d normal{0, 0};
  bool met = false;
};

/// Where a disc moving along `way` first touches a box: its center meets the box grown by the
/// radius, whose corners are round.
void touch(const Obstacle& box, const Vec2d& disc, const Vec2d& disc_way, double radius,
           Contact& first) {
  const Vec2d from = box.inward(disc - box.center);
  const Vec2d way = box.inward(disc_way);
  const Vec2d& half = box.half;
  const auto consider = [&](double share, const Vec2d& normal) {
    if (share < first.share && way.dot(normal) < 0) first = {share, box.outward(normal), true};
  };
  const Vec2d near = from.cwiseMax(-half).cwiseMin(half);
  const double distance = (from - near).norm();
  if (distance < radius) {
    // Already closer than allowed: only moves that go no deeper are free.
    consider(0, distance > 0 ? Vec2d((from - near) / distance) : from.normalized());
    return;
  }
  for (int axis = 0; axis < 2; ++axis) {
    if (way[axis] == 0) continue;
    const double face = way[axis] > 0 ? -half[axis] - radius : half[axis] + radius;
    const double share = (face - from[axis]) / way[axis];
    const double across = from[1 - axis] + share * way[1 - axis];
    if (share >= 0 && std::abs(across) <= half[1 - axis]) {
      Vec2d normal(0, 0);
      normal[axis] = way[axis] > 0 ? -1 : 1;
      consider(share, normal);
    }
  }
  const double square = way.squaredNorm();
  for (int corner = 0; corner < 4; ++corner) {
    const Vec2d point((corner & 1) != 0 ? half.x() : -half.x(),
                      (corner & 2) != 0 ? half.y() : -half.y());
    const Vec2d offset = from - point;
    const double toward = offset.dot(way);
    const double rest = toward * toward - square * (offset.squaredNorm() - radius * radius);
    if (rest < 0 || square == 0) continue;
    const double share = (-toward - std::sqrt(rest)) / square;
    if (share >= 0) consider(share, (offset + way * share).normalized());
  }
}

/// Cells of a row or column of `count` that lie between `low` and `high` (in cells). Beyond the
/// edge of a map that does not repeat all is wall: one cell of it, or those about `place` where
/// that lies out there, stand for the rest.
struct CellRange {
  CellRange(double low, double high, double place, int count, bool repeat) {
    if (!repeat) {
      low = std::max(low, std::min(-1.0, place - 1));
      high = std::min(high, std::max<double>(count, place + 1));
    }
    first = static_cast<std::int64_t>(std::floor(low));
    last = static_cast<std::int64_t>(std::floor(high));
  }
  std::int64_t first;
  std::int64_t last;
};

/// The first contact on a way of at most about a cell, all in cells.
Contact sweep(const CellMap& map, const Vec2d& from, const Vec2d& way, double radius,
              double reach) {
  Contact first;
  const Vec2d to = from + way;
  // The square end of a turned door reaches out of its cell, by (sqrt(2) - 1) / 2 of its width.
  const double margin = map.forms.empty() ? skin : 0.11;
  const auto range = [&](int axis, int count) {
    return CellRange(std::min(from[axis], to[axis]) - radius - margin,
                     std::max(from[axis], to[axis]) + radius + margin, from[axis], count,
                     map.repeat);
  };
  const CellRange rows = range(1, map.height);
  const CellRange columns = range(0, map.width);
  for (std::int64_t y = rows.first; y <= rows.last; ++y) {
    for (std::int64_t x = columns.first; x <= columns.last; ++x) {
      if (const auto box = obstacle_in(map, x, y, reach)) touch(*box, from, way, radius, first);
      // Nothing is met before the start.
      if (first.share <= 0) return first;
    }
  }
  return first;
}

}  // namespace

double standing_level(const CellMap& map, const Vec2d& place) {
  double x = std::floor(place.x() / map.cell_size);
  double y = std::floor(place.y() / map.cell_size);
  if (map.repeat) {
    x -= map.width * std::floor(x / map.width);
    y -= map.height * std::floor(y / map.height);
  }
  if (!(x >= 0 && y >= 0 && x < map.width && y < map.height)) return 0;
  const int column = static_cast<int>(x);
  const int row = static_cast<int>(y);
  const CellForm* form = map.form(column, row);
  const bool low = map.at(column, row) != empty_cell && form != nullptr &&
                   form->shape == CellShape::block && !form->passable;
  return low ? form->height : 0;
}

Moved move_body(const CellMap& map, const Body& body, const Vec2d& way) {
  if (!body.place.allFinite() || !way.allFinite() || !std::isfinite(body.radius) ||
      !(body.radius > 0) || !std::isfinite(body.step)) {
    throw Error(ErrorKind::input, "a body needs a finite place, a finite way and a radius above 0");
  }
  const double radius = body.radius / map.cell_size;
  if (radius > most_body_cells) {
    throw Error(ErrorKind::input,
                fmt::format("a body of radius {} m is {:.0f} cells wide, expected at most {:.0f}",
                            body.radius, 2 * radius, 2 * most_body_cells));
  }
  if ((body.place / map.cell_size).cwiseAbs().maxCoeff() > most_way_cells ||
      (way / map.cell_size).cwiseAbs().maxCoeff() > most_way_cells) {
    throw Error(ErrorKind::input,
                fmt::format("a body at ({}, {}) m that moves by ({}, {}) m: expected numbers up to "
                            "{:.0f} cells",
                            body.place.x(), body.place.y(), way.x(), way.y(), most_way_cells));
  }
  Moved moved;
  Vec2d place = body.place / map.cell_size;
  Vec2d left = way / map.cell_size;
  // Long ways go piece by piece, so that each looks at few cells; contacts in corners and along
  // rows of cells are several to a piece, but cannot go on without end.
  const int most_contacts = 16;
  int in_piece = 0;
  Vec2d last_normal(0, 0);
  while (left.squaredNorm() > 1e-24) {
    const double length = left.norm();
    const Vec2d piece = left * std::min(1.0, 1.0 / length);
    const double reach = standing_level(map, place * map.cell_size) + body.step;
    const Contact contact = sweep(map, place, piece, radius, reach);
    if (!contact.met) {
      place += piece;
      left -= piece;
      in_piece = 0;
      last_normal = Vec2d(0, 0);
      continue;
    }
    ++moved.contacts;
    moved.normal = contact.normal;
    if (++in_piece > most_contacts) break;
    // Stop a hair before the wall, and go on along it.
    const double speed = -piece.dot(contact.normal);
    const double share = std::max(0.0, contact.share - skin / std::max(speed, skin));
    place += piece * share;
    left -= piece * share;
    left -= contact.normal * std::min(0.0, left.dot(contact.normal));
    // Between two walls that both push back there is no way on.
    if (left.dot(last_normal) < -1e-12) {
      left -= last_normal * left.dot(last_normal);
      if (left.dot(contact.normal) < -1e-12) break;
    }
    last_normal = contact.normal;
  }
  moved.place = place * map.cell_size;
  moved.level = standing_level(map, moved.place);
  return moved;
}

double wall_distance(const CellMap& map, const Vec2d& place, double most) {
  const Vec2d at = place / map.cell_size;
  const double reach = most / map.cell_size;
  double nearest = reach;
  const CellRange rows(at.y() - reach, at.y() + reach, at.y(), map.height, map.repeat);
  const CellRange columns(at.x() - reach, at.x() + reach, at.x(), map.width, map.repeat);
  for (std::int64_t y = rows.first; y <= rows.last; ++y) {
    for (std::int64_t x = columns.first; x <= columns.last; ++x) {
      if (const auto box = obstacle_in(map, x, y, 0))
        nearest = std::min(nearest, box->distance(at));
    }
  }
  return nearest * map.cell_size;
}

}  // namespace photonlane
