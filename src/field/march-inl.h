// Per-target include: marching lanes to where a field's sign changes.

#if defined(PHOTONLANE_FIELD_MARCH_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_MARCH_INL_H_
#undef PHOTONLANE_FIELD_MARCH_INL_H_
#else
#define PHOTONLANE_FIELD_MARCH_INL_H_
#endif

#include <hwy/highway.h>

#include <algorithm>
#include <cmath>
#include <span>

#include "field/lane_order.hpp"
#include "field/ways-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Lanes of a batch on their way.
template <class D>
class March {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using Ways = LaneWays<D>;

 public:
  March(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget)
      : machine_(tape),
        ways_(machine_, tape, lanes, budget),
        tape_(tape),
        lanes_(lanes),
        budget_(budget) {
    const auto set = [](double value) { return hn::Set(D(), static_cast<Number>(value)); };
    most_steps_ = set(static_cast<double>(budget.steps));
    tolerance_ = set(budget.tolerance);
    growth_ = set(budget.growth);
    per_stretch_ = set(1 / tape.stretch);
    // What estimates change by tells nothing.
    most_stretch_ = tape.steady ? set(tape.stretch) : hn::Inf(D());
    spread_ = set(lanes.spread * budget.detail);
    cuts_ = lanes.spread * budget.detail > 0;

    relaxation_ = set(budget.relaxation);
  }

  /// `clusters`: every `cluster_lanes` start near one another, but not all do.
  void run(bool clusters, HitBatch<Number>& hits) {
    hits.shared_evaluations = 0;
    const std::size_t count = clusters ? Ways::most_parts : 2;
    const std::size_t lanes = clusters ? cluster_lanes : Ways::part_lanes;
    for (std::size_t first = 0; first < lanes_.size; first += count * lanes) {
      ways_.take_parts(first, count, lanes);
      run_parts(hits);
    }
  }

 private:
  static constexpr std::size_t least_pruned = 8;

  void run_parts(HitBatch<Number>& hits) {
    const std::size_t width = hn::Lanes(D());
    // Of a few instructions nothing is left out that would pay for asking.
    if (budget_.pruning && tape_.instructions.size() >= least_pruned) {
      hits.shared_evaluations += ways_.cut();
    }
    for (part_ = 0; part_ < ways_.part_count(); ++part_) {
      if (budget_.cones && budget_.method != FieldMethod::fixed) {
        hits.shared_evaluations += ways_.lead(part_);
      }
      // A block of wide vectors is no larger than a part.
      static_assert(block_vectors * hn::MaxLanes(D()) <= Ways::part_lanes);
      for (first_ = ways_.begin(part_); first_ < ways_.end(part_);
           first_ += block_vectors * width) {
        march(hits);
      }
    }
  }

  /// A block of lanes, to their ends.
  void march(HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::size_t count = std::min(block_vectors * width, ways_.end(part_) - first_);
    const std::size_t vectors = (count + width - 1) / width;
    const V zero = hn::Zero(d);
    for (std::size_t j = 0; j < vectors; ++j) {
      t_[j] = hn::Load(d, ways_.near() + first_ + j * width);
      far_end_[j] = hn::Load(d, ways_.far() + first_ + j * width);
      going_[j] = hn::And(hn::Le(t_[j], far_end_[j]), hn::FirstN(d, count - j * width));
      hit_[j] = spent_[j] = hn::Lt(zero, zero);
      steps_[j] = last_[j] = stride_[j] = more_[j] = zero;
      before_[j] = t_[j];
      side_[j] = hn::Set(d, Number(1));
      value_[j] = value_before_[j] = nearest_[j] = hn::Inf(d);
      over_[j] = hit_[j];
      leaving_[j] = going_[j];
      retreated_[j] = hit_[j];
      left_[j] = zero;
    }
    ActiveVectors active = Those(d, going_, vectors);
    if (cuts_ && active.count > 0) find_sides(active);
    slice_ = 0;
    while (active.count > 0) {
      active = nearest(vectors, active);
      for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
      machine_.run(ways_.matters(part_, slice_), active, cuts_);
      if (lanes_.watch != nullptr) note(active);
      for (std::size_t k = 0; k < active.count; ++k) advance(active.index[k]);
      active = Those(d, going_, vectors);
    }
    active = Those(d, hit_, vectors);
    if (active.count > 0) {
      if (budget_.method == FieldMethod::fixed) halve(active);
      if (!lanes_.ending_only && budget_.refinement > 0) refine(active);
    }
    tell(count, hits);
    if (active.count > 0) describe(active, count, hits);
  }

