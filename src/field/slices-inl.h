// Per-target include: marching the lanes of a batch together, by what of a field matters in slices
// of their way.

#if defined(PHOTONLANE_FIELD_SLICES_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_SLICES_INL_H_
#undef PHOTONLANE_FIELD_SLICES_INL_H_
#else
#define PHOTONLANE_FIELD_SLICES_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <span>

#include "base/stage_clock.hpp"
#include "field/lane_order.hpp"
#include "field/march-inl.h"
#include "field/ways-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// The lanes of a batch, block by block, each by what matters in its slices.
template <class D>
class SliceMarch final : private Guide<D>, private MarchBlock<D> {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using Ways = LaneWays<D>;
  using Block = MarchBlock<D>;

 public:
  SliceMarch(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget)
      : Block(tape, lanes, budget, *this), ways_(this->machine_, tape, lanes, budget) {}

  /// `clusters`: every `cluster_lanes` start near one another, but not all do.
  void run(bool clusters, HitBatch<Number>& hits) {
    hits.shared_evaluations = 0;
    const std::size_t count = clusters ? Ways::most_parts : 2;
    const std::size_t lanes = clusters ? cluster_lanes : Ways::part_lanes;
    for (std::size_t first = 0; first < this->lanes_.size; first += count * lanes) {
      ways_.take_parts(first, count, lanes);
      run_parts(hits);
    }
  }

 private:
  static constexpr std::size_t least_pruned = 8;
  static constexpr std::size_t share_of_slices = 4;

  void run_parts(HitBatch<Number>& hits) {
    const std::size_t width = hn::Lanes(D());
    // Of a few instructions nothing is left out that would pay for asking.
    if (this->budget_.pruning && this->tape_.instructions.size() >= least_pruned) {
      const StageScope stage(Work::prune);
      hits.shared_evaluations += ways_.cut();
    }
    for (part_ = 0; part_ < ways_.part_count(); ++part_) {
      if (this->budget_.cones && this->budget_.method != FieldMethod::fixed) {
        hits.shared_evaluations += ways_.lead(part_);
      }
      // A block of wide vectors is no larger than a part.
      static_assert(block_vectors * hn::MaxLanes(D()) <= Ways::part_lanes);
      for (std::size_t first = ways_.begin(part_); first < ways_.end(part_);
           first += block_vectors * width) {
        march(first, std::min(block_vectors * width, ways_.end(part_) - first), hits);
      }
    }
  }

  /// A block of lanes, to their ends.
  void march(std::size_t first, std::size_t count, HitBatch<Number>& hits) {
    const D d;
    const std::size_t vectors = Block::start(first, count, ways_.near(), ways_.far());
    ActiveVectors active = Those(d, this->going_, vectors);
    if (this->cuts_ && active.count > 0) Block::find_sides(active);
    slice_ = last_slice_ = 0;
    while (active.count > 0) {
      active = nearest(vectors, active);
      Block::step(ways_.matters(part_, slice_, last_slice_), active);
      active = Those(d, this->going_, vectors);
    }
    active = Those(d, this->hit_, vectors);
    if (active.count == 0) return Block::tell(count, hits);
    {
      const StageScope stage(Work::refine);
      Block::come_to_surface(active);
    }
    Block::tell(count, hits);
    const StageScope stage(Work::normals);
    Block::describe(active, count, hits);
  }

  /// Picks the lanes that are in the nearest slices, as many as hold a good share of those that go;
  /// the others wait, so that what is asked is small. Which they are does not change what a lane
  /// does: each may go as far as the end of its own slice.
  ActiveVectors nearest(std::size_t vectors, const ActiveVectors& active) {
    const D d;
    const auto& way = ways_.way(part_);
    if (way.count == 0) {
      std::copy_n(this->going_, vectors, this->now_);
      std::fill_n(this->until_, vectors, hn::Inf(d));
      return active;
    }
    V least = hn::Inf(d);
    std::size_t going = 0;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      least = hn::Min(least, hn::IfThenElse(this->going_[j], this->t_[j], hn::Inf(d)));
      going += hn::CountTrue(d, this->going_[j]);
    }
    const Number from = hn::GetLane(hn::MinOfLanes(d, least));
    while (slice_ + 1 < way.count && from >= way.edge[slice_ + 1]) ++slice_;
    while (slice_ > 0 && from < way.edge[slice_]) --slice_;
    for (std::size_t k = 0; k < active.count; ++k) {
      this->now_[active.index[k]] = hn::Lt(least, hn::Zero(d));
    }
    ActiveVectors chosen;
    std::size_t now = 0;
    for (last_slice_ = slice_;; ++last_slice_) {
      const bool last = last_slice_ + 1 >= way.count;
      const V until = hn::Set(d, way.edge[last_slice_ + 1]);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const M before = last ? hn::Le(this->t_[j], until) : hn::Lt(this->t_[j], until);
        const M here = hn::AndNot(this->now_[j], hn::And(this->going_[j], before));
        this->until_[j] = hn::IfThenElse(here, until, this->until_[j]);
        this->now_[j] = hn::Or(this->now_[j], here);
        now += hn::CountTrue(d, here);
      }
      if (last || share_of_slices * now >= going) break;
    }
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      if (!hn::AllFalse(d, this->now_[j])) chosen.index[chosen.count++] = j;
    }
    return chosen;
  }

  std::span<const Tape::Instruction> matters(const V* t, const M* masks,
                                             const ActiveVectors& active) override {
    return ways_.matters(part_, t, masks, active);
  }

  Ways ways_;
  std::size_t part_ = 0;
  std::size_t slice_ = 0, last_slice_ = 0;  ///< that are asked
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
