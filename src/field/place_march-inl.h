// Per-target include: marching lanes each by what of a field matters where it is.

#if defined(PHOTONLANE_FIELD_PLACE_MARCH_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_PLACE_MARCH_INL_H_
#undef PHOTONLANE_FIELD_PLACE_MARCH_INL_H_
#else
#define PHOTONLANE_FIELD_PLACE_MARCH_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <limits>
#include <span>

#include "base/stage_clock.hpp"
#include "field/march-inl.h"
#include "field/place_lanes.hpp"
#include "field/places-inl.h"
#include "lane/hits.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Lanes of some batches that march each by what matters where it is. Those in cubes in which the
/// same matters go together, as long as half of them stay there. What one lane does and gives does
/// not depend on the others.
template <class D>
class PlaceMarch final : private Guide<D>, private MarchBlock<D> {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using Block = MarchBlock<D>;
  using Lane = PlaceLane<Number>;

 public:
  /// `work` has what is the same for all lanes, and room for some of them.
  PlaceMarch(const Tape& tape, PlaceTree& tree, LaneBatch<Number>& work, const FieldBudget& budget)
      : Block(tape, work, budget, *this), work_(work), places_(this->machine_, tape, tree) {}

  void run(std::span<const LaneBatch<Number>* const> lanes,
           std::span<HitBatch<Number>* const> hits) {
    lanes_of_ = lanes;
    hits_of_ = hits;
    take();
    while (waiting_ + close_count_ > 0) go_on();
    finish();
  }

 private:
  enum Flag : std::uint8_t {
    over = 1,
    leaving = 2,
    retreated = 4,
    going = 8,
    hit = 16,
    spent = 32,
    close = 64,  ///< waits to be asked for its slope
    sided = 128
  };
  static constexpr std::size_t most_in_block = block_vectors * hn::MaxLanes(D());

