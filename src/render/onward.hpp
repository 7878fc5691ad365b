#pragma once

#include <cstdint>
#include <vector>

#include "render/job.hpp"
#include "render/look.hpp"

namespace photonlane {

/// A lane on its way from a surface or out of a portal: all it needs to go on by itself, in
/// another batch.
struct Onward {
  Vec3d from{0, 0, 0};           ///< where it starts, in its room
  Vec3d way{1, 0, 0};            ///< unit length
  Eigen::Vector3f eye{0, 0, 0};  ///< where the camera's eye is, for who looks back from here

  double path = 0;   ///< meters from the eye to here, in this room's measure
  double scale = 1;  ///< meters in this room for a meter at the eye
  float red = 1;     ///< what it counts in its sample, but for the fog of rooms
  float green = 1;
  float blue = 1;
  std::uint32_t x = 0;  ///< of its pixel
  std::uint32_t y = 0;
  std::uint32_t sample = 0;
  std::uint32_t room = 0;
  std::int32_t face = -1;  ///< of a portal that it comes out of
  std::uint32_t steps = 0;
  std::uint32_t evaluations = 0;
  std::uint16_t bounce = 0;  ///< how many there were
  std::uint16_t bounces_left = 0;
  std::uint32_t crossings = 0;
  std::int32_t note = -1;   ///< the leg before in a lane log
                            // In a swell: along chords of the way, each to where the next starts.
  std::int32_t swell = -1;  ///< its face; -1: none
  bool out_of_portal = false;

  std::uint32_t bent_steps = 0;
  BentLane bent;     ///< at the chord's end
  float chord = 0;   ///< meters
  float stride = 0;  ///< how long the next step may be
  float metric = 1;  ///< meters by the metric for a meter of the chord

  bool own = false;      ///< one of the frame's, not thrown back or bent yet: its end is counted
  bool settles = false;  ///< the layers of its pixel are of what it meets
  bool blind = false;    ///< only for the layers
  bool dark = false;     ///< what it sees is lit by no rays
  bool inside = false;   ///< in a body that bends light, which takes so much per meter
  float absorb_red = 0;
  float absorb_green = 0;
  float absorb_blue = 0;
};

/// Lanes that wait for others of their kind, so that batches are full whatever they come from: all
/// of one room, seen in one way.
class Pool {
 public:
  /// Lanes taken out together.
  struct Batch {
    std::size_t size = 0;
    Onward lanes[Surfaces::capacity];
    std::vector<float> travelled;  ///< a row of rooms for each lane
  };

  explicit Pool(std::size_t rooms) : rooms_(rooms) {}

  std::size_t rooms() const { return rooms_; }
  std::size_t size() const { return size_; }
  /// `before` has the meters in each room (null: none) but for those it has run since in one, by
  /// which fog goes.
  void add(const Onward& lane, const float* before, std::uint32_t room, float meters);

  /// Takes the oldest of the kind of which most wait.
  void take(Batch& batch);

 private:
  struct Queue {
    std::uint32_t room;
    bool own, blind, dark, bounced;
    bool leaves;  ///< starts on a portal, and maybe on the wall it lies in

    std::size_t first = 0;
    std::vector<Onward> lanes;
    std::vector<float> travelled;
    std::size_t waiting() const { return lanes.size() - first; }
  };

  std::size_t rooms_;
  std::size_t size_ = 0;
  std::vector<Queue> queues_;
};

/// The pixels that the lanes of a pool are of: blocks side by side.
class PixelSums {
 public:
  /// A block of pixels; its lane i is pixel (x + i % width, y + i / width).
  struct Block {
    int x = 0, y = 0;
    int width = 0, height = 0;
    Colors sums;
    Seen seen;
  };

  /// Of blocks of that size, `across` of them in a row; those at the right may be narrower.
  PixelSums(int block_width, int block_height, int across)
      : block_width_(block_width), block_height_(block_height), across_(across) {}

  std::vector<Block> blocks;

  void add(const Onward& lane, float red, float green, float blue);
  /// Settles the layers of a lane's pixel by surface i.
  void settle(const RenderJob& job, const Onward& lane, const Surfaces& surfaces, std::size_t i);

 private:
  struct Slot {
    std::size_t block, lane;
  };
  Slot slot(const Onward& lane) const;

  int block_width_, block_height_, across_;
};

/// Follows all lanes of a pool, and those that come from them, until none is left.
void go_on(const RenderJob& job, Pool& pool, PixelSums& pixels, Tally& tally);

}  // namespace photonlane
