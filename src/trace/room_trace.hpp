#pragma once

#include <algorithm>

#include "base/stage_clock.hpp"
#include "lane/hits.hpp"
#include "photonlane/world/world.hpp"
#include "room/portal_faces.hpp"
#include "trace/company.hpp"

namespace photonlane {

/// Takes over what a solid met where that is before what was met so far.
template <class Number>
void take_nearer(const HitBatch<Number>& from, std::size_t count, HitBatch<Number>& hits) {
  hits.shared_evaluations += from.shared_evaluations;
  for (std::size_t i = 0; i < count; ++i) {
    hits.steps[i] += from.steps[i];
    hits.evaluations[i] += from.evaluations[i];
    hits.nearest[i] = std::min(hits.nearest[i], from.nearest[i]);
    hits.overstretched[i] |= from.overstretched[i];
    if (from.ending[i] == Ending::escaped) continue;
    if (hits.ending[i] != Ending::escaped && hits.t[i] <= from.t[i]) continue;
    hits.take_curved(from, i, i);
  }
}

/// The first surface each lane meets of several solids. (A function that returns one name alone
/// makes its hits where they go; a batch of them is 9 KB.)
template <class Number>
HitBatch<Number> trace_several(const CompiledRoom& room, const LaneBatch<Number>& lanes,
                               const Budget& budget, Tally& tally) {
  HitBatch<Number> hits;
  if (room.has_cells) {
    const StageScope stage(Work::cells, lanes.size);
    hits = room.cells()->nearest_hit(lanes, budget);
    begin_evaluations(lanes.size, hits);
  } else {
    let_escape(lanes, hits);
  }
  if (room.others().empty()) return hits;
  LaneBatch<Number> rest = lanes;
  rest.any_limit = true;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Number known = hits.ending[i] == Ending::escaped ? lanes.far_limit : hits.t[i];
    rest.limit[i] = lanes.any_limit ? std::min(known, lanes.limit[i]) : known;
  }
  // Kernels look up to the end of a whole vector.
  std::fill(rest.limit + lanes.size, rest.limit + LaneBatch<Number>::capacity, Number(0));
  // What pictures say is known soonest: fields are marched no farther than that.
  for (const bool pictures : {true, false}) {
    for (const std::shared_ptr<const Solid>& solid : room.others()) {
      if (solid->already_lit() != pictures) continue;
      HitBatch<Number> own;
      ask_in_company(*solid, rest, budget, own);
      take_nearer(own, lanes.size, hits);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        if (hits.ending[i] != Ending::escaped) rest.limit[i] = std::min(rest.limit[i], hits.t[i]);
      }
    }
  }
  tally.evaluations += hits.shared_evaluations;
  for (std::size_t i = 0; i < lanes.size; ++i) tally.evaluations += hits.evaluations[i];
  return hits;
}

/// The first surface each lane meets of all solids in a room.
template <class Number>
HitBatch<Number> trace_solids(const CompiledRoom& room, const LaneBatch<Number>& lanes,
                              const Budget& budget, Tally& tally) {
  if (room.only_cells()) {
    const StageScope stage(Work::cells, lanes.size);
    return room.cells()->nearest_hit(lanes, budget);
  }
  return trace_several(room, lanes, budget, tally);
}

/// Portals may lie in the plane of a wall: they are before what is this little nearer, in meters.
template <class Number>
Number portal_slack(Number t, Number scale) {
  return Number(3e-4) * scale + Number(2e-6) * t;
}

/// The first surface or portal each lane meets in a room that has some.
template <class Number>
HitBatch<Number> trace_portals(const CompiledRoom& room, const LaneBatch<Number>& lanes,
                               const Budget& budget, Tally& tally) {
  constexpr std::size_t capacity = LaneBatch<Number>::capacity;
  Number at[capacity];
  std::int32_t face[capacity];
  bool rim[capacity];
  for (std::size_t i = 0; i < lanes.size; ++i) {
    at[i] = lanes.any_limit ? std::min(lanes.limit[i], lanes.far_limit) : lanes.far_limit;
  }
  {
    const StageScope stage(Work::portals, lanes.size);
    room.portals->nearest(lanes, at, face, rim);
  }
  LaneBatch<Number> rest = lanes;
  rest.any_limit = true;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    rest.limit[i] = face[i] >= 0 ? at[i] + portal_slack(at[i], lanes.scale_of(i)) : at[i];
  }
  const auto end_bent = [&](HitBatch<Number>& hits) {
    if (lanes.bent == nullptr) return;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (lanes.bent[i] < 0 || face[i] >= 0) continue;
      if (hits.ending[i] != Ending::escaped && hits.t[i] < lanes.limit[i]) continue;
      hits.t[i] = hits.exit[i] = lanes.limit[i];
      hits.ending[i] = Ending::crossed;
      hits.face[i] = Face::none;
      hits.item[i] = static_cast<std::uint32_t>(lanes.bent[i]);
    }
  };
  std::fill(rest.limit + lanes.size, rest.limit + capacity, Number(0));
  HitBatch<Number> hits = trace_solids(room, rest, budget, tally);
  end_bent(hits);

  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (face[i] < 0) continue;
    const Number slack = portal_slack(at[i], lanes.scale_of(i));
    if (hits.ending[i] != Ending::escaped && hits.t[i] + slack < at[i]) continue;
    const PortalFace& met = room.portals->faces()[static_cast<std::size_t>(face[i])];
    hits.t[i] = hits.exit[i] = at[i];
    hits.ending[i] = rim[i] ? Ending::hit : Ending::crossed;
    hits.item[i] = rim[i] ? no_item : static_cast<std::uint32_t>(face[i]);
    hits.material[i] = met.rim_material;
    hits.face[i] = rim[i] ? Face::curved : Face::none;
    hits.other[i] = met.rim_material;
    hits.share[i] = 0;
    if (!rim[i]) continue;
    const Vec3d way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
    const Vec3d place = Vec3d(lanes.x[i], lanes.y[i], lanes.z[i]) + double(at[i]) * way;
    const Vec3d out =
        met.shape == OpeningShape::sphere ? (place - met.middle) / met.radius : met.normal;
    const Vec3d normal = out.dot(way) > 0 ? Vec3d(-out) : out;
    hits.normal_x[i] = static_cast<float>(normal.x());
    hits.normal_y[i] = static_cast<float>(normal.y());
    hits.normal_z[i] = static_cast<float>(normal.z());
  }
  return hits;
}

/// The first surface or portal each lane meets in a room. Lanes that meet a portal have crossed:
/// their item is its face. Rims are surfaces.
template <class Number>
HitBatch<Number> trace_room(const CompiledRoom& room, const LaneBatch<Number>& lanes,
                            const Budget& budget, Tally& tally) {
  if (!room.portals) return trace_solids(room, lanes, budget, tally);
  return trace_portals(room, lanes, budget, tally);
}

}  // namespace photonlane
