#pragma once

///   const LaneLog log = log_lane(world, camera, budget, 120, 80);
///   for (const LaneLeg& leg : log.legs) printf("%.2f m in room %u\n", leg.length, leg.room);

#include <optional>
#include <vector>

#include "photonlane/lane/lanes.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// Something that a leg met: what it ended at, or looked through.
struct LaneMeeting {
  double t = 0;  ///< meters along the leg
  Vec3d place{0, 0, 0};
  Vec3d normal{0, 0, 0};
  Ending ending = Ending::escaped;
  Face face = Face::none;
  std::uint32_t material = no_material;
  std::uint32_t item = no_item;
  float hides = 1;  ///< how much of what is behind
  /// The portal, of the world's, or the swell it crossed into, and what became of it there.
  std::optional<std::uint32_t> portal;
  bool swell = false;
  Similarity map;
  bool turned_back = false;
};

enum class LegStart { eye, portal, swell, thrown_back, bent };
template <>
inline constexpr std::array<std::string_view, 5> choice_names<LegStart>{"eye", "portal", "swell",
                                                                        "thrown_back", "bent"};

/// One run of a lane within a room.
struct LaneLeg {
  int from = -1;  ///< the leg before, of the log's; -1: the eye
  LegStart start = LegStart::eye;
  std::uint32_t sample = 0;
  bool layers = false;  ///< it sees no colors: the layers other than color are of its lane
  std::uint32_t room = 0;
  Vec3d place{0, 0, 0};
  Vec3d way{1, 0, 0};
  double length = 0;      ///< meters, in the room's measure
  double scale = 1;       ///< meters in the room for a meter at the eye
  Color weight{1, 1, 1};  ///< what counts in the pixel of what is seen along it, before fog
  Color added{0, 0, 0};   ///< what it adds to the pixel itself
  std::uint32_t steps = 0;
  std::vector<LaneMeeting> meetings;
  std::vector<MarchStep> march;  ///< where asked for
};

/// All that the lanes of one pixel did.
struct LaneLog {
  int x = 0;
  int y = 0;
  std::vector<LaneLeg> legs;
  Color color{0, 0, 0};  ///< the pixel's; the sum of what the legs added
  float depth = 0;
  float ray_distance = 0;
  Ending ending = Ending::escaped;
  std::uint32_t room = 0;
  std::uint32_t crossings = 0;
};

struct LaneLogOptions {
  bool march = false;  ///< every step of marching through fields
};

/// Renders the pixels around one as a frame of that budget does, by one ray a pixel, and keeps what
/// its lanes do. Throws Error (input) for pixels outside the frame, and as render does.
LaneLog log_lane(const World& world, const Camera& camera, const Budget& budget, int x, int y,
                 const LaneLogOptions& options = {});

}  // namespace photonlane
