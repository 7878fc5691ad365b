#include "trace/crossing.hpp"

#include <algorithm>

#include "lane/portal_start.hpp"
#include "room/portal_faces.hpp"

namespace photonlane {

Beyond go_beyond(const RoomView& here, std::int32_t face, const Vec3d& at, const Vec3d& way,
                 double scale) {
  const Crossing crossing = here.room.portals->cross(face, at, way);
  Beyond lane;
  lane.room = crossing.room;
  lane.face = crossing.turned_back ? face : crossing.twin;
  lane.turned_back = crossing.turned_back;
  lane.scale = crossing.scale;
  lane.measure = std::min(1.0, scale * crossing.scale);
  lane.start = portal_start * lane.measure;
  lane.from = crossing.place + lane.start * crossing.way;
  lane.way = crossing.way;
  return lane;
}

void begin_beyond(LaneBatch<float>& on) {
  on.ending_only = true;
  on.any_face = true;
  on.any_start = true;
  on.any_scale = true;
  std::fill_n(on.scale, LaneBatch<float>::capacity, 1.0f);
  std::fill_n(on.start, LaneBatch<float>::capacity, 0.0f);
}

std::size_t put_beyond(const Beyond& lane, LaneBatch<float>& on) {
  const std::size_t to = on.size++;
  on.scale[to] = static_cast<float>(lane.measure);
  on.x[to] = static_cast<float>(lane.from.x());
  on.y[to] = static_cast<float>(lane.from.y());
  on.z[to] = static_cast<float>(lane.from.z());
  on.direction_x[to] = static_cast<float>(lane.way.x());
  on.direction_y[to] = static_cast<float>(lane.way.y());
  on.direction_z[to] = static_cast<float>(lane.way.z());
  on.face[to] = lane.face;
  return to;
}

}  // namespace photonlane
