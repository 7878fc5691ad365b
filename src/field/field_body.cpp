#include "photonlane/field/field_body.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace photonlane {
namespace {

constexpr double close = 1e-4;  // meters: nearer is touching

void check(const FieldBody& body) {
  if (!(body.radius > 0 && body.radius <= 1e6) || !(body.height >= 0 && body.height <= 1e6) ||
      !body.place.allFinite()) {
    throw Error(ErrorKind::input,
                fmt::format("a body of radius {} and height {}, expected a radius above 0 and a "
                            "height of at least 0",
                            body.radius, body.height));
  }
}

/// What is around a body, and how far it can go whatever the way without the middle of one of its
/// balls going through a surface.
struct Around {
  FieldContact contact;
  double free = 0;
};

/// What is around some bodies, asked together.
std::vector<Around> look(const CompiledField& field, std::span<const FieldBody> bodies,
                         const std::vector<std::size_t>& which) {
  std::vector<Vec3d> places;
  std::vector<std::size_t> first;
  for (const std::size_t i : which) {
    first.push_back(places.size());
    const FieldBody& body = bodies[i];
    const auto more = static_cast<std::size_t>(std::ceil(body.height / (0.5 * body.radius)));
    for (std::size_t k = 0; k <= more; ++k) {
      const double share = more == 0 ? 0 : static_cast<double>(k) / static_cast<double>(more);
      places.push_back(body.place + Vec3d(0, 0, share * body.height));
    }
  }
  first.push_back(places.size());
  const std::vector<FieldSlope> slopes = field.slopes(places);
  std::vector<Around> result(which.size());
  for (std::size_t k = 0; k < which.size(); ++k) {
    const FieldBody& body = bodies[which[k]];
    double nearest = std::numeric_limits<double>::infinity();
    double least = nearest;
    for (std::size_t p = first[k]; p < first[k + 1]; ++p) {
      const double steep = slopes[p].gradient.norm();
      // Values that are bounds of distances grow slower.
      const double away = steep > 1e-3 ? slopes[p].value / steep : slopes[p].value;
      least = std::min(least, slopes[p].value);
      if (!(away < nearest)) continue;
      nearest = away;
      result[k].contact = {away - body.radius,
                           steep > 1e-9 ? Vec3d(slopes[p].gradient / steep) : Vec3d(0, 0, 1),
                           places[p].z() - body.place.z()};
    }
    result[k].free = std::max(least, 0.0) / field.field().stretch();
  }
  return result;
}

/// A body on its way.
class Mover {
 public:
  Mover(FieldBody body, const Vec3d& way) : body_(body), rest_(way), good_(body.place) {
    moved_.place = body.place;
  }

  const FieldBody& body() const { return body_; }
  FieldMoved result() const {
    FieldMoved moved = moved_;
    // Where it was last pushed, it may still reach into something.
    moved.place = clear_ ? good_ : body_.place;
    return moved;
  }
  /// Stops it where it is: it took as many steps as there are.
  void give_up() { moved_.left = rest_.norm(); }

  /// Goes on by what is around it; true where there is way left.
  bool go(const Around& around) {
    FieldContact contact = around.contact;
    if (body_.keeps_height && !flatten(contact)) return false;
    if (!clear_) {
      if (contact.gap < -close && pushes_ < most_pushes) {
        push_out(contact);
        return true;
      }
      if (contact.gap < -0.05 * body_.radius) {
        moved_.stuck = true;
        return false;
      }
      clear_ = true;
    } else if (contact.gap < -close) {
      slide(contact.normal);
      if (pushes_ < most_corrections) {
        push_out(contact);
        return true;
      }
      // Between surfaces that push it into one another: back, and on by less.
      body_.place = good_;
      const double way = rest_.norm();
      limit_ = 0.5 * std::min(limit_, way);
      pushes_ = 0;
      if (limit_ > least_step) return true;
      rest_.setZero();
      return false;
    } else {
      limit_ *= 2;
    }
    good_ = body_.place;
    pushes_ = 0;
    double most = around.free - body_.radius;
    if (contact.touching()) {
      slide(contact.normal);
      most = 0.9 * around.free;
    } else {
      // Up to the surface; where values are less than distances never more than is surely free.
      most = std::max(most, std::min(contact.gap, 0.5 * around.free));
    }
    const double left = rest_.norm();
    if (left < 1e-9) return false;
    const double step = std::min({left, std::max(most, least_step), limit_});
    const Vec3d way = rest_ / left;
    body_.place += step * way;
    rest_ -= step * way;
    return true;
  }

 private:
  /// Pushes out of what a body began in, and of what it reaches into after a step.
  static constexpr int most_pushes = 64;
  static constexpr int most_corrections = 8;
  static constexpr double least_step = 1e-6;  // meters

