#include "photonlane/grid/body.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane {
namespace {

/// Distance kept from walls after a contact, as a share of a cell: more than rounding, less than
/// anybody sees.
constexpr double skin = 1e-6;

bool is_wall(const CellMap& map, std::int64_t x, std::int64_t y) {
  if (map.repeat) {
    x = ((x % map.width) + map.width) % map.width;
    y = ((y % map.height) + map.height) % map.height;
  }
  if (x < 0 || y < 0 || x >= map.width || y >= map.height) return true;
  return map.at(static_cast<int>(x), static_cast<int>(y)) != empty_cell;
}

/// The nearest point of a cell.
Vec2d nearest_in_cell(std::int64_t x, std::int64_t y, const Vec2d& place) {
  return {std::clamp(place.x(), static_cast<double>(x), static_cast<double>(x + 1)),
          std::clamp(place.y(), static_cast<double>(y), static_cast<double>(y + 1))};
}

struct Contact {
  double share = 1;  ///< of the way
  Vec2d normal{0, 0};
  bool met = false;
};

/// Where a disc moving along `way` first touches a cell: its center meets the cell grown by the
/// radius, whose corners are round.
void touch_cell(std::int64_t cell_x, std::int64_t cell_y, const Vec2d& from, const Vec2d& way,
                double radius, Contact& first) {
  const auto consider = [&](double share, const Vec2d& normal) {
    if (share < first.share && way.dot(normal) < 0) first = {share, normal, true};
  };
  const Vec2d near = nearest_in_cell(cell_x, cell_y, from);
  const double distance = (from - near).norm();
  if (distance < radius) {
    // Already closer than allowed: only moves that go no deeper are free.
    const Vec2d middle(static_cast<double>(cell_x) + 0.5, static_cast<double>(cell_y) + 0.5);
    const Vec2d out = distance > 0 ? Vec2d((from - near) / distance) : (from - middle).normalized();
    consider(0, out);
    return;
  }
  const Vec2d low(static_cast<double>(cell_x), static_cast<double>(cell_y));
  for (int axis = 0; axis < 2; ++axis) {
    if (way[axis] == 0) continue;
    const double face = way[axis] > 0 ? low[axis] - radius : low[axis] + 1 + radius;
    const double share = (face - from[axis]) / way[axis];
    const double across = from[1 - axis] + share * way[1 - axis];
    if (share >= 0 && across >= low[1 - axis] && across <= low[1 - axis] + 1) {
      Vec2d normal(0, 0);
      normal[axis] = way[axis] > 0 ? -1 : 1;
      consider(share, normal);
    }
  }
  const double square = way.squaredNorm();
  for (int corner = 0; corner < 4; ++corner) {
    const Vec2d point = low + Vec2d(corner & 1, corner >> 1);
    const Vec2d offset = from - point;
    const double half = offset.dot(way);
    const double rest = half * half - square * (offset.squaredNorm() - radius * radius);
    if (rest < 0 || square == 0) continue;
    const double share = (-half - std::sqrt(rest)) / square;
    if (share >= 0) consider(share, (offset + way * share).normalized());
  }
}

/// The first contact on a way of at most about a cell, all in cells.
Contact sweep(const CellMap& map, const Vec2d& from, const Vec2d& way, double radius) {
  Contact first;
  const Vec2d to = from + way;
  const auto low = [&](int axis) {
    return static_cast<std::int64_t>(std::floor(std::min(from[axis], to[axis]) - radius - skin));
  };
  const auto high = [&](int axis) {
    return static_cast<std::int64_t>(std::floor(std::max(from[axis], to[axis]) + radius + skin));
  };
  for (std::int64_t y = low(1); y <= high(1); ++y) {
    for (std::int64_t x = low(0); x <= high(0); ++x) {
      if (is_wall(map, x, y)) touch_cell(x, y, from, way, radius, first);
    }
  }
  return first;
}

}  // namespace

Moved move_body(const CellMap& map, const Body& body, const Vec2d& way) {
  if (!body.place.allFinite() || !way.allFinite() || !std::isfinite(body.radius) ||
      !(body.radius > 0)) {
    throw Error(ErrorKind::input, "a body needs a finite place, a finite way and a radius above 0");
  }
  const double radius = body.radius / map.cell_size;
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
    const Contact contact = sweep(map, place, piece, radius);
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
  return moved;
}

double wall_distance(const CellMap& map, const Vec2d& place, double most) {
  const Vec2d at = place / map.cell_size;
  const double reach = most / map.cell_size;
  double nearest = reach;
  for (auto y = static_cast<std::int64_t>(std::floor(at.y() - reach));
       y <= static_cast<std::int64_t>(std::floor(at.y() + reach)); ++y) {
    for (auto x = static_cast<std::int64_t>(std::floor(at.x() - reach));
         x <= static_cast<std::int64_t>(std::floor(at.x() + reach)); ++x) {
      if (is_wall(map, x, y)) {
        nearest = std::min(nearest, (at - nearest_in_cell(x, y, at)).norm());
      }
    }
  }
  return nearest * map.cell_size;
}

}  // namespace photonlane
