#include "room/portal_faces.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace photonlane {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

}  // namespace

double PortalFace::border(double y, double z) const {
  switch (shape) {
    case OpeningShape::rectangle:
      return std::min(half_width - std::abs(y), half_height - std::abs(z));
    case OpeningShape::disc:
      return radius - std::sqrt(y * y + z * z);
    case OpeningShape::polygon: {
      double nearest = infinite;
      for (std::size_t i = 0; i < corners.size(); ++i) {
        const Vec2d& at = corners[i];
        const Vec2d way = (corners[(i + 1) % corners.size()] - at).normalized();
        nearest = std::min(nearest, way.x() * (z - at.y()) - way.y() * (y - at.x()));
      }
      return nearest;
    }
    default:
      return infinite;
  }
}

double PortalFace::meet(const Vec3d& from, const Vec3d& way, double start, bool came_out) const {
  if (shape == OpeningShape::sphere) {
    const Vec3d off = from - middle;
    if (swell >= 0) {
      if (came_out) return infinite;
      // Lanes that start inside are bent from their start.
      if (off.squaredNorm() < radius * radius) return start + 1e-7;
    }

    const double b = off.dot(way);
    // The nearest place of the line, rather than a difference of squares.
    const double root = radius * radius - (off - b * way).squaredNorm();
    if (root < 0) return infinite;
    const double half = std::sqrt(root);
    if (front && !came_out && -b - half > start) return -b - half;
    const double far = -b + half;
    return (back || shut) && far > (came_out ? std::max(start, 1e-6 * radius) : start) ? far
                                                                                       : infinite;
  }
  const double toward = normal.dot(way);
  if (came_out || !(toward < 0 ? front : back || shut)) return infinite;
  const double t = (middle - from).dot(normal) / toward;
  if (!(t > start) || !(t < infinite)) return infinite;
  const Vec3d at = from + t * way - middle;
  return border(at.dot(across), at.dot(up)) >= 0 ? t : infinite;
}

std::vector<Vec3d> PortalFace::places(double inset) const {
  std::vector<Vec3d> result;
  const double wide = shape == OpeningShape::rectangle ? half_width : radius;
  const double high = shape == OpeningShape::rectangle ? half_height : radius;
  for (int i = -2; i <= 2; ++i) {
    for (int k = -2; k <= 2; ++k) {
      const double y = 0.45 * i * wide;
      const double z = 0.45 * k * high;
      if (border(y, z) >= inset) result.push_back(middle + y * across + z * up);
    }
  }
  if (result.empty()) result.push_back(middle);
  return result;
}

Vec3d PortalFace::beyond(const Vec3d& place) const {
  if (!stretched()) return map.place(place);
  const Vec3d own = frame.turn.transpose() * (place - frame.shift);
  return map.place(frame.turn * own.cwiseProduct(stretch) + frame.shift);
}

