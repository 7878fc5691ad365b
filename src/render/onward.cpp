#include "render/onward.hpp"

#include <algorithm>

#include "render/lane_recorder.hpp"
#include "render/lane_sight.hpp"

namespace photonlane {
namespace {

template <class Number>
void follow(const RenderJob& job, const Pool::Batch& batch, Pool& pool, PixelSums& pixels,
            Tally& tally) {
  const Onward& first = batch.lanes[0];
  const RoomView& here = job.rooms[first.room];
  LaneBatch<Number> lanes;
  LaneMedium medium;
  lanes.size = batch.size;
  lanes.far_limit = static_cast<Number>(job.budget.far_limit);
  lanes.any_face = here.room.portals != nullptr;
  // What has only gone through portals keeps together; what was thrown back spreads.
  lanes.together = first.bounce == 0;
  // The wall a portal lies in is not met by who comes out of it.
  lanes.any_start = first.out_of_portal;
  std::fill_n(lanes.start, Surfaces::capacity, Number(0));

  std::int32_t bent[Surfaces::capacity];
  if (!here.room.swells.empty()) {
    lanes.bent = bent;
    lanes.any_limit = true;
  }

  bool settles = false;
  for (std::size_t i = 0; i < batch.size; ++i) {
    const Onward& lane = batch.lanes[i];
    lanes.x[i] = static_cast<Number>(lane.from.x());
    lanes.y[i] = static_cast<Number>(lane.from.y());
    lanes.z[i] = static_cast<Number>(lane.from.z());
    lanes.direction_x[i] = static_cast<Number>(lane.way.x());
    lanes.direction_y[i] = static_cast<Number>(lane.way.y());
    lanes.direction_z[i] = static_cast<Number>(lane.way.z());
    lanes.face[i] = lane.face;
    bent[i] = lane.swell;
    lanes.limit[i] = lane.swell >= 0 ? static_cast<Number>(lane.chord) : lanes.far_limit;

    medium.inside[i] = lane.inside;
    medium.red[i] = lane.absorb_red;
    medium.green[i] = lane.absorb_green;
    medium.blue[i] = lane.absorb_blue;
    settles = settles || lane.settles;
  }
  std::fill(lanes.limit + batch.size, lanes.limit + Surfaces::capacity, Number(0));
  const PixelPlace place{.lanes = batch.lanes};
  if (job.log != nullptr) job.log->start(place, lanes);
  LaneSight<Number> sight(job, here, lanes, tally, first.own ? Counted::later : Counted::aside);

  const Leg leg{.light = first.dark || first.blind ? &rayless : &job.budget.light,
                .lanes = batch.lanes,
                .travelled = batch.travelled.data(),
                .medium = &medium};
  Colors sums;
  Seen seen;

  look(job, here, sight, place, first.blind ? 0.0f : 1.0f, true, sums, settles ? &seen : nullptr,
       tally, &pool, &leg);
  for (std::size_t i = 0; settles && i < batch.size; ++i) {
    if (batch.lanes[i].settles && seen.kept[i]) {
      pixels.settle(job, batch.lanes[i], seen.surfaces, i);
    }
  }
  if (first.blind) return;

  const float share = 1.0f / static_cast<float>(job.offsets.size());
  for (std::size_t i = 0; i < batch.size; ++i) {
    pixels.add(batch.lanes[i], share * sums.red[i], share * sums.green[i], share * sums.blue[i]);
  }
}

}  // namespace

void Pool::add(const Onward& lane, const float* before, std::uint32_t room, float meters) {
  ++size_;
  const bool bounced = lane.bounce > 0;
  auto queue = std::find_if(queues_.begin(), queues_.end(), [&](const Queue& one) {
    return one.room == lane.room && one.own == lane.own && one.blind == lane.blind &&
           one.dark == lane.dark && one.bounced == bounced && one.leaves == lane.out_of_portal;
  });
  if (queue == queues_.end()) {
    queues_.push_back(
        {lane.room, lane.own, lane.blind, lane.dark, bounced, lane.out_of_portal, 0, {}, {}});
    queue = queues_.end() - 1;
  }
  queue->lanes.push_back(lane);
  std::vector<float>& travelled = queue->travelled;
  if (before != nullptr) {
    travelled.insert(travelled.end(), before, before + rooms_);
  } else {
    travelled.insert(travelled.end(), rooms_, 0.0f);
  }
  travelled[travelled.size() - rooms_ + room] += meters;
}

void Pool::take(Batch& batch) {
  const auto queue =
      std::max_element(queues_.begin(), queues_.end(),
                       [](const Queue& a, const Queue& b) { return a.waiting() < b.waiting(); });
  batch.size = std::min(queue->waiting(), Surfaces::capacity);
  const auto from = static_cast<std::ptrdiff_t>(queue->first);
  std::copy_n(queue->lanes.begin() + from, batch.size, batch.lanes);
  const auto rows = static_cast<std::ptrdiff_t>(rooms_);
  batch.travelled.assign(
      queue->travelled.begin() + from * rows,
      queue->travelled.begin() + (from + static_cast<std::ptrdiff_t>(batch.size)) * rows);
  queue->first += batch.size;
  size_ -= batch.size;
  if (queue->waiting() > 0) return;
  queue->first = 0;
  queue->lanes.clear();
  queue->travelled.clear();
}

PixelSums::Slot PixelSums::slot(const Onward& lane) const {
  const int x = static_cast<int>(lane.x) - blocks.front().x;
  const int y = static_cast<int>(lane.y) - blocks.front().y;
  const int column = x / block_width_;
  const int row = y / block_height_;
  const std::size_t block = static_cast<std::size_t>(row) * across_ + column;
  return {block, static_cast<std::size_t>((y - row * block_height_) * blocks[block].width + x -
                                          column * block_width_)};
}

void PixelSums::add(const Onward& lane, float red, float green, float blue) {
  const Slot at = slot(lane);
  Colors& sums = blocks[at.block].sums;
  sums.red[at.lane] += red;
  sums.green[at.lane] += green;
  sums.blue[at.lane] += blue;
}

void PixelSums::settle(const RenderJob& job, const Onward& lane, const Surfaces& surfaces,
                       std::size_t i) {
  const Slot at = slot(lane);
  Surfaces& solid = blocks[at.block].seen.surfaces;
  solid.copy(surfaces, i, at.lane);
  solid.steps[at.lane] += lane.steps;
  solid.evaluations[at.lane] += lane.evaluations;
  solid.room[at.lane] = lane.room;
  solid.crossings[at.lane] = lane.crossings;
  solid.any_curved = solid.any_curved || surfaces.face[i] == Face::curved;
  solid.any_panel = solid.any_panel || surfaces.face[i] == Face::panel;
  // As if the way had been straight, in the eye's measure.
  const double t = (lane.path + static_cast<double>(lane.metric * surfaces.t[i])) / lane.scale;
  const Viewing& view = job.view;
  const Vec3d way = view.ray(view.u(lane.x + 0.5), view.v(lane.y + 0.5));
  solid.t[at.lane] = static_cast<float>(t);
  solid.x[at.lane] = static_cast<float>(t * way.x());
  solid.y[at.lane] = static_cast<float>(t * way.y());
  solid.z[at.lane] = static_cast<float>(t * way.z());
}

void go_on(const RenderJob& job, Pool& pool, PixelSums& pixels, Tally& tally) {
  Pool::Batch batch;
  while (pool.size() > 0) {
    pool.take(batch);
    if (job.budget.number == NumberType::float64) {
      follow<double>(job, batch, pool, pixels, tally);
    } else {
      follow<float>(job, batch, pool, pixels, tally);
    }
  }
}

}  // namespace photonlane