  /// On which side lanes start, by all of the detail: where some of it is left out, one that was
  /// led through what is empty may find itself inside.
  void find_sides(const ActiveVectors& active) {
    const D d;
    for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
    machine_.run(ways_.matters(part_, t_, going_, active), active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const M inside = hn::And(going_[j], hn::Lt(machine_.value(j).v, hn::Zero(d)));
      side_[j] = hn::IfThenElse(inside, hn::Set(d, Number(-1)), side_[j]);
    }
  }

  /// Tells who watches where lanes are and what was found there.
  void note(const ActiveVectors& active) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    HWY_ALIGN Number t[hn::MaxLanes(D())];
    HWY_ALIGN Number value[hn::MaxLanes(D())];
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      hn::Store(t_[j], d, t);
      hn::Store(machine_.value(j).v, d, value);
      const std::uint64_t now = MaskBits(d, now_[j]);
      for (std::size_t m = 0; m < width; ++m) {
        if ((now >> m & 1) == 0) continue;
        const std::size_t i = first_ + j * width + m;
        lanes_.watch->note(lanes_.watch_order != nullptr ? lanes_.watch_order[i] : i,
                           static_cast<double>(t[m]), static_cast<double>(value[m]));
      }
    }
  }

  /// Picks the lanes that are in the nearest slice; the others wait, so that what is asked is
  /// small. Which they are does not change what a lane does.
  ActiveVectors nearest(std::size_t vectors, const ActiveVectors& active) {
    const auto& way = ways_.way(part_);
    if (way.count == 0) {
      std::copy_n(going_, vectors, now_);
      return active;
    }
    const D d;
    V least = hn::Inf(d);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      least = hn::Min(least, hn::IfThenElse(going_[j], t_[j], hn::Inf(d)));
    }
    const Number from = hn::GetLane(hn::MinOfLanes(d, least));
    while (slice_ + 1 < way.count && from >= way.edge[slice_ + 1]) ++slice_;
    while (slice_ > 0 && from < way.edge[slice_]) --slice_;
    const V until = hn::Set(d, way.edge[slice_ + 1]);
    ActiveVectors chosen;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      now_[j] = hn::And(going_[j], hn::Le(t_[j], until));
      if (!hn::AllFalse(d, now_[j])) chosen.index[chosen.count++] = j;
    }
    return chosen;
  }

  /// Sets places along lanes; `Machine` of any kind.
  template <class Asked>
  void place(Asked& machine, std::size_t j) const {
    const D d;
    const std::size_t i = first_ + j * hn::Lanes(d);
    using T = std::remove_cvref_t<decltype(machine.point(0, 0, j))>;
    const auto along = [&](const Number* from, const Number* direction) {
      return T(hn::Add(hn::Load(d, from + i), hn::Mul(t_[j], hn::Load(d, direction + i))));
    };
    machine.point(0, 0, j) = along(lanes_.x, lanes_.direction_x);
    machine.point(0, 1, j) = along(lanes_.y, lanes_.direction_y);
    machine.point(0, 2, j) = along(lanes_.z, lanes_.direction_z);
    if (cuts_) machine.footprint(j) = hn::Mul(spread_, t_[j]);
  }

  void ask(const M* masks, const ActiveVectors& active) {
    for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
    machine_.run(ways_.matters(part_, t_, masks, active), active, cuts_);
  }

  V tolerance_at(std::size_t j) const { return hn::Add(tolerance_, hn::Mul(growth_, t_[j])); }

  void advance(std::size_t j) {
    const D d;
    const V one = hn::Set(d, Number(1));
    // Which side a lane starts on decides which way out is.
    const M starts_inside =
        hn::And(hn::Eq(steps_[j], hn::Zero(d)), hn::Lt(machine_.value(j).v, hn::Zero(d)));
    if (!cuts_) {
      side_[j] = hn::IfThenElse(hn::And(now_[j], starts_inside), hn::Set(d, Number(-1)), side_[j]);
    }
    if (lanes_.any_start) leave(j);
    const V value = hn::Mul(machine_.value(j).v, side_[j]);
    steps_[j] = hn::Add(steps_[j], hn::IfThenElseZero(now_[j], one));
    value_[j] = hn::IfThenElse(now_[j], machine_.value(j).v, value_[j]);
    if (!lanes_.ending_only) watch(j);
    if (budget_.method == FieldMethod::fixed) {
      const M across = hn::And(now_[j], hn::Lt(value, hn::Zero(d)));
      move(j, across, hn::Set(d, static_cast<Number>(budget_.increment)));
      return;
    }
    const V radius = hn::Mul(value, per_stretch_);
    M back = hn::Lt(one, hn::Zero(d));
    if (budget_.method == FieldMethod::relaxed) {
      // A stretched step from a ball of emptiness to one that does not touch it jumped over a gap:
      // back to the rim of the first (Keinert and others, "Enhanced Sphere Tracing", 2014).
      // Straight ahead the two just touch, which rounding must not take for a gap.
      const V both = hn::Add(last_[j], hn::Abs(radius));
      back = hn::And(now_[j],
                     hn::Lt(hn::Mul(both, hn::Set(d, static_cast<Number>(1 + 1e-4))), stride_[j]));
    }
    const V near = budget_.method == FieldMethod::relaxed ? hn::Abs(value) : value;
    M here = hn::And(hn::AndNot(back, now_[j]), hn::Lt(near, tolerance_at(j)));
    if (budget_.method == FieldMethod::relaxed && (cuts_ || !tape_.steady)) {
      // Where values jump, the way back out may lead in again without end.
      const M inside = hn::AndNot(back, hn::And(now_[j], hn::Lt(value, hn::Zero(d))));
      here = hn::Or(here, hn::And(inside, retreated_[j]));
      retreated_[j] = hn::Or(retreated_[j], inside);
    }
    if (lanes_.any_start) {
      back = hn::AndNot(leaving_[j], back);
      here = hn::AndNot(leaving_[j], here);
    }
    if (budget_.method == FieldMethod::sphere) {
      move(j, here, lanes_.any_start ? hn::Max(radius, left_[j]) : radius);
      return;
    }
    // A stretched step may end inside: from there the way is back out.
    const M outside = hn::Gt(radius, hn::Zero(d));
    // Nor may it jump past the end, where nobody would look whether it jumped over anything.
    const V more = hn::Mul(radius, relaxation_);
    const V rest = hn::Max(hn::Sub(far_end_[j], t_[j]), radius);
    const V stretched = hn::IfThenElse(outside, hn::Min(more, rest), radius);
    V step = hn::IfThenElse(back, hn::Sub(last_[j], stride_[j]), stretched);
    if (lanes_.any_start) step = hn::IfThenElse(leaving_[j], left_[j], step);
    // After a step back the ball is the same, and the step was no longer than it.
    const V stride = hn::IfThenElse(back, hn::Zero(d), stretched);
    stride_[j] = hn::IfThenElse(now_[j], stride, stride_[j]);
    last_[j] = hn::IfThenElse(hn::AndNot(back, now_[j]), radius, last_[j]);
    move(j, here, step);
  }

  /// Lanes that start on a surface get away from it before they meet another, by steps of what is
  /// taken for being on it. Which side they are on then is that of their start.
  void leave(std::size_t j) {
    const D d;
    const V zero = hn::Zero(d);
    const V value = machine_.value(j).v;
    const M was = hn::And(leaving_[j], now_[j]);
    const V sign =
        hn::IfThenElse(hn::Lt(value, zero), hn::Set(d, Number(-1)), hn::Set(d, Number(1)));
    side_[j] = hn::IfThenElse(was, sign, side_[j]);
    const M still = hn::And(was, hn::Lt(hn::Abs(value), tolerance_at(j)));
    leaving_[j] = hn::Or(still, hn::AndNot(now_[j], leaving_[j]));
    left_[j] = hn::IfThenElseZero(leaving_[j], tolerance_at(j));
  }

  /// Keeps how near a lane came to a surface, and whether the value changed by more than the field
  /// says it can over the last step.
  void watch(std::size_t j) {
    const D d;
    nearest_[j] = hn::IfThenElse(now_[j], hn::Min(nearest_[j], hn::Abs(value_[j])), nearest_[j]);
    const V change = hn::Abs(hn::Sub(value_[j], value_before_[j]));
    const V way = hn::Abs(hn::Sub(t_[j], before_[j]));
    const V rounding = hn::Mul(hn::Add(hn::Abs(value_[j]), hn::Add(t_[j], hn::Set(d, Number(1)))),
                               hn::Set(d, static_cast<Number>(sizeof(Number) == 4 ? 4e-6 : 1e-9)));
    const V most = hn::Add(hn::Mul(way, most_stretch_), rounding);
    const M known = hn::And(now_[j], hn::Lt(change, hn::Inf(d)));
    over_[j] = hn::Or(over_[j], hn::And(known, hn::Gt(change, most)));
  }

  /// Ends lanes that are there or past their end, and moves the others on.
  void move(std::size_t j, M there, V step) {
    hit_[j] = hn::Or(hit_[j], there);
    now_[j] = hn::AndNot(there, now_[j]);
    before_[j] = hn::IfThenElse(now_[j], t_[j], before_[j]);
    value_before_[j] = hn::IfThenElse(now_[j], value_[j], value_before_[j]);
    t_[j] = hn::IfThenElse(now_[j], hn::Add(t_[j], step), t_[j]);
    const M past = hn::AndNot(hn::Le(t_[j], far_end_[j]), now_[j]);
    // What is no number leads nowhere.
    const M lost = hn::AndNot(hn::Eq(value_[j], value_[j]), now_[j]);
    spent_[j] = hn::Or(spent_[j], lost);
    going_[j] = hn::AndNot(hn::Or(there, hn::Or(past, lost)), going_[j]);
    const M out_of_steps = hn::And(going_[j], hn::Ge(steps_[j], most_steps_));
    spent_[j] = hn::Or(spent_[j], out_of_steps);
    going_[j] = hn::AndNot(out_of_steps, going_[j]);
  }

  /// Newton's method along the lane with the slope between the last two places, so that how a lane
  /// came to a surface leaves no trace. The place nearest to the surface is kept.
  void refine(const ActiveVectors& hits) {
    const D d;
    V best[block_vectors];
    M moving[block_vectors];
    std::size_t vectors = 0;
    for (std::size_t k = 0; k < hits.count; ++k) vectors = hits.index[k] + 1;
    for (std::size_t j = 0; j < vectors; ++j) {
      moving[j] = hit_[j];
      best[j] = t_[j];
    }
    /// Along the slope; a lane that runs along the surface has nothing to gain.
    const auto next = [&](std::size_t j) {
      const V slope = hn::Sub(value_[j], value_before_[j]);
      // A lane that was there from the start has no slope: once more by the distance.
      const V way = hn::Sub(t_[j], before_[j]);
      const V step = hn::IfThenElse(hn::Eq(way, hn::Zero(d)), hn::Mul(value_[j], side_[j]),
                                    hn::Neg(hn::Div(hn::Mul(value_[j], way), slope)));
      const V longest = hn::Mul(hn::Set(d, Number(64)), tolerance_at(j));
      const M sound = hn::And(hn::Le(hn::Abs(step), longest), hn::Ne(step, hn::Zero(d)));
      moving[j] = hn::And(moving[j], sound);
      before_[j] = hn::IfThenElse(moving[j], t_[j], before_[j]);
      value_before_[j] = hn::IfThenElse(moving[j], value_[j], value_before_[j]);
      t_[j] = hn::IfThenElse(moving[j], hn::Add(t_[j], step), best[j]);
    };
    for (std::size_t k = 0; k < hits.count; ++k) next(hits.index[k]);
    for (int turn = 0; turn < budget_.refinement; ++turn) {
      const ActiveVectors active = Those(d, moving, vectors);
      if (active.count == 0) break;
      ask(moving, active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const V value = machine_.value(j).v;
        more_[j] = hn::Add(more_[j], hn::IfThenElseZero(moving[j], hn::Set(d, Number(1))));
        moving[j] = hn::And(moving[j], hn::Lt(hn::Abs(value), hn::Abs(value_[j])));
        value_[j] = hn::IfThenElse(moving[j], value, value_[j]);
        best[j] = hn::IfThenElse(moving[j], t_[j], best[j]);
        next(j);
      }
    }
    for (std::size_t j = 0; j < vectors; ++j) t_[j] = best[j];
  }

  void halve(const ActiveVectors& active) {
    const D d;
    V step[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      step[active.index[k]] = hn::Set(d, static_cast<Number>(-0.5 * budget_.increment));
    }
    const int turns = static_cast<int>(std::ceil(
                          std::log2(std::max(2.0, budget_.increment / budget_.tolerance)))) +
                      1;
    for (int turn = 0; turn < turns; ++turn) {
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        before_[j] = hn::IfThenElse(hit_[j], t_[j], before_[j]);
        value_before_[j] = hn::IfThenElse(hit_[j], value_[j], value_before_[j]);
        t_[j] = hn::IfThenElse(hit_[j], hn::Add(t_[j], step[j]), t_[j]);
      }
      ask(hit_, active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        value_[j] = machine_.value(j).v;
        more_[j] = hn::Add(more_[j], hn::IfThenElseZero(hit_[j], hn::Set(d, Number(1))));
        const V value = hn::Mul(value_[j], side_[j]);
        const V size = hn::Mul(hn::Abs(step[j]), hn::Set(d, Number(0.5)));
        step[j] = hn::IfThenElse(hn::Lt(value, hn::Zero(d)), hn::Neg(size), size);
      }
    }
  }

  void tell(std::size_t count, HitBatch<Number>& hits) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    HWY_ALIGN Number steps[hn::MaxLanes(D())];
    HWY_ALIGN Number more[hn::MaxLanes(D())];
    HWY_ALIGN Number t[hn::MaxLanes(D())];
    HWY_ALIGN Number nearest[hn::MaxLanes(D())];
    for (std::size_t j = 0; j * width < count; ++j) {
      hn::Store(nearest_[j], d, nearest);
      const std::uint64_t over = MaskBits(d, over_[j]);
      hn::Store(t_[j], d, t);
      hn::Store(steps_[j], d, steps);
      hn::Store(more_[j], d, more);
      const std::uint64_t hit = MaskBits(d, hit_[j]);
      const std::uint64_t out = MaskBits(d, spent_[j]);
      for (std::size_t k = 0; k < width && j * width + k < count; ++k) {
        const std::size_t i = first_ + j * width + k;
        const bool met = (hit >> k & 1) != 0;
        const bool spent = (out >> k & 1) != 0;
        hits.ending[i] = met ? Ending::hit : spent ? Ending::spent : Ending::escaped;
        hits.face[i] = met ? Face::curved : Face::none;
        // One that escaped may have been told so from the start.
        hits.t[i] = met || spent ? t[k] : lanes_.far_limit;
        hits.nearest[i] = static_cast<float>(nearest[k]);
        hits.overstretched[i] = static_cast<std::uint32_t>(over >> k & 1);
        hits.steps[i] = static_cast<std::uint32_t>(steps[k]);
        hits.evaluations[i] = hits.steps[i] + static_cast<std::uint32_t>(more[k]);
      }
    }
  }

  /// Normals, toward the side that lanes come from, and materials of what was hit.
  void describe(const ActiveVectors& active, std::size_t count, HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::span<const Tape::Instruction> instructions = ways_.matters(part_, t_, hit_, active);
    describe_materials(instructions, active, count, hits);
    if (lanes_.ending_only) return;
    Dual<D> slopes[block_vectors];
    std::uint32_t asked = 1;
    if (budget_.normals == FieldNormals::difference) {
      difference(instructions, active, slopes);
      asked = 4;
    } else {
      Machine<D, Dual<D>> slope(tape_);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        place(slope, j);
        slope.point(0, 0, j).x = slope.point(0, 1, j).y = slope.point(0, 2, j).z =
            hn::Set(d, Number(1));
      }
      slope.run(instructions, active, cuts_);
      for (std::size_t k = 0; k < active.count; ++k) {
        slopes[active.index[k]] = slope.value(active.index[k]);
      }
    }
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Dual<D>& value = slopes[j];
      const V square = hn::Add(hn::Add(hn::Mul(value.x, value.x), hn::Mul(value.y, value.y)),
                               hn::Mul(value.z, value.z));
      const V factor =
          hn::IfThenElseZero(hn::Gt(square, hn::Zero(d)), hn::Div(side_[j], hn::Sqrt(square)));
      HWY_ALIGN Number x[hn::MaxLanes(D())];
      HWY_ALIGN Number y[hn::MaxLanes(D())];
      HWY_ALIGN Number z[hn::MaxLanes(D())];
      hn::Store(hn::Mul(value.x, factor), d, x);
      hn::Store(hn::Mul(value.y, factor), d, y);
      hn::Store(hn::Mul(value.z, factor), d, z);
      for (std::size_t m = 0; m < width && j * width + m < count; ++m) {
        const std::size_t i = first_ + j * width + m;
        if (hits.ending[i] != Ending::hit) continue;
        hits.evaluations[i] += asked;
        hits.normal_x[i] = static_cast<float>(x[m]);
        hits.normal_y[i] = static_cast<float>(y[m]);
        hits.normal_z[i] = static_cast<float>(z[m]);
      }
    }
  }

  /// Slopes from the values at the corners of a tetrahedron around each hit.
  void difference(std::span<const Tape::Instruction> instructions, const ActiveVectors& active,
                  Dual<D>* slopes) {
    const D d;
    const V step = hn::Set(d, static_cast<Number>(budget_.normal_step));
    for (std::size_t k = 0; k < active.count; ++k) slopes[active.index[k]] = Dual<D>(hn::Zero(d));
    for (int corner = 0; corner < 4; ++corner) {
      const bool up[3] = {corner == 0 || corner == 3, corner == 1 || corner == 3,
                          corner == 2 || corner == 3};
      const auto moved = [&](V from, V by, bool plus) {
        return plus ? hn::Add(from, by) : hn::Sub(from, by);
      };
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        place(machine_, j);
        for (std::size_t axis = 0; axis < 3; ++axis) {
          auto& at = machine_.point(0, axis, j);
          at.v = moved(at.v, step, up[axis]);
        }
      }
      machine_.run(instructions, active, cuts_);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const V value = machine_.value(j).v;
        Dual<D>& slope = slopes[j];
        slope.x = moved(slope.x, value, up[0]);
        slope.y = moved(slope.y, value, up[1]);
        slope.z = moved(slope.z, value, up[2]);
      }
    }
  }

  void describe_materials(std::span<const Tape::Instruction> instructions,
                          const ActiveVectors& active, std::size_t count, HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const auto give = [&](std::size_t i, std::int64_t material, std::int64_t other, Number share) {
      hits.material[i] = static_cast<std::uint32_t>(material);
      hits.other[i] = static_cast<std::uint32_t>(other);
      hits.share[i] = static_cast<float>(share);
    };
    // Where all that matters is of one material, nobody has to be asked.
    bool same = true;
    std::int32_t material = -2;
    for (const Tape::Instruction& one : instructions) {
      if (reads_value(one.op) || writes_point(one.op)) continue;
      const Number* c = tape_.constants_as<Number>() + one.constants;
      const bool tinted = one.op == TapeOp::source && c[4] != 0;
      same = same && !tinted && (material == -2 || material == one.material);
      material = one.material;
    }
    if (same) {
      for (std::size_t i = first_; i < first_ + count; ++i) give(i, material, material, 0);
      return;
    }
    Machine<D, Made<D>> made(tape_);
    for (std::size_t k = 0; k < active.count; ++k) place(made, active.index[k]);
    made.run(instructions, active, cuts_);
    using DI = hn::RebindToSigned<D>;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Made<D>& value = made.value(j);
      HWY_ALIGN hn::TFromD<DI> which[hn::MaxLanes(D())];
      HWY_ALIGN hn::TFromD<DI> other[hn::MaxLanes(D())];
      HWY_ALIGN Number share[hn::MaxLanes(D())];
      hn::Store(value.material, DI(), which);
      hn::Store(value.other, DI(), other);
      hn::Store(value.share, d, share);
      for (std::size_t m = 0; m < width && j * width + m < count; ++m) {
        const std::size_t i = first_ + j * width + m;
        if (hits.ending[i] != Ending::hit) continue;
        give(i, which[m], other[m], share[m]);
      }
    }
  }

  Machine<D, Plain<D>> machine_;
  Ways ways_;
  const Tape& tape_;
  const LaneBatch<Number>& lanes_;
  const FieldBudget& budget_;
  std::size_t part_ = 0;
  // Of the block on its way.
  std::size_t first_ = 0;
  std::size_t slice_ = 0;
  V t_[block_vectors], far_end_[block_vectors], side_[block_vectors];
  V steps_[block_vectors], more_[block_vectors];
  V last_[block_vectors], stride_[block_vectors];
  V value_[block_vectors], before_[block_vectors], value_before_[block_vectors];
  V nearest_[block_vectors];
  M going_[block_vectors], now_[block_vectors], hit_[block_vectors], spent_[block_vectors];
  M over_[block_vectors], leaving_[block_vectors], retreated_[block_vectors];
  V left_[block_vectors];
  bool cuts_ = false;
  V spread_;
  V most_stretch_, most_steps_, tolerance_, growth_, per_stretch_, relaxation_;
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