template <class Number>
void PortalFaces::nearest(const LaneBatch<Number>& lanes, Number* t, std::int32_t* face,
                          bool* rim) const {
  const std::size_t size = lanes.size;
  std::fill_n(face, size, -1);
  std::fill_n(rim, size, false);
  for (std::size_t f = 0; f < faces_.size(); ++f) {
    const PortalFace& one = faces_[f];
    const auto index = static_cast<std::int32_t>(f);
    // What only asks whether something is in the way goes straight through swells.
    if (one.swell >= 0 && lanes.ending_only) continue;
    // Most faces lie nowhere near most lanes: how near each line comes to the middle tells, in a
    // loop the compiler turns into vectors.
    const double reach = one.shape == OpeningShape::rectangle
                             ? std::hypot(one.half_width, one.half_height)
                             : one.radius;
    const auto x = static_cast<Number>(one.middle.x());
    const auto y = static_cast<Number>(one.middle.y());
    const auto z = static_cast<Number>(one.middle.z());
    const auto square = static_cast<Number>(reach * reach * (1 + 1e-4) + 1e-6);
    // And of flat ones, whether its plane lies ahead, on a side that is open.
    const bool flat = one.shape != OpeningShape::sphere;
    const auto normal_x = static_cast<Number>(flat ? one.normal.x() : 0);
    const auto normal_y = static_cast<Number>(flat ? one.normal.y() : 0);
    const auto normal_z = static_cast<Number>(flat ? one.normal.z() : 0);
    const auto from_front = static_cast<Number>(one.front ? 1 : -1);
    const auto from_behind = static_cast<Number>(one.back || one.shut ? 1 : -1);
    // Points so close to the plane are undecided here.
    const auto unsure = static_cast<Number>(1e-3 + 1e-5 * one.middle.norm());
    alignas(64) bool near[LaneBatch<Number>::capacity];
    bool any = false;
    for (std::size_t i = 0; i < size; ++i) {
      const Number dx = x - lanes.x[i];
      const Number dy = y - lanes.y[i];
      const Number dz = z - lanes.z[i];
      const Number along =
          dx * lanes.direction_x[i] + dy * lanes.direction_y[i] + dz * lanes.direction_z[i];
      const Number away = dx * dx + dy * dy + dz * dz;
      const Number toward = normal_x * lanes.direction_x[i] + normal_y * lanes.direction_y[i] +
                            normal_z * lanes.direction_z[i];
      const Number ahead = normal_x * dx + normal_y * dy + normal_z * dz;
      const Number side = toward < 0 ? from_front : from_behind;
      const Number comes = toward < 0 ? -ahead : ahead;
      near[i] = (away - along * along <= square + Number(1e-5) * away) &
                ((along > 0) | (away <= square)) &
                ((side > 0) | (std::abs(toward) < Number(1e-5))) & (comes > -unsure);
      any |= near[i];
    }
    if (!any) continue;
    for (std::size_t i = 0; i < size; ++i) {
      if (!near[i]) continue;
      const Vec3d from(lanes.x[i], lanes.y[i], lanes.z[i]);
      const Vec3d way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
      const double start = lanes.any_start ? static_cast<double>(lanes.start[i]) : 0;
      const bool came_out = lanes.any_face && lanes.face[i] == index;
      const double at = one.meet(from, way, start, came_out);
      if (!(at < static_cast<double>(t[i]))) continue;
      t[i] = static_cast<Number>(at);
      face[i] = index;
      const Vec3d out =
          one.shape == OpeningShape::sphere ? Vec3d(from + at * way - one.middle) : one.normal;
      rim[i] = one.shut && out.dot(way) > 0;
      if (one.rim == 0 || rim[i]) continue;
      const Vec3d off = from + at * way - one.middle;
      if (one.shape == OpeningShape::sphere) {
        // It has no border: the rim is where it turns away.
        const double beside = (off - off.dot(way) * way).norm();
        rim[i] = beside > one.radius - one.rim;
      } else {
        rim[i] = one.border(off.dot(one.across), off.dot(one.up)) < one.rim;
      }
    }
  }
}

std::string portal_title(std::span<const PortalInfo> portals, std::uint32_t portal) {
  const PortalInfo& info = portals[portal];
  const std::string name =
      info.name.empty() ? fmt::format("portal {}", portal + 1) : "'" + info.name + "'";
  return info.returns ? "the way back of " + name : name;
}

PortalFace swell_face(const Swell& swell, std::uint32_t room, std::int32_t index) {
  PortalFace face;
  face.shape = OpeningShape::sphere;
  face.middle = swell.at;
  face.radius = swell.radius;
  face.back = false;
  face.room = room;
  face.swell = index;
  return face;
}

template void PortalFaces::nearest(const LaneBatch<float>&, float*, std::int32_t*, bool*) const;
template void PortalFaces::nearest(const LaneBatch<double>&, double*, std::int32_t*, bool*) const;

/// Through a stretched box a lane takes the shortest way its two metrics make: what it covers along
/// the face is kept as a covector, as refracted light keeps it, and what is left of its unit length
/// goes across. Where nothing is left it is turned back. (Born and Wolf, "Principles of Optics",
/// 1959, for the law; Perlick, "Ray Optics, Fermat's Principle, and Applications to General
/// Relativity", 2000, for lengths that differ by direction.)
Crossing PortalFaces::cross(std::int32_t face, const Vec3d& place, const Vec3d& way) const {
  const PortalFace& one = faces_[static_cast<std::size_t>(face)];
  Crossing crossing{
      .place = one.beyond(place), .room = one.room, .twin = one.twin, .scale = one.map.scale};
  if (!one.stretched()) {
    crossing.way = one.map.direction(way);
    return crossing;
  }
  const Vec3d normal = one.frame.turn.transpose() * one.normal;
  const Vec3d own = one.frame.turn.transpose() * way;
  const double across = own.dot(normal);
  Vec3d kept = (own - across * normal).cwiseQuotient(one.stretch);
  kept -= kept.dot(normal) * normal;
  const double left = 1 - kept.squaredNorm();
  if (left <= 0) {
    crossing.turned_back = true;
    crossing.place = place;
    crossing.way = way - 2 * way.dot(one.normal) * one.normal;
    crossing.scale = 1;
    return crossing;
  }
  const Vec3d bent = kept + std::copysign(std::sqrt(left), across) * normal;
  crossing.way = one.map.direction(one.frame.turn * bent).normalized();
  return crossing;
}

}  // namespace photonlane
