#pragma once

/// Openings that hand lanes over to another place, in their own room or another.
///
///   Portal door;
///   door.name = "door";
///   door.opening = {.shape = OpeningShape::rectangle, .width = 1, .height = 2};
///   door.stance = {.at = {3, 0, 1}, .heading = degrees(180)};  // seen by a camera that looks east
///   door.to = {.room = "garden", .stance = {.at = {0, 0, 1}}};
///   scene.room().portals.push_back(door);

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/room/similarity.hpp"

namespace photonlane {

enum class OpeningShape { rectangle, polygon, disc, sphere, box };
template <>
inline constexpr std::array<std::string_view, 5> choice_names<OpeningShape>{
    "rectangle", "polygon", "disc", "sphere", "box"};

enum class BoxSide { front, back, left, right, top, bottom };
template <>
inline constexpr std::array<std::string_view, 6> choice_names<BoxSide>{"front", "back", "left",
                                                                       "right", "top",  "bottom"};

/// The surface that is gone through, around the middle of its stance. Flat ones lie across the way
/// they face; corners are counted to the right and up as one stands before their front.
struct Opening {
  OpeningShape shape = OpeningShape::rectangle;
  double width = 1;              ///< meters; of rectangles
  double height = 2;             ///< meters; of rectangles
  double radius = 0.5;           ///< meters; of discs and spheres
  Vec3d size{1, 1, 1};           ///< meters ahead, across and up; of boxes
  std::vector<Vec2d> corners;    ///< meters, counterclockwise; of polygons
  std::vector<BoxSide> sides{};  ///< of boxes: which of them are open; none: all

  bool flat() const { return shape != OpeningShape::sphere && shape != OpeningShape::box; }
};

/// What an opening is from behind; from within, of spheres and boxes.
enum class Behind {
  same,  ///< gone through too, to behind where it leads: out of a ball there into it here
  open,  ///< not there: lanes pass
  shut   ///< a surface of the rim's color
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<Behind>{"same", "open", "shut"};

/// Where an opening leads: to another portal, or to a place in a room.
struct PortalTarget {
  std::string portal;  ///< its name; empty: to a place
  std::string room;    ///< its name; empty: the portal's own room
  /// Through a flat opening lanes go the way this faces; what is in a sphere or a box is what
  /// stands around this, turned as it faces.
  Stance stance;
  double scale = 1;  ///< meters there for a meter before the opening; to a portal as their sizes
};

struct Portal {
  std::string name;
  Opening opening;
  Stance stance;
  std::optional<PortalTarget> to;  ///< none: where the portal leads that leads here
  bool one_way = false;            ///< nothing leads back
  Behind behind = Behind::same;
  double rim = 0;  ///< meters along the border, within the opening
  Color rim_color{0.05f, 0.05f, 0.06f};
  std::optional<Color>
      fallback;  ///< what lanes see that are out of crossings; none: they are spent
  /// Of boxes: how many times longer it is inside than outside along its axes.
  Vec3d stretch{1, 1, 1};
};

/// A portal as it stands in a world.
struct PortalInfo {
  std::string name;
  std::uint32_t room = 0;
  std::uint32_t leads_to = 0;
  bool returns = false;  ///< it is the way back of another one, of the same name
};

/// Values of a portal, its opening and the target, as scene files name them.
std::span<const Knob<Portal>> portal_knobs();
std::span<const Knob<PortalTarget>> portal_target_knobs();
std::span<const Knob<Opening>> opening_knobs(OpeningShape shape);

/// Throws Error (input) for openings without size, corners that are not those of a convex polygon
/// in order, and stretches of anything but boxes.
void validate(const Portal& portal);

/// A room's name and its portals.
struct RoomOpenings {
  std::string name;
  std::span<const Portal> portals;
};

/// What is wrong with a portal.
struct PortalFault {
  std::size_t room = 0;
  std::size_t portal = 0;  ///< which of the room's
  std::string message;
};

/// The first portal that cannot be: of values out of range, a name that stands twice or leads to
/// none, without a target, or of openings that cannot lead to one another.
std::optional<PortalFault> find_portal_fault(std::span<const RoomOpenings> rooms);

}  // namespace photonlane
