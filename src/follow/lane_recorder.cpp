#include "follow/lane_recorder.hpp"

#include "room/portal_faces.hpp"

namespace photonlane {
namespace {

LegStart start_of(const Onward& lane, const LaneLog& log) {
  if (lane.note < 0) return LegStart::eye;
  const LaneLeg& before = log.legs[static_cast<std::size_t>(lane.note)];
  const bool crossed = !before.meetings.empty() && before.meetings.back().ending == Ending::crossed;
  if (crossed) return before.meetings.back().swell ? LegStart::swell : LegStart::portal;
  // A mirror leaves a lane on the side it came from.
  const Vec3d& normal = before.meetings.back().normal;
  return lane.way.dot(normal) > 0 ? LegStart::thrown_back : LegStart::bent;
}

/// The leg a lane starts.
LaneLeg leg_from(const RoomView& here, const Onward& lane, const LaneLog& log, float sample_share) {
  LaneLeg leg;
  leg.from = lane.note;
  leg.start = start_of(lane, log);
  leg.sample = lane.sample;
  leg.layers = lane.blind;
  leg.room = here.index;
  leg.place = lane.from;
  leg.way = lane.way;
  leg.scale = lane.scale;
  leg.weight = Color(lane.red, lane.green, lane.blue) * sample_share;
  return leg;
}

void note_crossing(const RoomView& here, std::uint32_t item, const Vec3d& way, LaneMeeting& met) {
  const PortalFace& face = here.face(item);
  met.swell = face.swell >= 0;
  if (met.swell) return;
  met.portal = face.portal;
  met.map = face.map;
  met.turned_back =
      here.room.portals->cross(static_cast<std::int32_t>(item), met.place, way).turned_back;
}

}  // namespace

std::int32_t LaneRecorder::go_through(const RoomView& here, const Onward& lane, double t,
                                      const Vec3d& at, std::uint32_t face, std::uint32_t steps,
                                      std::size_t i, float sample_share, const Color& fog) {
  LaneLeg leg = leg_from(here, lane, log, sample_share);
  LaneMeeting met;
  met.ending = Ending::crossed;
  met.t = t;
  met.place = at;
  note_crossing(here, face, lane.way, met);
  leg.length = static_cast<double>(lane.metric) * t;
  leg.steps = steps;
  leg.meetings.push_back(met);
  leg.march = watch.steps(i);
  if (!leg.layers) leg.added = fog;
  log.legs.push_back(std::move(leg));
  return static_cast<std::int32_t>(log.legs.size()) - 1;
}

void LaneRecorder::keep_march(std::uint32_t slot, std::size_t i) {
  if (options_.march) marches_[slot] = watch.steps(i);
}

void LaneRecorder::recall_march(std::uint32_t slot, std::size_t k) {
  if (!options_.march) return;
  if (k == 0) watch = StepWatch();
  const std::vector<MarchStep>& steps = marches_[slot];
  if (steps.empty()) return;
  watch.follow(k);
  for (const MarchStep& step : steps) watch.note(k, step.t, step.value);
}

BatchRecord::BatchRecord(LaneRecorder* recorder, const RoomView& here, const PixelPlace& place,
                         const Leg& leg, const Sight& sight, std::size_t size, float share,
                         bool first, float sample_share, const Colors& sums)
    : recorder_(recorder), sample_share_(leg.lanes != nullptr ? sample_share : 1) {
  if (recorder_ == nullptr) return;
  LaneRays rays;
  for (std::size_t i = 0; i < size; ++i) {
    if (!recorder_->follows(place, i)) continue;
    if (entries_.empty()) {
      Surfaces unused;
      sight.rays(unused, rays);
    }
    LaneLog& log = recorder_->log;
    Entry entry{i, log.legs.size(), {0, 0, 0}};
    // The sums of those that come from the eye have what other samples added.
    if (!first) entry.before = {sums.red[i], sums.green[i], sums.blue[i]};
    if (leg.lanes != nullptr) {
      log.legs.push_back(leg_from(here, leg.lanes[i], log, sample_share));
      entries_.push_back(entry);
      continue;
    }
    LaneLeg one;
    one.sample = place.sample(i);
    one.layers = share == 0;
    one.room = here.index;
    one.place = here.origin + Vec3d(rays.from_x[i], rays.from_y[i], rays.from_z[i]);
    one.way = Vec3d(rays.x[i], rays.y[i], rays.z[i]);
    one.weight = Color(1, 1, 1) * share;
    log.legs.push_back(std::move(one));
    entries_.push_back(entry);
  }
}

void BatchRecord::meet(const RoomView& here, const Surfaces& surfaces, const Colors& colors,
                       const bool* wanted) {
  for (const Entry& entry : entries_) {
    const std::size_t i = entry.lane;
    if (wanted != nullptr && !wanted[i]) continue;
    LaneLeg& leg = recorder_->log.legs[entry.leg];
    LaneMeeting met;
    met.ending = surfaces.ending[i];
    const bool there = met.ending != Ending::escaped;
    met.t = there ? static_cast<double>(surfaces.t[i]) : 0;
    if (there) {
      met.place = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
      leg.length = met.t;
    }
    if (met.ending == Ending::hit) {
      const Normal normal = normal_of(surfaces, i);
      met.normal = Vec3d(normal.x, normal.y, normal.z);
      met.face = surfaces.face[i];
      met.material = surfaces.material[i];
      met.item = surfaces.item[i];
      met.hides = colors.alpha[i];
    }
    if (met.ending == Ending::crossed) note_crossing(here, surfaces.item[i], leg.way, met);
    leg.steps = surfaces.steps[i];
    leg.meetings.push_back(met);
  }
}

std::int32_t BatchRecord::leg_of(std::size_t i) const {
  for (const Entry& entry : entries_) {
    if (entry.lane == i) return static_cast<std::int32_t>(entry.leg);
  }
  return -1;
}

void BatchRecord::end(const Colors& sums) {
  for (const Entry& entry : entries_) {
    const std::size_t i = entry.lane;
    LaneLeg& leg = recorder_->log.legs[entry.leg];
    leg.march = recorder_->watch.steps(i);
    if (leg.layers) continue;
    leg.added = Color(sums.red[i], sums.green[i], sums.blue[i]) - entry.before;
    leg.added *= sample_share_;
  }
}

}  // namespace photonlane
