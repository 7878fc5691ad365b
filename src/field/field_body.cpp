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
  Mover(FieldBody body, const Vec3d& way) : body_(body), rest_(way) { moved_.place = body.place; }

  const FieldBody& body() const { return body_; }
  FieldMoved result() const {
    FieldMoved moved = moved_;
    moved.place = body_.place;
    return moved;
  }

  /// Goes on by what is around it; true where there is way left.
  bool go(const Around& around) {
    FieldContact contact = around.contact;
    if (body_.keeps_height) flatten(contact);
    if (contact.gap < -close && pushes_ < most_pushes) {
      // Out along the gradient, at most by its own size at once.
      ++pushes_;
      body_.place += std::min(-contact.gap, body_.radius) * contact.normal;
      return true;
    }
    if (contact.gap < -0.05 * body_.radius) {
      moved_.stuck = true;
      return false;
    }
    double most = around.free - body_.radius;
    if (contact.touching()) {
      slide(contact.normal);
      most = std::min(0.25 * body_.radius, 0.5 * around.free);
    } else {
      // Up to the surface; where values are less than distances never more than is surely free.
      most = std::max(most, std::min(contact.gap, 0.5 * around.free));
    }
    const double left = rest_.norm();
    if (left < 1e-9) return false;
    const double step = std::min(left, std::max(most, 1e-6));
    const Vec3d way = rest_ / left;
    body_.place += step * way;
    rest_ -= step * way;
    pushes_ = 0;
    return left - step > 1e-9 || contact.touching();
  }

 private:
  static constexpr int most_pushes = 32;

  /// Of what is met only what is beside the body matters.
  static void flatten(FieldContact& contact) {
    contact.normal.z() = 0;
    const double beside = contact.normal.norm();
    if (beside < 0.05) {
      contact.gap = std::max(contact.gap, 2 * close);
      contact.normal = {0, 0, 0};
      return;
    }
    contact.normal /= beside;
    contact.gap /= contact.gap < 0 ? beside : 1;
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
  FieldMoved moved_;
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
  constexpr int most_rounds = 20000;
  for (int round = 0; round < most_rounds && !going.empty(); ++round) {
    for (const std::size_t i : going) now[i] = movers[i].body();
    const std::vector<Around> around = look(field, now, going);
    std::vector<std::size_t> left;
    for (std::size_t k = 0; k < going.size(); ++k) {
      if (movers[going[k]].go(around[k])) left.push_back(going[k]);
    }
    going = std::move(left);
  }
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
