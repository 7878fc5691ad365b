#include "follow/follow.hpp"

#include <algorithm>
#include <memory>

#include "base/stage_clock.hpp"
#include "follow/lane_recorder.hpp"
#include "follow/look.hpp"
#include "follow/passing.hpp"
#include "room/portal_faces.hpp"
#include "trace/company.hpp"
#include "trace/lane_sight.hpp"

namespace photonlane {
namespace {

/// Gives each lane of a batch its share of what that took, by what was counted of each (null:
/// evenly).
template <class Give>
void share_out(const StageReading& reading, const std::uint32_t* steps,
               const std::uint32_t* evaluations, std::size_t size, const Give& give) {
  const auto weight = [&](std::size_t i) {
    // What is done once for a lane is about as much as two steps.
    return 2.0f + static_cast<float>(steps != nullptr ? steps[i] : 0) +
           static_cast<float>(evaluations != nullptr ? evaluations[i] : 0);
  };
  float sum = 0;
  for (std::size_t i = 0; i < size; ++i) sum += weight(i);
  for (std::size_t i = 0; i < size; ++i) {
    const float share = weight(i) / sum;
    give(i, share * static_cast<float>(reading.ticks), share * static_cast<float>(reading.work));
  }
}

template <class Number>
class Follower {
 public:
  Follower(const SceneView& view, Pool& pool, LightSink& pixels, Tally& tally)
      : view_(view),
        pool_(pool),
        pixels_(pixels),
        tally_(tally),
        share_(view.sample_share()),
        together_(view.gains ? company_size : 1) {}

  void run() {
    for (;;) {
      if (pool_.size() > 0 && full_ < together_) {
        trace();
      } else if (ended_.empty()) {
        return;
      } else {
        look();
      }
    }
  }

 private:
  static constexpr std::size_t capacity = LaneBatch<Number>::capacity;

  /// Lanes of a kind that have met something other than a portal.
  struct Ended {
    std::uint32_t kind = 0;
    std::size_t size = 0;
    std::uint32_t slots[capacity];
    HitBatch<Number> hits;
  };

  /// The lanes of some slots, all of one room; `bent` has room for as many.
  void gather(const std::uint32_t* slots, std::size_t size, LaneBatch<Number>& lanes,
              std::int32_t* bent) const {
    const Onward& first = pool_.lane(slots[0]);
    const RoomView& here = view_.rooms[first.room];
    lanes.size = size;
    lanes.far_limit = static_cast<Number>(view_.budget.far_limit);
    lanes.any_face = here.room.portals != nullptr;
    // What has only gone through portals keeps together; what was thrown back spreads.
    lanes.together = first.bounce == 0;
    // A lane that comes out of a portal does not hit the wall it lies in.
    lanes.any_start = first.out_of_portal;
    std::fill_n(lanes.start, capacity, Number(0));
    if (!here.room.swells.empty()) {
      lanes.bent = bent;
      lanes.any_limit = true;
    }
    for (std::size_t i = 0; i < size; ++i) {
      put_lane(pool_.lane(slots[i]), i, lanes, bent);
    }
    std::fill(lanes.limit + size, lanes.limit + capacity, Number(0));
    std::fill(lanes.scale + size, lanes.scale + capacity, Number(1));
  }

  /// A batch on a leg.
  struct Traced {
    std::uint32_t slots[capacity];
    std::size_t size;
    LaneBatch<Number> lanes;
    std::int32_t bent[capacity];
    HitBatch<Number> hits;
    StageReading reading;
  };

