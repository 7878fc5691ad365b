#pragma once

#include <cmath>
#include <cstdint>
#include <limits>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "photonlane/lane/lanes.hpp"
#include "photonlane/room/portal.hpp"
#include "photonlane/room/swell.hpp"

namespace photonlane {

/// One face of a portal, flat or a sphere, with where it leads.
struct PortalFace {
  OpeningShape shape = OpeningShape::rectangle;  ///< no box: those have up to six
  Vec3d middle{0, 0, 0};
  Vec3d normal{1, 0, 0};  ///< out of its front
  Vec3d across{0, 1, 0};  ///< to the right as one stands before it
  Vec3d up{0, 0, 1};
  double half_width = 0, half_height = 0, radius = 0;
  std::vector<Vec2d> corners;

  bool front = true;  ///< gone through from the front; of spheres from outside
  bool back = true;   ///< from behind
  bool shut = false;  ///< a surface from behind
  double rim = 0;
  Color rim_color{0, 0, 0};
  std::uint32_t rim_material = 0;

  std::optional<Color> fallback;

  std::uint32_t portal = 0;  ///< which of the world's it is of
  std::uint32_t room = 0;    ///< where it leads
  std::int32_t twin = -1;    ///< the face there that lanes come out of; -1: none
  Similarity map;            ///< to there, but for the stretch
  Vec3d stretch{1, 1, 1};    ///< along the box's own axes
  Similarity frame;          ///< of the box, where it is stretched

  std::int32_t swell = -1;  ///< of the room's, where the face is its rim

  bool stretched() const { return stretch != Vec3d(1, 1, 1); }
  /// How far a place on the face is from its border, in meters; below 0 outside. Of spheres, which
  /// have none: infinite.
  double border(double y, double z) const;
  /// Where a line meets the face later than `start`; infinite where it does not. `came_out`: it
  /// starts on the face.
  double meet(const Vec3d& from, const Vec3d& way, double start, bool came_out) const;
  /// Places all over a flat face, at least `inset` meters from its border; the middle where that
  /// leaves none.
  std::vector<Vec3d> places(double inset) const;
  /// Where what is at a place before the face, or on it, is beyond it.
  Vec3d beyond(const Vec3d& place) const;
};

/// A lane behind a portal.
struct Crossing {
  Vec3d place{0, 0, 0};
  Vec3d way{1, 0, 0};
  std::uint32_t room = 0;
  std::int32_t twin = -1;
  double scale = 1;          ///< meters there for a meter here, along the lane
  bool turned_back = false;  ///< by a stretched box, into the room it came from
};

/// All faces of a room.
class PortalFaces {
 public:
  explicit PortalFaces(std::vector<PortalFace> faces) : faces_(std::move(faces)) {}

  std::span<const PortalFace> faces() const { return faces_; }

  /// For each lane of a batch the nearest face it meets before `t`, which becomes how far it is;
  /// `face` gets which, or -1, and `rim` whether that is a surface there.
  template <class Number>
  void nearest(const LaneBatch<Number>& lanes, Number* t, std::int32_t* face, bool* rim) const;

  /// What becomes of a lane that meets a face.
  Crossing cross(std::int32_t face, const Vec3d& place, const Vec3d& way) const;

 private:
  std::vector<PortalFace> faces_;
};

/// The rim of a swell, which lanes cross from outside and within.
PortalFace swell_face(const Swell& swell, std::uint32_t room, std::int32_t index);

/// What messages call a portal of a world's: its name, or its number.
std::string portal_title(std::span<const PortalInfo> portals, std::uint32_t portal);

struct CompiledPortals {
  std::vector<std::vector<PortalFace>> faces;  ///< of each room
  std::vector<PortalInfo> portals;
};

/// Finds where every portal leads and the ways back. Throws Error (input) for names that are not
/// there or stand twice, portals that lead nowhere, and openings that cannot lead to one another.
CompiledPortals compile_portals(std::span<const RoomOpenings> rooms);

}  // namespace photonlane