  /// Out along the gradient, at most by its own size at once.
  void push_out(const FieldContact& contact) {
    ++pushes_;
    body_.place += std::min(-contact.gap, body_.radius) * contact.normal;
  }

  /// Of what is met only what is beside the body pushes it; floors and ceilings end its way up or
  /// down. False where it has to stop: in a surface so level that nothing of it is beside.
  bool flatten(FieldContact& contact) {
    const Vec3d normal = contact.normal;
    contact.normal.z() = 0;
    const double beside = contact.normal.norm();
    const bool level = std::abs(normal.z()) > beside;
    if (contact.touching() && level && normal.z() * rest_.z() < 0) rest_.z() = 0;
    if (beside >= 0.01) {
      contact.normal /= beside;
      contact.gap /= contact.gap < 0 ? beside : 1;
      return true;
    }
    if (clear_ && contact.gap < -0.5 * body_.radius) {
      ++moved_.contacts;
      moved_.normal = normal;
      return false;
    }
    contact.gap = std::max(contact.gap, 2 * close);
    contact.normal = {0, 0, 0};
    return true;
  }

  /// What of the way leads into a surface is lost, and where two meet all but what leads along
  /// both.
  void slide(const Vec3d& normal) {
    const double into = rest_.dot(normal);
    if (into >= 0) return;
    const bool other = moved_.contacts == 0 || normal.dot(moved_.normal) < 0.999;
    const Vec3d before = moved_.normal;
    rest_ -= into * normal;
    if (other) {
      ++moved_.contacts;
      if (moved_.contacts > 1 && rest_.dot(before) < -1e-9 * rest_.norm()) {
        const Vec3d along = normal.cross(before);
        const double length = along.norm();
        rest_ =
            length > 1e-6 ? Vec3d(rest_.dot(along) / (length * length) * along) : Vec3d(0, 0, 0);
      }
      moved_.normal = normal;
    }
  }

  FieldBody body_;
  Vec3d rest_;
  Vec3d good_;  ///< the last place at which it reached into nothing
  FieldMoved moved_;
  bool clear_ = false;                                      ///< out of what it began in
  double limit_ = std::numeric_limits<double>::infinity();  ///< of a step
  int pushes_ = 0;
};

}  // namespace

FieldContact contact(const CompiledField& field, const FieldBody& body) {
  return contacts(field, {&body, 1}).front();
}

std::vector<FieldContact> contacts(const CompiledField& field, std::span<const FieldBody> bodies) {
  for (const FieldBody& body : bodies) check(body);
  std::vector<std::size_t> all(bodies.size());
  std::iota(all.begin(), all.end(), std::size_t{0});
  std::vector<FieldContact> result;
  for (const Around& around : look(field, bodies, all)) result.push_back(around.contact);
  return result;
}

FieldMoved move_body(const CompiledField& field, const FieldBody& body, const Vec3d& way) {
  return move_bodies(field, {&body, 1}, {&way, 1}).front();
}

std::vector<FieldMoved> move_bodies(const CompiledField& field, std::span<const FieldBody> bodies,
                                    std::span<const Vec3d> ways) {
  if (bodies.size() != ways.size()) {
    throw Error(ErrorKind::input,
                fmt::format("{} bodies to be moved by {} ways", bodies.size(), ways.size()));
  }
  std::vector<Mover> movers;
  std::vector<std::size_t> going;
  for (std::size_t i = 0; i < bodies.size(); ++i) {
    check(bodies[i]);
    if (!ways[i].allFinite()) throw Error(ErrorKind::input, "a way that is not finite");
    movers.emplace_back(bodies[i], ways[i]);
    going.push_back(i);
  }
  std::vector<FieldBody> now(bodies.begin(), bodies.end());
  constexpr int most_rounds = 1'000'000;
  for (int round = 0; round < most_rounds && !going.empty(); ++round) {
    for (const std::size_t i : going) now[i] = movers[i].body();
    const std::vector<Around> around = look(field, now, going);
    std::vector<std::size_t> left;
    for (std::size_t k = 0; k < going.size(); ++k) {
      if (movers[going[k]].go(around[k])) left.push_back(going[k]);
    }
    going = std::move(left);
  }
  for (const std::size_t i : going) movers[i].give_up();
  std::vector<FieldMoved> result;
  for (const Mover& mover : movers) result.push_back(mover.result());
  return result;
}

double ground_below(const CompiledField& field, const Vec3d& place, double drop) {
  double down = 0;
  for (int step = 0; step < 10000 && down < drop; ++step) {
    const double value = field.distance(place - Vec3d(0, 0, down)) / field.field().stretch();
    if (value < 1e-5) return place.z() - down;
    down += value;
  }
  return place.z() - drop;
}

}  // namespace photonlane