  /// One leg of the kinds of lanes of which most wait.
  void trace() {
    const StageScope order(LaneKind::bounces, Work::order);
    std::size_t count = 0;
    for (; count < together_ - full_ && pool_.size() > 0; ++count) {
      if (traced_.size() == count) traced_.push_back(std::make_unique<Traced>());
      Traced& one = *traced_[count];
      one.lanes = {};
      one.reading = {};
      one.size = pool_.take(one.slots);
      gather(one.slots, one.size, one.lanes, one.bent);
    }
    in_company(view_.in_company(), count, [&](std::size_t i) {
      Traced& one = *traced_[i];
      const StageMeter meter(pixels_.meters() ? &one.reading : nullptr);
      const StageScope stage(kind(pool_.lane(one.slots[0])));
      const RoomView& here = view_.rooms[pool_.lane(one.slots[0]).room];
      if (view_.log != nullptr) {
        view_.log->start(
            one.lanes, [&](std::size_t k) { return view_.log->follows(pool_.lane(one.slots[k])); });
      }
      one.hits = trace_room(here.room, one.lanes, view_.budget, tally_);
      // A log knows of one batch at a time.
      if (view_.log != nullptr) take(one);
    });
    if (view_.log != nullptr) return;
    for (std::size_t i = 0; i < count; ++i) take(*traced_[i]);
  }

  /// Takes what lanes have met: those at portals go on.
  void take(const Traced& traced) {
    const RoomView& here = view_.rooms[pool_.lane(traced.slots[0]).room];
    const HitBatch<Number>& hits = traced.hits;
    const std::size_t size = traced.size;
    const StageScope stage(kind(pool_.lane(traced.slots[0])), Work::portals, size);
    if (pixels_.meters()) {
      share_out(traced.reading, hits.steps, hits.evaluations, size,
                [&](std::size_t i, float ticks, float work) {
                  pixels_.spend(pool_.lane(traced.slots[i]), ticks, work);
                });
    }
    if (pool_.lane(traced.slots[0]).own) {
      count(hits, size, 0, tally_);
    } else {
      for (std::size_t i = 0; i < size; ++i) tally_.secondary_steps += hits.steps[i];
    }
    for (std::size_t i = 0; i < size; ++i) {
      const std::uint32_t slot = traced.slots[i];
      if (hits.ending[i] == Ending::crossed &&
          may_pass(view_, here, hits.item[i], pool_.lane(slot))) {
        go_through(here, hits, i, slot);
      } else {
        if (view_.log != nullptr) view_.log->keep_march(slot, i);
        end(hits, i, slot);
      }
    }
  }

  static bool hides(const RoomView& here, float meters) {
    return fog_share(here.room.fog, static_cast<double>(meters)) >= 1;
  }

  /// What the fog on so many more meters in a room adds to a lane's pixel.
  Color shine_of_fog(const RoomView& here, const Onward& lane, const float* travelled,
                     float meters) const {
    const float before = travelled[here.index];
    float shine = share_ * (fog_share(here.room.fog, static_cast<double>(before + meters)) -
                            fog_share(here.room.fog, static_cast<double>(before)));
    if (!(shine > 0)) return {0, 0, 0};
    shine = past_other_fog(view_, travelled, here.index, shine);
    return {shine * lane.red * here.fog.red, shine * lane.green * here.fog.green,
            shine * lane.blue * here.fog.blue};
  }

  /// Takes a lane on behind a portal, or along its next chord.
  void go_through(const RoomView& here, const HitBatch<Number>& hits, std::size_t i,
                  std::uint32_t slot) {
    Onward& lane = pool_.lane(slot);
    const auto t = static_cast<float>(hits.t[i]);
    const float fogged = lane.inside ? 0 : lane.metric * t;
    const Color fog = shine_of_fog(here, lane, pool_.travelled(slot), fogged);
    if (!lane.blind && !fog.isZero()) pixels_.add(lane, fog[0], fog[1], fog[2]);
    pool_.travelled(slot)[here.index] += fogged;
    if (lane.inside) {
      lane.red *= std::exp(-lane.absorb_red * t);
      lane.green *= std::exp(-lane.absorb_green * t);
      lane.blue *= std::exp(-lane.absorb_blue * t);
    } else if (!lane.settles && hides(here, pool_.travelled(slot)[here.index])) {
      // The fog hides all that is behind.
      if (lane.own) {
        ++tally_.escaped;
        --tally_.hits;
      }
      pool_.release(slot);
      return;
    }
    lane.path += static_cast<double>(lane.metric * t);
    lane.steps += hits.steps[i];
    if (!here.room.only_cells()) lane.evaluations += hits.evaluations[i];
    const Vec3d at = lane.from + static_cast<double>(hits.t[i]) * lane.way;
    if (view_.log != nullptr && view_.log->follows(lane)) {
      lane.note = view_.log->go_through(here, lane, static_cast<double>(hits.t[i]), at,
                                        hits.item[i], hits.steps[i], i, share_, fog);
    }
    pass(view_, here, hits.item[i], at, Vec3d(lane.way), lane, tally_);
    pool_.wait(slot);
  }