  /// All lanes that have a way to go.
  void take() {
    waiting_ = close_count_ = ended_ = 0;
    std::size_t count = 0;
    HWY_ALIGN Number near[LaneBatch<Number>::capacity];
    HWY_ALIGN Number far[LaneBatch<Number>::capacity];
    for (std::size_t b = 0; b < lanes_of_.size(); ++b) {
      const LaneBatch<Number>& lanes = *lanes_of_[b];
      let_escape(lanes, *hits_of_[b]);
      EnterBounds(D(), this->tape_, lanes, this->budget_, near, far);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        if (!(near[i] <= far[i])) continue;
        Lane& lane = room_->lanes[count];
        lane.x = lanes.x[i];
        lane.y = lanes.y[i];
        lane.z = lanes.z[i];
        lane.direction_x = lanes.direction_x[i];
        lane.direction_y = lanes.direction_y[i];
        lane.direction_z = lanes.direction_z[i];
        lane.start = lanes.any_start ? lanes.start[i] : Number(0);
        lane.scale = lanes.any_scale ? lanes.scale[i] : Number(1);
        lane.t = lane.before = near[i];
        lane.far_end = far[i];
        lane.side = 1;
        lane.steps = lane.more = lane.last = lane.stride = lane.left = 0;
        lane.value = lane.value_before = lane.nearest = std::numeric_limits<Number>::infinity();
        lane.batch = static_cast<std::uint16_t>(b);
        lane.lane = static_cast<std::uint8_t>(i);
        lane.enter = std::numeric_limits<Number>::infinity();
        lane.leave = -lane.enter;
        lane.part = 0;
        lane.around = 0;
        lane.block = PlaceTree::none;
        lane.shift = 0;
        lane.flags = going;
        if (!lanes.any_start || near[i] <= lane.start) lane.flags |= leaving;
        room_->waiting[waiting_++] = static_cast<std::uint32_t>(count++);
      }
    }
  }

  struct Place {
    Number at[3];
  };
  static Place place_of(const Lane& lane) {
    return {{lane.x + lane.t * lane.direction_x, lane.y + lane.t * lane.direction_y,
             lane.z + lane.t * lane.direction_z}};
  }

  /// Finds the cube a lane is in, and how far it stays there. Out of cubes that are empty it goes
  /// without looking.
  void locate(Lane& lane) {
    // Who was sent away by the others only, stays: what it does must not depend on them.
    if (lane.enter <= lane.t && lane.t <= lane.leave) return;
    PlaceCube<Number> cube;
    typename Places<D>::Last last{lane.around, lane.block, lane.shift};
    for (;;) {
      const Place place = place_of(lane);
      cube = places_.find(place.at, last);
      if (cube.clear == 0 || !jump(cube, place.at, lane)) break;
      if ((lane.flags & going) == 0) return;
    }
    lane.around = last.around;
    lane.block = last.block;
    lane.shift = last.shift;
    lane.part = cube.part;
    if (!cube.known) {
      lane.enter = lane.leave = lane.t;
      return;
    }
    const Number start[3] = {lane.x, lane.y, lane.z};
    const Number way[3] = {lane.direction_x, lane.direction_y, lane.direction_z};
    const Number more = Places<D>::margin * cube.side;
    Number enter = -std::numeric_limits<Number>::infinity();
    Number leave = -enter;
    for (int axis = 0; axis < 3; ++axis) {
      if (way[axis] == 0) continue;
      const Number per = 1 / way[axis];
      const Number one = (cube.low[axis] - more - start[axis]) * per;
      const Number two = (cube.low[axis] + cube.side + more - start[axis]) * per;
      enter = std::max(enter, std::min(one, two));
      leave = std::min(leave, std::max(one, two));
    }
    lane.enter = enter;
    lane.leave = leave;
  }

  /// Takes a lane to where it leaves the ball of emptiness around a cube; false where it is there.
  bool jump(const PlaceCube<Number>& cube, const Number (&place)[3], Lane& lane) const {
    // Equal steps are counted from where the lane starts; those that have hit something stay.
    if (this->budget_.method == FieldMethod::fixed || (lane.flags & going) == 0) return false;
    const Number half = cube.side / 2;
    const Number x = place[0] - (cube.low[0] + half);
    const Number y = place[1] - (cube.low[1] + half);
    const Number z = place[2] - (cube.low[2] + half);
    const Number along = x * lane.direction_x + y * lane.direction_y + z * lane.direction_z;
    const Number square = along * along + cube.clear * cube.clear - (x * x + y * y + z * z);
    const Number step = std::sqrt(std::max(square, Number(0))) - along;
    const Number to = lane.t + step;
    if (!(step > 0 && to > lane.t)) return false;
    lane.t = lane.before = to;
    lane.value_before = std::numeric_limits<Number>::infinity();
    lane.last = lane.stride = 0;
    lane.side = cube.clear < 0 ? Number(-1) : Number(1);
    lane.flags &= static_cast<std::uint8_t>(~leaving);
    lane.flags |= sided;
    if (!(to <= lane.far_end)) lane.flags &= static_cast<std::uint8_t>(~going);
    return true;
  }

  /// Lanes of a list in runs of which one part matters to all.
  template <class Use>
  void by_part(const std::uint32_t* list, std::size_t count, const Use& use) {
    std::size_t left = 0;
    constexpr std::size_t ahead = 8;
    for (std::size_t k = 0; k < count; ++k) {
      if (k + 2 * ahead < count) {
        const char* next = reinterpret_cast<const char*>(&room_->lanes[list[k + 2 * ahead]]);
        __builtin_prefetch(next);
        __builtin_prefetch(next + 64);
      }
      if (k + ahead < count) {
        const Lane& next = room_->lanes[list[k + ahead]];
        places_.fetch(place_of(next).at, next.block, next.shift);
      }
      Lane& lane = room_->lanes[list[k]];
      const bool goes = (lane.flags & going) != 0;
      locate(lane);
      if (goes && (lane.flags & going) == 0) {
        tell_end(lane);
      } else {
        room_->keys[left++] = std::uint64_t{lane.part} << 32 | list[k];
      }
    }
    const std::uint64_t* keys = sort_keys(room_->keys, room_->sorted, left);
    const std::size_t most = block_vectors * hn::Lanes(D());
    for (std::size_t first = 0; first < left;) {
      std::uint32_t some[most_in_block];
      std::size_t size = 0;
      const std::uint64_t part = keys[first] >> 32;
      while (size < most && first < left && keys[first] >> 32 == part) {
        some[size++] = static_cast<std::uint32_t>(keys[first++]);
      }
      part_ = static_cast<std::uint32_t>(part);
      use(some, size);
    }
  }

  /// A round: all lanes that wait, each as long as it stays where it is.
  void go_on() {
    const std::size_t count = waiting_;
    waiting_ = 0;
    by_part(room_->waiting, count, [&](const std::uint32_t* some, std::size_t size) {
      march(some, size);
      put_away(some, size);
    });
    const std::size_t some_close = close_count_;
    close_count_ = 0;
    by_part(room_->close, some_close, [&](const std::uint32_t* some, std::size_t size) {
      const std::size_t vectors = load(some, size);
      std::copy_n(this->going_, vectors, this->now_);
      Block::step(places_.part(part_), ActiveVectors::First(vectors));
      save(some, size);
      put_away(some, size);
    });
  }

  void put_away(const std::uint32_t* some, std::size_t size) {
    for (std::size_t k = 0; k < size; ++k) {
      Lane& lane = room_->lanes[some[k]];
      if ((lane.flags & close) != 0) {
        lane.flags &= static_cast<std::uint8_t>(~close);
        room_->close[close_count_++] = some[k];
      } else if ((lane.flags & going) != 0) {
        room_->waiting[waiting_++] = some[k];
      } else if ((lane.flags & hit) != 0) {
        room_->ended[ended_++] = some[k];
      } else {
        tell_end(lane);
      }
    }
  }

  /// Some lanes in cubes in which the same matters.
  void march(const std::uint32_t* some, std::size_t size) {
    const D d;
    const std::size_t vectors = load(some, size);
    const std::span<const Tape::Instruction> part = places_.part(part_);
    const M nobody = hn::Lt(hn::Zero(d), hn::Zero(d));
    std::copy_n(this->going_, vectors, this->now_);
    M close_now[block_vectors];
    std::fill_n(close_now, vectors, nobody);
    std::size_t now = size;
    while (2 * now >= size && now > 0) {
      const ActiveVectors active = Those(d, this->now_, vectors);
      if (this->tape_.loose) {
        Block::step_apart(part, active);
        for (std::size_t k = 0; k < active.count; ++k) {
          const std::size_t j = active.index[k];
          close_now[j] = hn::Or(close_now[j], this->close_[j]);
        }
      } else {
        Block::step(part, active);
      }
      now = 0;
      for (std::size_t j = 0; j < vectors; ++j) {
        const M goes = hn::AndNot(close_now[j], this->going_[j]);
        this->now_[j] = hn::And(goes, within(j, this->t_[j]));
        now += hn::CountTrue(d, this->now_[j]);
      }
    }
    save(some, size);
    for (std::size_t j = 0; j < vectors; ++j) {
      const std::uint64_t bits = MaskBits(d, close_now[j]);
      for (std::size_t m = 0; bits >> m != 0; ++m) {
        if ((bits >> m & 1) != 0) room_->lanes[some[j * hn::Lanes(d) + m]].flags |= close;
      }
    }
  }

  M within(std::size_t j, V t) const { return hn::And(hn::Ge(t, enter_[j]), hn::Le(t, leave_[j])); }

  std::span<const Tape::Instruction> matters(const V* t, const M* masks,
                                             const ActiveVectors& active) override {
    const D d;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      if (!hn::AllFalse(d, hn::AndNot(within(j, t[j]), masks[j]))) return this->tape_.instructions;
    }
    return places_.part(part_);
  }

  /// Those that have hit something: the surface, its normal and what it is made of.
  void finish() {
    by_part(room_->ended, ended_, [&](const std::uint32_t* some, std::size_t size) {
      const std::size_t vectors = load(some, size);
      const ActiveVectors active = ActiveVectors::First(vectors);
      HitBatch<Number> own;
      {
        const StageScope stage(Work::refine);
        Block::come_to_surface(active);
      }
      Block::tell(size, own);
      {
        const StageScope stage(Work::normals);
        Block::describe(active, size, own);
      }
      for (std::size_t k = 0; k < size; ++k) {
        const Lane& lane = room_->lanes[some[k]];
        HitBatch<Number>& hits = *hits_of_[lane.batch];
        const std::size_t i = lane.lane;
        hits.t[i] = own.t[k];
        hits.ending[i] = Ending::hit;
        hits.face[i] = Face::curved;
        hits.steps[i] = own.steps[k];
        hits.evaluations[i] = own.evaluations[k];
        hits.nearest[i] = own.nearest[k];
        hits.overstretched[i] = own.overstretched[k];
        hits.material[i] = own.material[k];
        hits.other[i] = own.other[k];
        hits.share[i] = own.share[k];
        if (work_.ending_only) continue;
        hits.normal_x[i] = own.normal_x[k];
        hits.normal_y[i] = own.normal_y[k];
        hits.normal_z[i] = own.normal_z[k];
      }
    });
  }

  /// A lane that has hit nothing.
  void tell_end(const Lane& lane) {
    HitBatch<Number>& hits = *hits_of_[lane.batch];
    const std::size_t i = lane.lane;
    if ((lane.flags & spent) != 0) {
      hits.ending[i] = Ending::spent;
      hits.t[i] = lane.t;
    }
    hits.steps[i] = static_cast<std::uint32_t>(lane.steps);
    hits.evaluations[i] = hits.steps[i] + static_cast<std::uint32_t>(lane.more);
    hits.nearest[i] = static_cast<float>(lane.nearest);
    hits.overstretched[i] = (lane.flags & over) != 0 ? 1 : 0;
  }

  /// Into the block: the number of vectors.
  std::size_t load(const std::uint32_t* some, std::size_t size) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::size_t vectors = (size + width - 1) / width;
    if (this->lanes_.watch != nullptr) {
      for (std::size_t k = 0; k < size; ++k) order_[k] = room_->lanes[some[k]].lane;
    }
    HWY_ALIGN Number rows[14][most_in_block];
    std::uint8_t flags[most_in_block];
    for (std::size_t k = 0; k < vectors * width; ++k) {
      // Past the end the last one stands again, at a place that is a number.
      const Lane& lane = room_->lanes[some[std::min(k, size - 1)]];
      work_.x[k] = lane.x;
      work_.y[k] = lane.y;
      work_.z[k] = lane.z;
      work_.direction_x[k] = lane.direction_x;
      work_.direction_y[k] = lane.direction_y;
      work_.direction_z[k] = lane.direction_z;
      work_.start[k] = lane.start;
      work_.scale[k] = lane.scale;
      rows[0][k] = lane.t;
      rows[1][k] = lane.far_end;
      rows[2][k] = lane.side;
      rows[3][k] = lane.steps;
      rows[4][k] = lane.more;
      rows[5][k] = lane.last;
      rows[6][k] = lane.stride;
      rows[7][k] = lane.value;
      rows[8][k] = lane.before;
      rows[9][k] = lane.value_before;
      rows[10][k] = lane.nearest;
      rows[11][k] = lane.left;
      rows[12][k] = lane.enter;
      rows[13][k] = lane.leave;
      flags[k] = k < size ? lane.flags : 0;
    }
    for (std::size_t j = 0; j < vectors; ++j) {
      const auto row = [&](std::size_t r) { return hn::Load(d, rows[r] + j * width); };
      this->t_[j] = row(0);
      this->far_end_[j] = row(1);
      this->side_[j] = row(2);
      this->steps_[j] = row(3);
      this->more_[j] = row(4);
      this->last_[j] = row(5);
      this->stride_[j] = row(6);
      this->value_[j] = row(7);
      this->before_[j] = row(8);
      this->value_before_[j] = row(9);
      this->nearest_[j] = row(10);
      this->left_[j] = row(11);
      enter_[j] = row(12);
      leave_[j] = row(13);
      // All of the field matters everywhere.
      this->until_[j] = part_ == 0 ? hn::Inf(d) : leave_[j];
      const auto mask = [&](std::uint8_t flag) {
        std::uint64_t bits = 0;
        for (std::size_t m = 0; m < width; ++m) {
          bits |= static_cast<std::uint64_t>((flags[j * width + m] & flag) != 0) << m;
        }
        std::uint8_t bytes[16] = {};
        std::memcpy(bytes, &bits, sizeof(bits));
        return hn::LoadMaskBits(d, bytes);
      };
      this->over_[j] = mask(over);
      this->leaving_[j] = mask(leaving);
      this->retreated_[j] = mask(retreated);
      this->sided_[j] = mask(sided);
      this->going_[j] = mask(going);
      this->hit_[j] = mask(hit);
      this->spent_[j] = mask(spent);
    }
    return vectors;
  }

  void save(const std::uint32_t* some, std::size_t size) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    HWY_ALIGN Number rows[10][most_in_block];
    std::uint8_t flags[most_in_block] = {};
    for (std::size_t j = 0; j * width < size; ++j) {
      const V* from[10] = {this->t_ + j,      this->side_ + j,   this->steps_ + j,
                           this->more_ + j,   this->last_ + j,   this->stride_ + j,
                           this->value_ + j,  this->before_ + j, this->value_before_ + j,
                           this->nearest_ + j};
      for (std::size_t r = 0; r < 10; ++r) hn::Store(*from[r], d, rows[r] + j * width);
      const auto put = [&](M mask, std::uint8_t flag) {
        const std::uint64_t bits = MaskBits(d, mask);
        for (std::size_t m = 0; m < width; ++m) {
          if ((bits >> m & 1) != 0) flags[j * width + m] |= flag;
        }
      };
      put(this->over_[j], over);
      put(this->leaving_[j], leaving);
      put(this->retreated_[j], retreated);
      put(this->sided_[j], sided);
      put(this->going_[j], going);
      put(this->hit_[j], hit);
      put(this->spent_[j], spent);
    }
    HWY_ALIGN Number left[most_in_block];
    for (std::size_t j = 0; j * width < size; ++j) hn::Store(this->left_[j], d, left + j * width);
    for (std::size_t k = 0; k < size; ++k) {
      Lane& lane = room_->lanes[some[k]];
      lane.t = rows[0][k];
      lane.side = rows[1][k];
      lane.steps = rows[2][k];
      lane.more = rows[3][k];
      lane.last = rows[4][k];
      lane.stride = rows[5][k];
      lane.value = rows[6][k];
      lane.before = rows[7][k];
      lane.value_before = rows[8][k];
      lane.nearest = rows[9][k];
      lane.left = left[k];
      lane.flags = flags[k];
    }
  }

  LaneBatch<Number>& work_;
  Places<D> places_;
  Lent<PlaceLanes<Number>> room_;
  std::span<const LaneBatch<Number>* const> lanes_of_;
  std::span<HitBatch<Number>* const> hits_of_;
  std::size_t waiting_ = 0;
  std::size_t close_count_ = 0;
  std::size_t ended_ = 0;
  std::uint32_t part_ = 0;
  V enter_[block_vectors], leave_[block_vectors];

 public:
  std::size_t order_[most_in_block];  ///< which lane of a watched batch each of the block is
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
