#pragma once

#include <span>
#include <vector>

#include "grid/column_events.hpp"
#include "light/paint.hpp"
#include "photonlane/world/world.hpp"
#include "trace/panels.hpp"

namespace photonlane {

struct PortalFace;

/// A face of a portal in one of a world's rooms.
struct FaceOf {
  std::uint32_t room;
  std::int32_t face;
};

/// Light from another room as it is seen from this one: it comes through the faces of `way` in
/// their order, the first of them in this room.
struct LightImage {
  bool of_sun = false;
  std::uint32_t room = 0;   ///< it stands in
  std::uint32_t index = 0;  ///< which lamp of that room's
  Vec3d toward{0, 0, 1};    ///< the sun, from here
  double sun_size = 0;
  double sun_strength = 1;
  Lamp lamp;  ///< where it seems to be, in this room's measure; of the sun only its color
  std::vector<FaceOf> way;
};

/// A room as one frame looks at it.
struct RoomView {
  const CompiledRoom& room;
  std::uint32_t index;
  Vec3d origin;  ///< places of surfaces are counted from here: the eye, in its room
  PaintTable paint;
  PaintTable shadow_paint;  ///< the same, the nearest texels
  FogRow fog;
  Panels panels;
  OpenMaterials open;
  std::vector<LightImage> images{};

  const CellSolid& cells() const { return *room.cells(); }
  const PortalFace& face(std::uint32_t item) const;
};

/// Rooms of a world, seen by an eye in one of them; light comes through up to `crossings` portals.
/// They stay where they are for as long as they are looked at.
std::vector<RoomView> view_rooms(const World& world, std::span<const CompiledRoom> rooms,
                                 std::size_t eye_room, const Vec3d& eye, const Budget& budget,
                                 double pixel_angle);

}  // namespace photonlane
