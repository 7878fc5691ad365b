#include "follow/passing.hpp"

#include <algorithm>

#include "room/portal_faces.hpp"
#include "trace/crossing.hpp"

namespace photonlane {
namespace {

/// The next chord of a lane in a swell, or straight on where it has left it. `within`: it has come
/// to the end of one; else it enters.
void bend_lane(const Swell& swell, std::int32_t face, bool within, const Vec3d& at,
               const Vec3d& way, const CrossingBudget& budget, Onward& lane) {
  if (!within) {
    lane.bent = bent_lane(swell, at, way);
    lane.stride = static_cast<float>(swell.radius);
  }
  const BentLane from = lane.bent;
  lane.from = from.place;
  lane.face = face;
  if (within && (from.place - swell.at).norm() >= swell.radius) {
    lane.way = from.momentum.normalized();
    return;
  }
  const BentStep step =
      bend_on(swell, from, static_cast<double>(lane.stride), budget.tolerance, budget.method);
  const Vec3d chord = step.end.place - from.place;
  ++lane.bent_steps;
  lane.swell = face;
  lane.bent = step.end;
  const double length = chord.norm();
  lane.way = chord / length;
  lane.chord = static_cast<float>(length);
  lane.stride = static_cast<float>(step.next);
  lane.metric = static_cast<float>(step.length / length);
}

}  // namespace

bool may_pass(const SceneView& view, const RoomView& here, std::uint32_t face, const Onward& lane) {
  const CrossingBudget& budget = view.budget.crossings;
  return here.face(face).swell >= 0 ? lane.bent_steps < static_cast<std::uint32_t>(budget.steps)
                                    : lane.crossings < static_cast<std::uint32_t>(budget.limit);
}

float past_other_fog(const SceneView& view, const float* travelled, std::uint32_t but,
                     float light) {
  for (std::size_t r = 0; r < view.rooms.size(); ++r) {
    if (r == but) continue;
    light *= 1 - fog_share(view.rooms[r].room.fog, static_cast<double>(travelled[r]));
  }
  return light;
}

void pass(const SceneView& view, const RoomView& here, std::uint32_t item, const Vec3d& at,
          const Vec3d& way, Onward& lane, Tally& tally) {
  const auto face = static_cast<std::int32_t>(item);
  const PortalFace& met = here.face(item);
  const bool within = lane.swell == face;
  lane.swell = -1;
  lane.face = -1;
  lane.out_of_portal = false;
  lane.metric = 1;
  if (met.swell >= 0) {
    bend_lane(here.room.swells[static_cast<std::size_t>(met.swell)], face, within, at, way,
              view.budget.crossings, lane);
    tally.bent_steps += lane.swell >= 0;
    return;
  }
  const Beyond beyond = go_beyond(here, face, at, way, lane.scale);
  ++lane.crossings;
  ++tally.crossings;
  lane.way = beyond.way;
  lane.from = beyond.from;
  lane.path = lane.path * beyond.scale + beyond.start;
  lane.face = beyond.face;
  if (beyond.turned_back) return;
  lane.room = beyond.room;
  lane.out_of_portal = true;
  lane.scale *= beyond.scale;
  if (view.panels) lane.eye = met.beyond(lane.eye.cast<double>()).cast<float>();
}

}  // namespace photonlane
