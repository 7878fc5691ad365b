#pragma once

#include "photonlane/lane/lanes.hpp"
#include "trace/room_view.hpp"

namespace photonlane {

/// A lane that has gone through a face of a portal.
struct Beyond {
  std::uint32_t room = 0;
  std::int32_t face = -1;    ///< it comes out of, of that room
  bool turned_back = false;  ///< by a stretched box, into the room it came from
  double scale = 1;          ///< meters there for a meter before, along the lane
  double measure = 1;        ///< meters there for a meter at the eye, at most 1
  double start = 0;  ///< meters that it starts on along its way, past the wall of the portal
  Vec3d from{0, 0, 0};
  Vec3d way{1, 0, 0};
};

/// Takes a lane through a face of a room, which it has come to at a place, on a way of unit length.
/// `scale` is meters in the room for a meter at the eye.
Beyond go_beyond(const RoomView& here, std::int32_t face, const Vec3d& at, const Vec3d& way,
                 double scale);

/// Makes a batch, still empty, one of lanes toward light that come out of portals.
void begin_beyond(LaneBatch<float>& on);
/// Adds such a lane; gives its index.
std::size_t put_beyond(const Beyond& lane, LaneBatch<float>& on);

}  // namespace photonlane