  /// Puts a lane that has met something with others of its kind.
  void end(const HitBatch<Number>& hits, std::size_t i, std::uint32_t slot) {
    const std::uint32_t kind = kind_of(pool_.lane(slot));
    auto found = std::find_if(ended_.begin(), ended_.end(), [&](const auto& one) {
      return one->kind == kind && one->size < capacity;
    });
    if (found == ended_.end()) {
      std::unique_ptr<Ended> fresh;
      if (spare_.empty()) {
        fresh = std::make_unique<Ended>();
      } else {
        fresh = std::move(spare_.back());
        spare_.pop_back();
      }
      fresh->kind = kind;
      fresh->size = 0;
      ended_.push_back(std::move(fresh));
      found = ended_.end() - 1;
    }
    Ended& ended = **found;
    ended.slots[ended.size] = slot;
    ended.hits.take(hits, i, ended.size);
    full_ += ++ended.size == capacity;
  }

  static LaneKind kind(const Onward& lane) {
    return lane.bounce > 0 ? LaneKind::bounces : LaneKind::portals;
  }

  /// Looks at what full batches of lanes have met; where none is full, at the largest.
  void look() {
    std::stable_sort(ended_.begin(), ended_.end(),
                     [](const auto& a, const auto& b) { return a->size > b->size; });
    std::size_t count = std::min(std::max(full_, std::size_t{1}), together_);
    // Of the last ones nothing is left to wait for.
    if (full_ == 0 && pool_.size() == 0) count = std::min(ended_.size(), together_);
    std::vector<std::unique_ptr<Ended>> now(
        std::make_move_iterator(ended_.begin()),
        std::make_move_iterator(ended_.begin() + static_cast<std::ptrdiff_t>(count)));
    ended_.erase(ended_.begin(), ended_.begin() + static_cast<std::ptrdiff_t>(count));
    full_ -= std::min(full_, count);
    while (held_.size() < count) held_.push_back(std::make_unique<Held>(pool_));
    in_company(view_.in_company(), count, [&](std::size_t i) {
      held_[i]->reading = {};
      const StageMeter meter(pixels_.meters() ? &held_[i]->reading : nullptr);
      const StageScope stage(kind(pool_.lane(now[i]->slots[0])));
      look_at(*now[i], *held_[i]);
    });
    const StageScope order(LaneKind::bounces, Work::order);
    for (std::size_t i = 0; i < count; ++i) give(*held_[i]);
    for (auto& one : now) spare_.push_back(std::move(one));
  }

  /// The lanes of a batch that is looked at, and what they see.
  struct Held {
    explicit Held(Pool& pool) : outbox(pool) {}
    std::size_t size = 0;
    StageReading reading;
    bool settles = false;
    std::vector<float> travelled;
    Onward onward[capacity];
    LanePixel pixel_of[capacity];
    Colors sums;
    Seen seen;
    Outbox outbox;
  };

