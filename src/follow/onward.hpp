#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

#include "photonlane/base/vector.hpp"
#include "photonlane/lane/lanes.hpp"
#include "photonlane/room/swell.hpp"

namespace photonlane {

/// A lane on its way from a surface or out of a portal: all it needs to go on by itself, in
/// another batch. What every leg needs and changes comes first.
struct alignas(64) Onward {
  Vec3d from{0, 0, 0};  ///< where it starts, in its room
  Vec3d way{1, 0, 0};   ///< unit length
  double path = 0;      ///< meters from the eye to here, in this room's measure
  double scale = 1;     ///< meters in this room for a meter at the eye

  std::uint32_t room = 0;
  std::int32_t face = -1;  ///< of a portal that it comes out of
  std::uint32_t crossings = 0;
  std::uint32_t steps = 0;
  std::uint32_t evaluations = 0;
  // In a swell: along chords of the way, each to where the next starts.
  std::int32_t swell = -1;  ///< its face; -1: none
  std::uint32_t bent_steps = 0;
  float chord = 0;           ///< meters
  float metric = 1;          ///< meters by the metric for a meter of the chord
  float stride = 0;          ///< how long the next step may be
  std::uint16_t bounce = 0;  ///< how many there were
  std::uint16_t bounces_left = 0;
  bool out_of_portal = false;

  bool own = false;      ///< one of the frame's, not thrown back or bent yet: its end is counted
  bool settles = false;  ///< the layers of its pixel are of what it meets
  bool blind = false;    ///< only for the layers
  bool dark = false;     ///< what it sees is lit by no rays
  bool inside = false;   ///< in a body that bends light, which takes so much per meter
  float absorb_red = 0;
  float absorb_green = 0;
  float absorb_blue = 0;

  std::uint32_t x = 0;  ///< of its pixel
  std::uint32_t y = 0;
  std::uint32_t sample = 0;
  std::int32_t note = -1;  ///< the leg before in a lane log
  float red = 1;           ///< what it counts in its sample, but for the fog of rooms
  float green = 1;
  float blue = 1;
  Eigen::Vector3f eye{0, 0, 0};  ///< where the camera's eye is, as seen from here
  BentLane bent;                 ///< at the chord's end
};

/// Puts a lane into a batch, as its i-th. `bent` gets the face of the swell it is in, or -1.
template <class Number>
void put_lane(const Onward& lane, std::size_t i, LaneBatch<Number>& lanes, std::int32_t* bent) {
  lanes.any_scale = lanes.any_scale || lane.scale < 1;
  lanes.scale[i] = static_cast<Number>(std::min(lane.scale, 1.0));
  lanes.x[i] = static_cast<Number>(lane.from.x());
  lanes.y[i] = static_cast<Number>(lane.from.y());
  lanes.z[i] = static_cast<Number>(lane.from.z());
  lanes.direction_x[i] = static_cast<Number>(lane.way.x());
  lanes.direction_y[i] = static_cast<Number>(lane.way.y());
  lanes.direction_z[i] = static_cast<Number>(lane.way.z());
  lanes.face[i] = lane.face;
  bent[i] = lane.swell;
  lanes.limit[i] = lane.swell >= 0 ? static_cast<Number>(lane.chord) : lanes.far_limit;
}

/// Lanes that wait for others of their kind, so that batches are full whatever they come from: all
/// of one room, seen in one way. Each has a slot, where it stays however many legs it goes.
class Pool {
 public:
  explicit Pool(std::size_t rooms) : rooms_(rooms) {}

  /// How many wait.
  std::size_t size() const { return size_; }
  Onward& lane(std::uint32_t slot) { return lanes_[slot]; }
  /// Its meters in each room, by which fog goes.
  float* travelled(std::uint32_t slot) { return travelled_.data() + slot * rooms_; }

  /// A new lane, which does not wait yet: its slot. `before` has its meters in each room (null:
  /// none) but for those it has run since in one.
  std::uint32_t put(const Onward& lane, const float* before, std::uint32_t room, float meters);

  /// Takes the oldest of the kind of which most wait, as many as a batch has: their slots.
  std::size_t take(std::uint32_t* slots);
  /// What was put in or taken waits, maybe elsewhere than before.
  void wait(std::uint32_t slot);
  /// What was taken has come to its end.
  void release(std::uint32_t slot) { free_.push_back(slot); }

 private:
  struct Queue {
    std::uint32_t kind;
    std::size_t first = 0;
    std::vector<std::uint32_t> slots;
    std::size_t waiting() const { return slots.size() - first; }
  };

  std::size_t rooms_;
  std::size_t size_ = 0;
  std::size_t last_ = 0;  ///< the queue that was added to last
  std::vector<Onward> lanes_;
  std::vector<float> travelled_;
  std::vector<std::uint32_t> free_;
  std::vector<Queue> queues_;
};

/// What goes on from one batch, until it is sent to the pool: so lanes wait there in the order of
/// the batches, however those take turns.
class Outbox {
 public:
  explicit Outbox(Pool& pool) : pool_(pool) {}

  void add(const Onward& lane, const float* before, std::uint32_t room, float meters) {
    slots_.push_back(pool_.put(lane, before, room, meters));
  }
  void send() {
    for (const std::uint32_t slot : slots_) pool_.wait(slot);
    slots_.clear();
  }

 private:
  Pool& pool_;
  std::vector<std::uint32_t> slots_;
};

/// The same for lanes that may share a batch.
std::uint32_t kind_of(const Onward& lane);

}  // namespace photonlane
