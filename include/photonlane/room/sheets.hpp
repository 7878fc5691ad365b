#pragma once

///   scene.sheets.push_back({.rooms = {"lower", "upper"}, .at = {0, 0, 0}, .reach = 20});

#include <string>
#include <vector>

#include "photonlane/room/portal.hpp"

namespace photonlane {

/// Rooms that lie over one another like the turns of a spiral stair: going round an upright axis
/// counterclockwise, as seen from above, gets from each to the next where they pass the seam, and
/// from the last to the first again; clockwise the other way.
struct Sheets {
  std::vector<std::string> rooms;  ///< at least two, by name
  Vec3d at{0, 0, 0};               ///< the foot of the axis
  double heading = 0;              ///< radians: where the seam lies, seen from the axis
  double reach = 100;              ///< meters from the axis: how far the seam goes
  double height = 10;              ///< meters
  /// The last leads to itself, however often, instead of to the first; back from it is the one
  /// before.
  bool endless = false;
};
std::span<const Knob<Sheets>> sheets_knobs();

/// A portal of the room of that index in a list of names.
struct SeamPortal {
  std::size_t room;
  Portal portal;
};

/// The seams as portals, gone through from one side each. Throws Error (input) for values out of
/// range, fewer than two rooms and names that are not there.
std::vector<SeamPortal> seam_portals(const Sheets& sheets, const std::vector<std::string>& names);

}  // namespace photonlane