  /// Looks at what lanes have met.
  void look_at(const Ended& ended, Held& held) {
    const std::size_t size = held.size = ended.size;
    const std::size_t rooms = view_.rooms.size();
    LaneBatch<Number> lanes;
    std::int32_t bent[capacity];
    gather(ended.slots, size, lanes, bent);
    LaneMedium medium;
    std::vector<float>& travelled = held.travelled;
    Onward* onward = held.onward;
    LanePixel* pixel_of = held.pixel_of;
    bool& settles = held.settles = false;
    travelled.resize(capacity * rooms);
    for (std::size_t i = 0; i < size; ++i) {
      const std::uint32_t slot = ended.slots[i];
      const Onward& lane = onward[i] = pool_.lane(slot);
      pixel_of[i] = {lane.x, lane.y, lane.sample, static_cast<std::uint32_t>(lane.bounce)};
      std::copy_n(pool_.travelled(slot), rooms, travelled.data() + i * rooms);
      medium.inside[i] = lane.inside;
      medium.red[i] = lane.absorb_red;
      medium.green[i] = lane.absorb_green;
      medium.blue[i] = lane.absorb_blue;
      settles = settles || lane.settles;
      if (view_.log != nullptr) view_.log->recall_march(slot, i);
      pool_.release(slot);
    }
    if (settles) held.seen = {};
    const Onward& first = onward[0];
    const RoomView& here = view_.rooms[first.room];
    LaneSight<Number> sight(view_, here, lanes, tally_, first.own ? Counted::later : Counted::aside,
                            &ended.hits);
    const Leg leg{.light = first.dark || first.blind ? &rayless : &view_.budget.light,
                  .lanes = onward,
                  .travelled = travelled.data(),
                  .medium = &medium};
    const PixelPlace place{.lanes = pixel_of,
                           .seed = static_cast<std::uint64_t>(view_.budget.frame.seed)};
    photonlane::look({.view = view_,
                      .here = here,
                      .sight = sight,
                      .place = place,
                      .share = first.blind ? 0.0f : 1.0f,
                      .leg = &leg,
                      .seen = settles ? &held.seen : nullptr,
                      .outbox = &held.outbox},
                     true, held.sums, tally_);
  }

  /// Adds what a batch has seen to its pixels; what is thrown back from there waits in the pool.
  void give(Held& held) {
    held.outbox.send();
    const Onward* lanes = held.onward;
    if (pixels_.meters()) {
      share_out(
          held.reading, nullptr, nullptr, held.size,
          [&](std::size_t i, float ticks, float work) { pixels_.spend(lanes[i], ticks, work); });
    }
    for (std::size_t i = 0; held.settles && i < held.size; ++i) {
      if (lanes[i].settles && held.seen.kept[i]) pixels_.settle(lanes[i], held.seen.surfaces, i);
    }
    if (lanes[0].blind) return;
    const Colors& sums = held.sums;
    for (std::size_t i = 0; i < held.size; ++i) {
      pixels_.add(lanes[i], share_ * sums.red[i], share_ * sums.green[i], share_ * sums.blue[i]);
      if (view_.uncovers) pixels_.uncover(lanes[i], share_ * sums.alpha[i]);
    }
  }

  const SceneView& view_;
  Pool& pool_;
  LightSink& pixels_;
  Tally& tally_;
  const float share_;           ///< of a sample in its pixel
  const std::size_t together_;  ///< batches that are traced or looked at in company
  std::vector<std::unique_ptr<Traced>> traced_;
  std::vector<std::unique_ptr<Ended>> ended_, spare_;
  std::vector<std::unique_ptr<Held>> held_;
  std::size_t full_ = 0;  ///< of those that have ended
};

}  // namespace

void go_on(const SceneView& view, Pool& pool, LightSink& pixels, Tally& tally) {
  if (pool.size() == 0) return;
  if (view.budget.number == NumberType::float64) {
    Follower<double>(view, pool, pixels, tally).run();
  } else {
    Follower<float>(view, pool, pixels, tally).run();
  }
}

}  // namespace photonlane
