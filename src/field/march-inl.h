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
#include <limits>
#include <span>

#include "field/slopes-inl.h"
#include "field/ways-inl.h"
#include "lane/portal_start.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Tells which part of a tape matters to lanes of masks at t.
template <class D>
class Guide {
 public:
  virtual std::span<const Tape::Instruction> matters(const hn::Vec<D>* t, const hn::Mask<D>* masks,
                                                     const ActiveVectors& active) = 0;

 protected:
  ~Guide() = default;
};

/// A block of lanes on their way: where each is and what it knows, step by step to its end.
template <class D>
class MarchBlock {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;

 public:
  MarchBlock(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,
             Guide<D>& guide)
      : machine_(tape),
        slopes_(tape),
        guide_(guide),
        tape_(tape),
        lanes_(lanes),
        budget_(budget),
        method_(budget.method) {
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
    // Estimates have no slopes that one could go by.
    if (method_ == FieldMethod::slope && (cuts_ || !tape.steady)) method_ = FieldMethod::relaxed;
  }

 protected:
  /// Puts lanes from `first` on into the block: each looks from `near` to `far`, arrays like those
  /// of the lanes. How many vectors they fill.
  std::size_t start(std::size_t first, std::size_t count, const Number* near, const Number* far) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::size_t vectors = (count + width - 1) / width;
    const V zero = hn::Zero(d);
    first_ = first;
    for (std::size_t j = 0; j < vectors; ++j) {
      t_[j] = hn::Load(d, near + first + j * width);
      far_end_[j] = hn::Load(d, far + first + j * width);
      going_[j] = hn::And(hn::Le(t_[j], far_end_[j]), hn::FirstN(d, count - j * width));
      // The others are evaluated with them: at a place that is a number.
      t_[j] = hn::IfThenElseZero(going_[j], t_[j]);
      hit_[j] = spent_[j] = hn::Lt(zero, zero);
      steps_[j] = last_[j] = stride_[j] = more_[j] = zero;
      before_[j] = t_[j];
      side_[j] = hn::Set(d, Number(1));
      value_[j] = value_before_[j] = nearest_[j] = hn::Inf(d);
      over_[j] = hit_[j];
      // Those that were led on, or come to the field later, are on their first surface no more.
      leaving_[j] = going_[j];
      if (lanes_.any_start) {
        const V start = hn::Load(d, lanes_.start + first + j * width);
        leaving_[j] = hn::And(going_[j], hn::Le(t_[j], start));
      }
      retreated_[j] = sided_[j] = hit_[j];
      left_[j] = zero;
    }
    return vectors;
  }

  /// One step of the lanes that go now.
  void step(std::span<const Tape::Instruction> asked, const ActiveVectors& active) {
    evaluate(asked, active);
    if (tape_.loose) tell_distances(asked, active);
    if (lanes_.watch != nullptr) note(active);
    for (std::size_t k = 0; k < active.count; ++k) advance(active.index[k]);
  }

  /// The same but for lanes whose value is below the tolerance, of tapes that are loose: those are
  /// left as they were, in `close_`, so that they can be asked for slopes together.
  void step_apart(std::span<const Tape::Instruction> asked, const ActiveVectors& active) {
    evaluate(asked, active);
    const M nobody = hn::Lt(hn::Inf(D()), hn::Zero(D()));
    M close[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      meters_[j] = hn::Abs(machine_.value(j).v);
      close[j] = hn::And(now_[j], hn::Lt(meters_[j], tolerance_at(j)));
      now_[j] = hn::AndNot(close[j], now_[j]);
      close_[j] = nobody;
    }
    if (lanes_.watch != nullptr) note(active);
    for (std::size_t k = 0; k < active.count; ++k) {
      advance(active.index[k]);
      close_[active.index[k]] = close[active.index[k]];
    }
  }

  /// Whether all lanes that go now started inside, from where slopes tell nothing.
  bool all_inside(const ActiveVectors& active) const {
    const D d;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      if (!hn::AllFalse(d, hn::And(now_[j], hn::Gt(side_[j], hn::Zero(d))))) return false;
    }
    return true;
  }

  /// Values where lanes are, and how far they can go from there where that is told by slopes.
  void evaluate(std::span<const Tape::Instruction> asked, const ActiveVectors& active) {
    if (method_ != FieldMethod::slope) {
      for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
      machine_.run(asked, active, cuts_);
      return;
    }
    if (all_inside(active)) {
      for (std::size_t k = 0; k < active.count; ++k) {
        place(machine_, active.index[k]);
        clear_[active.index[k]] = hn::Zero(D());
      }
      machine_.run(asked, active);
      return;
    }
    auto& places = slopes_.machine();
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const std::size_t i = first_ + j * hn::Lanes(D());
      place(places, j);
      places.point(0, 0, j).along = hn::Load(D(), lanes_.direction_x + i);
      places.point(0, 1, j).along = hn::Load(D(), lanes_.direction_y + i);
      places.point(0, 2, j).along = hn::Load(D(), lanes_.direction_z + i);
    }
    slopes_.run(asked, active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      machine_.set_value(tape_.result, j, Plain<D>(slopes_.value(j)));
      // Further on, other parts may matter; rounding must not leave the lane just before there.
      const V past = hn::Mul(until_[j], hn::Set(D(), std::numeric_limits<Number>::epsilon() * 2));
      clear_[j] = hn::Min(slopes_.clear(j), hn::Add(hn::Sub(until_[j], t_[j]), past));
    }
  }

  /// Comes as near to the surface as was asked, for lanes that have hit it.
  void come_to_surface(const ActiveVectors& active) {
    if (active.count == 0) return;
    if (method_ == FieldMethod::fixed) halve(active);
    if (!lanes_.ending_only && budget_.refinement > 0) {
      tape_.steady ? refine(active) : come_nearer(active);
    }
  }

  /// Values with their derivatives along x, y and z where lanes are.
  void ask_slopes(std::span<const Tape::Instruction> asked, const ActiveVectors& active,
                  Dual<D>* slopes) {
    Machine<D, Dual<D>> slope(tape_);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      place(slope, j);
      slope.point(0, 0, j).x = slope.point(0, 1, j).y = slope.point(0, 2, j).z =
          hn::Set(D(), Number(1));
    }
    slope.run(asked, active, cuts_);
    for (std::size_t k = 0; k < active.count; ++k) {
      slopes[active.index[k]] = slope.value(active.index[k]);
    }
  }

  /// The square of how steep a value is.
  static V square_of(const Dual<D>& value) {
    return hn::Add(hn::Add(hn::Mul(value.x, value.x), hn::Mul(value.y, value.y)),
                   hn::Mul(value.z, value.z));
  }

  /// How far a surface is from lanes whose value is below the tolerance: the value over how steep
  /// it is there (Hart, "Sphere Tracing", 1996). Where values are damped they are far less.
  void tell_distances(std::span<const Tape::Instruction> asked, const ActiveVectors& active) {
    const D d;
    ActiveVectors close;
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const V size = hn::Abs(machine_.value(j).v);
      meters_[j] = size;
      close_[j] = hn::And(now_[j], hn::Lt(size, tolerance_at(j)));
      if (!hn::AllFalse(d, close_[j])) close.index[close.count++] = j;
    }
    if (close.count == 0) return;
    Dual<D> slopes[block_vectors];
    ask_slopes(asked, close, slopes);
    for (std::size_t k = 0; k < close.count; ++k) {
      const std::size_t j = close.index[k];
      const V steep = hn::Sqrt(square_of(slopes[j]));
      // Steeper than a distance is only what stretches; no slope tells nothing.
      const V per = hn::Div(meters_[j], hn::Min(steep, hn::Set(d, Number(1))));
      const M told = hn::And(close_[j], hn::Gt(steep, hn::Set(d, Number(1e-15))));
      meters_[j] = hn::IfThenElse(told, per, meters_[j]);
      more_[j] = hn::Add(more_[j], hn::IfThenElseZero(close_[j], hn::Set(d, Number(1))));
    }
  }

  /// On which side lanes start, by all of the detail: where some of it is left out, one that was
  /// led through what is empty may find itself inside.
  void find_sides(const ActiveVectors& active) {
    const D d;
    for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
    machine_.run(guide_.matters(t_, going_, active), active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const M inside = hn::And(going_[j], hn::Lt(machine_.value(j).v, hn::Zero(d)));
      side_[j] = hn::IfThenElse(inside, hn::Set(d, Number(-1)), side_[j]);
    }
  }

  /// Tells the step watch where lanes are and the values there.
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
    machine_.run(guide_.matters(t_, masks, active), active, cuts_);
  }

  V tolerance_at(std::size_t j) const {
    V tolerance = tolerance_;
    if (lanes_.any_scale) {
      tolerance = hn::Mul(tolerance, hn::Load(D(), lanes_.scale + first_ + j * hn::Lanes(D())));
    }
    return hn::Add(tolerance, hn::Mul(growth_, t_[j]));
  }

  void advance(std::size_t j) {
    const D d;
    const V one = hn::Set(d, Number(1));
    // Which side a lane starts on decides which way out is.
    const M first = hn::AndNot(sided_[j], hn::Eq(steps_[j], hn::Zero(d)));
    const M starts_inside = hn::And(first, hn::Lt(machine_.value(j).v, hn::Zero(d)));
    if (!cuts_) {
      side_[j] = hn::IfThenElse(hn::And(now_[j], starts_inside), hn::Set(d, Number(-1)), side_[j]);
    }
    if (lanes_.any_start) leave(j);
    const V value = hn::Mul(machine_.value(j).v, side_[j]);
    steps_[j] = hn::Add(steps_[j], hn::IfThenElseZero(now_[j], one));
    value_[j] = hn::IfThenElse(now_[j], machine_.value(j).v, value_[j]);
    if (!lanes_.ending_only) watch(j);
    if (method_ == FieldMethod::fixed) {
      const M across = hn::And(now_[j], hn::Lt(value, hn::Zero(d)));
      move(j, across, hn::Set(d, static_cast<Number>(budget_.increment)));
      return;
    }
    V radius = hn::Mul(value, per_stretch_);
    V size = hn::Abs(value);
    if (tape_.loose) {
      // Below the tolerance steps are as long as the surface is far.
      size = meters_[j];
      const M outside = hn::And(close_[j], hn::Gt(value, hn::Zero(d)));
      radius = hn::IfThenElse(outside, hn::Max(radius, size), radius);
    }
    M back = hn::Lt(one, hn::Zero(d));
    if (method_ == FieldMethod::relaxed) {
      // A stretched step from a ball of emptiness to one that does not touch it jumped over a gap:
      // back to the rim of the first (Keinert and others, "Enhanced Sphere Tracing", 2014).
      // Straight ahead the two just touch, which rounding must not take for a gap.
      const V both = hn::Add(last_[j], hn::Abs(radius));
      back = hn::And(now_[j],
                     hn::Lt(hn::Mul(both, hn::Set(d, static_cast<Number>(1 + 1e-4))), stride_[j]));
    }
    const V near = method_ == FieldMethod::relaxed
                       ? size
                       : hn::IfThenElse(hn::Lt(value, hn::Zero(d)), value, size);
    M here = hn::And(hn::AndNot(back, now_[j]), hn::Lt(near, tolerance_at(j)));
    if (method_ == FieldMethod::relaxed && (cuts_ || !tape_.steady)) {
      // Where values jump, the way back out may lead in again without end.
      const M inside = hn::AndNot(back, hn::And(now_[j], hn::Lt(value, hn::Zero(d))));
      here = hn::Or(here, hn::And(inside, retreated_[j]));
      retreated_[j] = hn::Or(retreated_[j], inside);
    }
    if (lanes_.any_start) {
      back = hn::AndNot(leaving_[j], back);
      here = hn::AndNot(leaving_[j], here);
    }
    if (method_ == FieldMethod::slope) {
      // From inside, by the distance alone.
      const M outside = hn::Gt(side_[j], hn::Zero(d));
      radius = hn::IfThenElse(outside, hn::Max(radius, clear_[j]), radius);
    }
    if (method_ == FieldMethod::sphere || method_ == FieldMethod::slope) {
      move(j, here, lanes_.any_start ? hn::Max(radius, left_[j]) : radius);
      return;
    }
    // A stretched step may end inside: from there the way is back out.
    const M outside = hn::Gt(radius, hn::Zero(d));
    // Nor may it jump past the end, where a jump over a surface would not be noticed.
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
    // Lanes that come out of a portal start a little on: a wall that ends at the portal may hold
    // that place already, or be that near. It is met from outside; the wall that the portal lies in
    // is left.
    V little = hn::Set(d, static_cast<Number>(1.25 * portal_start));
    if (lanes_.any_scale) {
      little = hn::Mul(little, hn::Load(d, lanes_.scale + first_ + j * hn::Lanes(d)));
    }
    const M first = hn::Eq(steps_[j], zero);
    const M out_of_portal = hn::Eq(hn::Load(d, lanes_.start + first_ + j * hn::Lanes(d)), zero);
    const M outside = hn::And(out_of_portal, hn::Or(hn::And(first, hn::Gt(value, hn::Neg(little))),
                                                    hn::AndNot(first, hn::Gt(side_[j], zero))));
    const V sign = hn::IfThenElse(hn::AndNot(outside, hn::Lt(value, zero)), hn::Set(d, Number(-1)),
                                  hn::Set(d, Number(1)));
    side_[j] = hn::IfThenElse(was, sign, side_[j]);
    // Deeper than numbers are rounded.
    const M met = hn::And(outside, hn::Lt(value, hn::Set(d, Number(-1e-5))));
    const M near = hn::Lt(tape_.loose ? meters_[j] : hn::Abs(value), tolerance_at(j));
    const M still = hn::And(hn::AndNot(met, was), near);
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

  /// A place along each lane of a vector, and the value there, above 0 on the side it started on.
  struct LanePlaces {
    V t, value;
  };

  /// To where the sign changes along the lane, between the last place outside and the first inside:
  /// a little past where the slope says it does, to have one of each, and from then on between them
  /// by inverse quadratic interpolation (Brent, "Algorithms for Minimization without Derivatives",
  /// 1973), or false position where that leads elsewhere (Dowell and Jarratt, "A modified regula
  /// falsi method", 1971). A place that is
  /// outside again counts only where nothing can be between; else it tells how steep the way is.
  /// Where no place inside is found, the lane stays at the last one outside.
  void refine(const ActiveVectors& hits) {
    const D d;
    const V zero = hn::Zero(d);
    const V one = hn::Set(d, Number(1));
    const V half = hn::Set(d, Number(0.5));
    const M nobody = hn::Lt(one, zero);
    LanePlaces low[block_vectors];    // the last outside; of lanes that only were inside, the last
    LanePlaces high[block_vectors];   // the first inside, of those that are enclosed
    LanePlaces third[block_vectors];  // one more, that one of those was before
    V low_weight[block_vectors], high_weight[block_vectors];
    V rate[block_vectors];  // by how much the value falls for a meter; 0: not known
    M moving[block_vectors], enclosed[block_vectors], went_high[block_vectors],
        went_low[block_vectors];
    std::size_t vectors = 0;
    for (std::size_t k = 0; k < hits.count; ++k) vectors = hits.index[k] + 1;
    for (std::size_t j = 0; j < vectors; ++j) {
      const LanePlaces now{t_[j], hn::Mul(value_[j], side_[j])};
      const LanePlaces before{before_[j], hn::Mul(value_before_[j], side_[j])};
      const V way = hn::Sub(now.t, before.t);
      // Equal steps that were halved may have come from either side.
      const M ahead = hn::Gt(way, zero);
      const M in_front =
          hn::And(hn::And(ahead, hn::Lt(now.value, zero)), hn::Gt(before.value, zero));
      const M past =
          hn::And(hn::AndNot(ahead, hn::Gt(now.value, zero)), hn::Lt(before.value, zero));
      enclosed[j] = hn::Or(in_front, past);
      low[j] = {hn::IfThenElse(in_front, before.t, now.t),
                hn::IfThenElse(in_front, before.value, now.value)};
      high[j] = {hn::IfThenElse(past, before.t, now.t),
                 hn::IfThenElse(past, before.value, now.value)};
      third[j] = before;
      low_weight[j] = low[j].value;
      high_weight[j] = high[j].value;
      const V fall = hn::Div(hn::Sub(before.value, now.value), way);
      const M told = hn::And(hn::Ne(way, zero), hn::Lt(hn::Abs(fall), hn::Inf(d)));
      rate[j] = hn::IfThenElseZero(told, fall);
      moving[j] = hn::And(hit_[j], hn::Ne(now.value, zero));
      went_high[j] = went_low[j] = nobody;
    }
    const auto next = [&](std::size_t j) {
      const V share = hn::Div(low_weight[j], hn::Sub(low_weight[j], high_weight[j]));
      const V wide = hn::Sub(high[j].t, low[j].t);
      // By the parabola through three places, where it leads between the two.
      const V l = low[j].value;
      const V h = high[j].value;
      const V m = third[j].value;
      const V from_third = hn::Sub(third[j].t, low[j].t);
      const V of_high = hn::Div(hn::Mul(l, m), hn::Mul(hn::Sub(h, l), hn::Sub(h, m)));
      const V of_third = hn::Div(hn::Mul(l, h), hn::Mul(hn::Sub(m, l), hn::Sub(m, h)));
      const V curved = hn::Add(hn::Mul(wide, of_high), hn::Mul(from_third, of_third));
      const M inner = hn::And(hn::Gt(curved, zero), hn::Lt(curved, wide));
      const V between = hn::Add(low[j].t, hn::IfThenElse(inner, curved, hn::Mul(share, wide)));
      const V by_slope = hn::Mul(hn::Set(d, Number(1.0625)), hn::Div(low[j].value, rate[j]));
      const V longest = hn::Max(hn::Mul(hn::Set(d, Number(64)), tolerance_at(j)),
                                hn::Mul(hn::Set(d, Number(0.25)), low[j].t));
      const M sloped = hn::And(hn::Gt(rate[j], zero), hn::Le(hn::Abs(by_slope), longest));
      const V by_value = hn::Mul(low[j].value, per_stretch_);
      const V to = hn::IfThenElse(enclosed[j], between,
                                  hn::Add(low[j].t, hn::IfThenElse(sloped, by_slope, by_value)));
      // Until numbers have no place between two.
      const M new_place = hn::And(hn::Eq(to, to), hn::Ne(to, low[j].t));
      moving[j] = hn::And(moving[j],
                          hn::And(new_place, hn::Or(hn::Not(enclosed[j]), hn::Ne(to, high[j].t))));
      t_[j] = hn::IfThenElse(moving[j], to, low[j].t);
    };
    for (std::size_t k = 0; k < hits.count; ++k) next(hits.index[k]);
    for (int turn = 0; turn < budget_.refinement; ++turn) {
      const ActiveVectors active = Those(d, moving, vectors);
      if (active.count == 0) break;
      ask(moving, active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const LanePlaces now{t_[j], hn::Mul(machine_.value(j).v, side_[j])};
        more_[j] = hn::Add(more_[j], hn::IfThenElseZero(moving[j], one));
        const M inside = hn::And(moving[j], hn::Lt(now.value, zero));
        const M outside = hn::AndNot(inside, moving[j]);
        const M low_is_outside = hn::Gt(low[j].value, zero);
        // Nothing is between two balls of emptiness that meet.
        const V reach = hn::Mul(hn::Add(low[j].value, now.value), per_stretch_);
        const V stride = hn::Sub(now.t, low[j].t);
        const M far = hn::Gt(stride, tolerance_at(j));
        // Nor is anything looked for that is thinner than what tolerances tell apart.
        const M empty = hn::Or(hn::Ge(hn::Mul(reach, hn::Set(d, Number(1 + 1e-4))), stride),
                               hn::AndNot(far, low_is_outside));
        const M comes_out = hn::AndNot(hn::Or(low_is_outside, enclosed[j]), outside);
        const M back_inside = hn::AndNot(hn::Or(low_is_outside, enclosed[j]), inside);
        const M further = hn::And(outside, hn::Or(enclosed[j], hn::And(low_is_outside, empty)));
        M unsure = hn::AndNot(hn::Or(enclosed[j], hn::Or(empty, comes_out)), outside);
        // Deeper inside than the slope said: there was something else on the way. Half as far then.
        const M deep = hn::Lt(now.value, hn::Mul(low[j].value, hn::Set(d, Number(-0.5))));
        const M jumped =
            hn::And(hn::And(inside, hn::And(deep, far)), hn::AndNot(enclosed[j], low_is_outside));
        const M closes = hn::AndNot(hn::Or(back_inside, jumped), inside);
        // An end that is kept twice counts half, so that the other comes nearer too.
        const V low_half = hn::Mul(low_weight[j], half);
        const V high_half = hn::Mul(high_weight[j], half);
        low_weight[j] = hn::IfThenElse(hn::And(closes, went_high[j]), low_half, low_weight[j]);
        high_weight[j] = hn::IfThenElse(hn::And(further, went_low[j]), high_half, high_weight[j]);
        went_high[j] = hn::And(closes, enclosed[j]);
        went_low[j] = hn::And(further, enclosed[j]);
        // What the slope is after a place that goes on outside; none where that was not sure.
        const V fall = hn::Div(hn::Sub(low[j].value, now.value), hn::Sub(now.t, low[j].t));
        rate[j] = hn::IfThenElse(hn::Or(further, unsure), fall, rate[j]);
        rate[j] = hn::IfThenElse(jumped, hn::Add(rate[j], rate[j]), rate[j]);
        const M old_high = hn::And(closes, enclosed[j]);
        const M old_low = hn::Or(further, hn::Or(comes_out, back_inside));
        const LanePlaces other{hn::IfThenElse(unsure, now.t, third[j].t),
                               hn::IfThenElse(unsure, now.value, third[j].value)};
        third[j] = {hn::IfThenElse(old_low, low[j].t, hn::IfThenElse(old_high, high[j].t, other.t)),
                    hn::IfThenElse(old_low, low[j].value,
                                   hn::IfThenElse(old_high, high[j].value, other.value))};
        const M new_high = hn::Or(closes, comes_out);
        const LanePlaces its_high{hn::IfThenElse(comes_out, low[j].t, now.t),
                                  hn::IfThenElse(comes_out, low[j].value, now.value)};
        high[j] = {hn::IfThenElse(new_high, its_high.t, high[j].t),
                   hn::IfThenElse(new_high, its_high.value, high[j].value)};
        high_weight[j] = hn::IfThenElse(new_high, its_high.value, high_weight[j]);
        const M new_low = hn::Or(hn::Or(further, comes_out), back_inside);
        low[j] = {hn::IfThenElse(new_low, now.t, low[j].t),
                  hn::IfThenElse(new_low, now.value, low[j].value)};
        low_weight[j] = hn::IfThenElse(new_low, now.value, low_weight[j]);
        enclosed[j] = hn::Or(enclosed[j], new_high);
        // Nearer than numbers of the kind tell apart is there.
        const V least = hn::Mul(hn::Set(d, static_cast<Number>(sizeof(Number) == 4 ? 3e-8 : 1e-15)),
                                hn::Add(hn::Abs(now.t), one));
        moving[j] = hn::And(moving[j], hn::Gt(hn::Abs(now.value), least));
        next(j);
      }
    }
    for (std::size_t j = 0; j < vectors; ++j) {
      const M nearer_high = hn::And(enclosed[j], hn::Lt(hn::Abs(high[j].value), low[j].value));
      t_[j] = hn::IfThenElse(hit_[j], hn::IfThenElse(nearer_high, high[j].t, low[j].t), t_[j]);
    }
  }

  /// The same for estimates, whose values jump: on by what they say is empty, as long as that is
  /// outside.
  void come_nearer(const ActiveVectors& hits) {
    const D d;
    V best[block_vectors];
    M moving[block_vectors];
    std::size_t vectors = 0;
    for (std::size_t k = 0; k < hits.count; ++k) vectors = hits.index[k] + 1;
    const auto next = [&](std::size_t j) {
      const V step = hn::Mul(hn::Mul(value_[j], side_[j]), per_stretch_);
      moving[j] = hn::And(moving[j], hn::Gt(step, hn::Zero(d)));
      t_[j] = hn::IfThenElse(moving[j], hn::Add(t_[j], step), t_[j]);
    };
    for (std::size_t j = 0; j < vectors; ++j) {
      moving[j] = hit_[j];
      best[j] = t_[j];
      next(j);
    }
    for (int turn = 0; turn < budget_.refinement; ++turn) {
      const ActiveVectors active = Those(d, moving, vectors);
      if (active.count == 0) break;
      ask(moving, active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const V value = machine_.value(j).v;
        more_[j] = hn::Add(more_[j], hn::IfThenElseZero(moving[j], hn::Set(d, Number(1))));
        moving[j] = hn::And(moving[j], hn::Gt(hn::Mul(value, side_[j]), hn::Zero(d)));
        value_[j] = hn::IfThenElse(moving[j], value, value_[j]);
        best[j] = hn::IfThenElse(moving[j], t_[j], best[j]);
        next(j);
      }
    }
    for (std::size_t j = 0; j < vectors; ++j) t_[j] = hn::IfThenElse(hit_[j], best[j], t_[j]);
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
    const std::span<const Tape::Instruction> instructions = guide_.matters(t_, hit_, active);
    describe_materials(instructions, active, count, hits);
    if (lanes_.ending_only) return;
    Dual<D> slopes[block_vectors];
    std::uint32_t asked = 1;
    if (budget_.normals == FieldNormals::difference) {
      difference(instructions, active, slopes);
      asked = 4;
    } else {
      ask_slopes(instructions, active, slopes);
    }
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Dual<D>& value = slopes[j];
      const V square = square_of(value);
      // Where the value does not change, or by no number, the surface faces the lane.
      const M known = hn::And(hn::Gt(square, hn::Zero(d)), hn::Lt(square, hn::Inf(d)));
      const V factor = hn::Div(side_[j], hn::Sqrt(square));
      HWY_ALIGN Number x[hn::MaxLanes(D())];
      HWY_ALIGN Number y[hn::MaxLanes(D())];
      HWY_ALIGN Number z[hn::MaxLanes(D())];
      const auto put = [&](V slope, const Number* ways, Number* to) HWY_ATTR {
        const V way = hn::Load(d, ways + first_ + j * width);
        hn::Store(hn::IfThenElse(known, hn::Mul(slope, factor), hn::Neg(way)), d, to);
      };
      put(value.x, lanes_.direction_x, x);
      put(value.y, lanes_.direction_y, y);
      put(value.z, lanes_.direction_z, z);
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
    // Where all that matters is of one material, it is known.
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
  SlopeMachine<D> slopes_;
  Guide<D>& guide_;
  const Tape& tape_;
  const LaneBatch<Number>& lanes_;
  const FieldBudget& budget_;
  FieldMethod method_;
  std::size_t first_ = 0;  ///< lane of the block
  V t_[block_vectors], far_end_[block_vectors], side_[block_vectors];
  V steps_[block_vectors], more_[block_vectors];
  V last_[block_vectors], stride_[block_vectors];
  V value_[block_vectors], before_[block_vectors], value_before_[block_vectors];
  V nearest_[block_vectors];
  V meters_[block_vectors];  ///< how far the surface is, of tapes that are loose
  V until_[block_vectors];   ///< where lanes leave what they are asked by, of method slope
  V clear_[block_vectors];   ///< meters that are clear by slopes
  M close_[block_vectors];   ///< whose value is below the tolerance
  M going_[block_vectors], now_[block_vectors], hit_[block_vectors], spent_[block_vectors];
  M over_[block_vectors], leaving_[block_vectors], retreated_[block_vectors];
  M sided_[block_vectors];  ///< whose side is known before their first step
  V left_[block_vectors];
  bool cuts_ = false;
  V spread_;
  V most_stretch_, most_steps_, tolerance_, growth_, per_stretch_, relaxation_;
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
