#include "photonlane/room/sheets.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "photonlane/base/trigonometry.hpp"

namespace photonlane {

std::span<const Knob<Sheets>> sheets_knobs() {
  static const Knob<Sheets> table[] = {
      knob<&Sheets::at>("at", "meters", {-1e7, 1e7}, "the foot of the axis one goes round"),
      knob<&Sheets::heading>("heading", "degrees", {-36000, 36000},
                             "where the seam lies, seen from the axis", degrees(1)),
      knob<&Sheets::reach>("reach", "meters", {0, 1e6, true},
                           "how far from the axis the seam goes"),
      knob<&Sheets::height>("height", "meters", {0, 1e6, true}, "height of the seam"),
      knob<&Sheets::endless>(
          "endless", "", {},
          "going round in the last room stays in it, instead of leading to the first"),
  };
  return table;
}

std::vector<SeamPortal> seam_portals(const Sheets& sheets, const std::vector<std::string>& names) {
  try {
    validate_knobs(sheets_knobs(), sheets);
  } catch (const Error& error) {
    throw Error(ErrorKind::input, "sheets: " + error.message());
  }
  if (sheets.rooms.size() < 2) {
    throw Error(ErrorKind::input,
                fmt::format("sheets of {} rooms, expected at least two", sheets.rooms.size()));
  }
  const auto [sine, cosine] = sine_cosine(sheets.heading);
  Portal seam;
  seam.opening = {.shape = OpeningShape::rectangle, .width = sheets.reach, .height = sheets.height};
  seam.stance.at = sheets.at + Vec3d(0.5 * sheets.reach * cosine, 0.5 * sheets.reach * sine,
                                     0.5 * sheets.height);
  // Going round counterclockwise enters it from the side it faces.
  seam.stance.heading = sheets.heading - pi / 2;
  seam.behind = Behind::open;
  std::vector<SeamPortal> portals;
  for (std::size_t i = 0; i < sheets.rooms.size(); ++i) {
    const bool last = i + 1 == sheets.rooms.size();
    const auto found = std::find(names.begin(), names.end(), sheets.rooms[i]);
    if (found == names.end()) {
      const std::vector<std::string_view> words(names.begin(), names.end());
      throw Error(ErrorKind::input, fmt::format("sheets: no room '{}'{}", sheets.rooms[i],
                                                suggestion(sheets.rooms[i], words)));
    }
    Portal portal = seam;
    portal.name = fmt::format("seam of {}", sheets.rooms[i]);
    PortalTarget to;
    to.room = !last ? sheets.rooms[i + 1] : sheets.endless ? sheets.rooms[i] : sheets.rooms.front();
    to.stance = {seam.stance.at, sheets.heading + pi / 2};
    portal.to = to;
    portal.one_way = last && sheets.endless;
    portals.push_back({static_cast<std::size_t>(found - names.begin()), std::move(portal)});
  }
  return portals;
}

}  // namespace photonlane
