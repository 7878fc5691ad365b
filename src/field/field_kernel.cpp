#include "field/field_kernel.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "field/field_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "field/evaluate-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Sets the first register of a machine to places; the last place again past the end.
template <class D>
struct BlockPlaces {
  using Number = hn::TFromD<D>;
  static constexpr std::size_t most = block_vectors * hn::MaxLanes(D());
  HWY_ALIGN Number x[most], y[most], z[most];
  std::size_t count = 0;

  BlockPlaces(const FieldPlaces<Number>& places, std::size_t first) {
    const std::size_t lanes = block_vectors * hn::Lanes(D());
    count = std::min(lanes, places.count - first);
    for (std::size_t i = 0; i < lanes; ++i) {
      const std::size_t from = first + std::min(i, count - 1);
      x[i] = places.x[from];
      y[i] = places.y[from];
      z[i] = places.z[from];
    }
  }
  ActiveVectors active() const {
    const std::size_t lanes = hn::Lanes(D());
    return ActiveVectors::First((count + lanes - 1) / lanes);
  }
};

/// Runs a tape over places, block by block; `give` gets each block's machine.
template <class T, class D, class Give>
HWY_INLINE void Ask(D d, const Tape& tape, const FieldPlaces<hn::TFromD<D>>& places,
                    const Give& give) {
  using Number = hn::TFromD<D>;
  const std::size_t lanes = hn::Lanes(d);
  Machine<D, T> machine(tape);
  for (std::size_t first = 0; first < places.count; first += block_vectors * lanes) {
    const BlockPlaces<D> block(places, first);
    const ActiveVectors active = block.active();
    for (std::size_t j = 0; j < active.count; ++j) {
      T& x = machine.point(0, 0, j);
      T& y = machine.point(0, 1, j);
      T& z = machine.point(0, 2, j);
      x = T(hn::Load(d, block.x + j * lanes));
      y = T(hn::Load(d, block.y + j * lanes));
      z = T(hn::Load(d, block.z + j * lanes));
      if constexpr (std::is_same_v<T, Dual<D>>) {
        x.x = y.y = z.z = hn::Set(d, Number(1));
      }
    }
    machine.run(active);
    give(machine, first, block.count);
  }
}

/// Copies lanes of vectors to where they belong, up to a count.
template <class D, class Vector, class Value, class Get>
HWY_INLINE void Spread(D d, std::size_t count, Value* to, const Get& get) {
  HWY_ALIGN Value lanes[hn::MaxLanes(D())];
  const std::size_t width = hn::Lanes(d);
  for (std::size_t i = 0; i < count; i += width) {
    const Vector vector = get(i / width);
    hn::Store(vector, hn::DFromV<Vector>(), lanes);
    std::copy_n(lanes, std::min(width, count - i), to + i);
  }
}

template <class Number>
void Values(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  Ask<Plain<D>>(d, tape, places, [&](auto& machine, std::size_t first, std::size_t count) {
    Spread<D, V>(d, count, values + first, [&](std::size_t j) { return machine.value(j).v; });
  });
}

template <class Number>
void Gradients(const Tape& tape, const FieldPlaces<Number>& places, Number* values,
               const FieldGradients<Number>& to) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  Ask<Dual<D>>(d, tape, places, [&](auto& machine, std::size_t first, std::size_t count) {
    Spread<D, V>(d, count, values + first, [&](std::size_t j) { return machine.value(j).v; });
    Spread<D, V>(d, count, to.x + first, [&](std::size_t j) { return machine.value(j).x; });
    Spread<D, V>(d, count, to.y + first, [&](std::size_t j) { return machine.value(j).y; });
    Spread<D, V>(d, count, to.z + first, [&](std::size_t j) { return machine.value(j).z; });
  });
}

template <class Number>
void Materials(const Tape& tape, const FieldPlaces<Number>& places,
               const FieldMaterials<Number>& to) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  using VI = hn::Vec<hn::RebindToSigned<D>>;
  using Integer = hn::TFromV<VI>;
  const D d;
  Ask<Made<D>>(d, tape, places, [&](auto& machine, std::size_t first, std::size_t count) {
    Integer whole[block_vectors * hn::MaxLanes(D())];
    Spread<D, VI>(d, count, whole, [&](std::size_t j) { return machine.value(j).material; });
    std::copy_n(whole, count, to.material + first);
    Spread<D, VI>(d, count, whole, [&](std::size_t j) { return machine.value(j).other; });
    std::copy_n(whole, count, to.other + first);
    Spread<D, V>(d, count, to.share + first, [&](std::size_t j) { return machine.value(j).share; });
  });
}

/// The lanes of a block on their way.
template <class D>
class March {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  static constexpr std::size_t most = block_vectors * hn::MaxLanes(D());

 public:
  March(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,
        std::size_t first)
      : machine_(tape), tape_(tape), lanes_(lanes), budget_(budget), first_(first) {}

  void run(HitBatch<Number>& hits) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::size_t count = std::min(block_vectors * width, lanes_.size - first_);
    const std::size_t vectors = (count + width - 1) / width;
    for (std::size_t j = 0; j < vectors; ++j) enter(j, count);
    ActiveVectors active = still_going(vectors);
    // Which side the lanes start on decides which way out is.
    ask(active);
    const V zero = hn::Zero(d);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      side_[j] = hn::IfThenElse(hn::Lt(machine_.value(j).v, zero), hn::Set(d, Number(-1)),
                                hn::Set(d, Number(1)));
    }
    for (std::int64_t step = 0; active.count > 0 && step < budget_.steps; ++step) {
      if (step > 0) ask(active);
      for (std::size_t k = 0; k < active.count; ++k) advance(active.index[k]);
      active = still_going(vectors);
    }
    refine(vectors);
    tell(count, hits);
  }

 private:
  /// Where the lanes of a vector enter the field's bounds and where they leave them.
  void enter(std::size_t j, std::size_t count) {
    const D d;
    const std::size_t width = hn::Lanes(d);
    const std::size_t i = first_ + j * width;
    const V margin = hn::Set(d, static_cast<Number>(2 * budget_.tolerance + 1e-6));
    const V zero = hn::Zero(d);
    V near = lanes_.any_start ? hn::Load(d, lanes_.start + i) : zero;
    V far = hn::Set(d, lanes_.far_limit);
    if (lanes_.any_limit) far = hn::Min(far, hn::Load(d, lanes_.limit + i));
    M inside = hn::FirstN(d, count - j * width);
    const auto slab = [&](const Number* from, const Number* direction, double low, double high) {
      const V start = hn::Load(d, from + i);
      const V way = hn::Load(d, direction + i);
      const V lower = hn::Sub(hn::Sub(hn::Set(d, static_cast<Number>(low)), margin), start);
      const V upper = hn::Sub(hn::Add(hn::Set(d, static_cast<Number>(high)), margin), start);
      const M level = hn::Eq(way, zero);
      const V one = hn::Div(lower, way);
      const V two = hn::Div(upper, way);
      const V infinite = hn::Inf(d);
      const M within = hn::And(hn::Le(lower, zero), hn::Ge(upper, zero));
      inside = hn::AndNot(hn::AndNot(within, level), inside);
      near = hn::Max(near, hn::IfThenElse(level, hn::Neg(infinite), hn::Min(one, two)));
      far = hn::Min(far, hn::IfThenElse(level, infinite, hn::Max(one, two)));
    };
    const Bounds& bounds = tape_.bounds;
    slab(lanes_.x, lanes_.direction_x, bounds.low.x(), bounds.high.x());
    slab(lanes_.y, lanes_.direction_y, bounds.low.y(), bounds.high.y());
    slab(lanes_.z, lanes_.direction_z, bounds.low.z(), bounds.high.z());
    t_[j] = near;
    far_[j] = far;
    going_[j] = hn::And(inside, hn::Le(near, far));
    hit_[j] = hn::Lt(zero, zero);
    steps_[j] = last_[j] = stride_[j] = zero;
    side_[j] = hn::Set(d, Number(1));
  }

  ActiveVectors still_going(std::size_t vectors) const {
    ActiveVectors active;
    for (std::size_t j = 0; j < vectors; ++j) {
      if (!hn::AllFalse(D(), going_[j])) active.index[active.count++] = j;
    }
    return active;
  }

  /// Sets places along lanes; `Machine` of either kind.
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
  }

  void ask(const ActiveVectors& active) {
    for (std::size_t k = 0; k < active.count; ++k) place(machine_, active.index[k]);
    machine_.run(active);
  }

  V tolerance_at(std::size_t j) const {
    const D d;
    return hn::Add(hn::Set(d, static_cast<Number>(budget_.tolerance)),
                   hn::Mul(hn::Set(d, static_cast<Number>(budget_.growth)), t_[j]));
  }

  void advance(std::size_t j) {
    const D d;
    const V one = hn::Set(d, Number(1));
    const V value = hn::Mul(machine_.value(j).v, side_[j]);
    steps_[j] = hn::Add(steps_[j], hn::IfThenElseZero(going_[j], one));
    if (budget_.method == FieldMethod::fixed) {
      const M across = hn::And(going_[j], hn::Lt(value, hn::Zero(d)));
      hit_[j] = hn::Or(hit_[j], across);
      move(j, across, hn::Set(d, static_cast<Number>(budget_.increment)));
      return;
    }
    const V radius = hn::Mul(value, hn::Set(d, static_cast<Number>(1 / tape_.stretch)));
    M back = hn::Lt(one, hn::Zero(d));
    if (budget_.method == FieldMethod::relaxed) {
      // A stretched step from a ball of emptiness to one that does not touch it jumped over a gap:
      // back to the rim of the first (Keinert and others, "Enhanced Sphere Tracing", 2014).
      // Straight ahead the two just touch, which rounding must not take for a gap.
      const V both = hn::Add(last_[j], hn::Abs(radius));
      back = hn::And(going_[j],
                     hn::Lt(hn::Mul(both, hn::Set(d, static_cast<Number>(1 + 1e-4))), stride_[j]));
    }
    const V near = budget_.method == FieldMethod::relaxed ? hn::Abs(value) : value;
    const M here = hn::And(hn::AndNot(back, going_[j]), hn::Lt(near, tolerance_at(j)));
    hit_[j] = hn::Or(hit_[j], here);
    if (budget_.method == FieldMethod::sphere) {
      move(j, here, radius);
      return;
    }
    // A stretched step may end inside: from there the way is back out.
    const M outside = hn::Gt(radius, hn::Zero(d));
    // Nor may it jump past the end, where nobody would look whether it jumped over anything.
    const V more = hn::Mul(radius, hn::Set(d, static_cast<Number>(budget_.relaxation)));
    const V rest = hn::Max(hn::Sub(far_[j], t_[j]), radius);
    const V stretched = hn::IfThenElse(outside, hn::Min(more, rest), radius);
    const V step = hn::IfThenElse(back, hn::Sub(last_[j], stride_[j]), stretched);
    // After a step back the ball is the same, and the step was no longer than it.
    stride_[j] = hn::IfThenElse(back, hn::Zero(d), stretched);
    last_[j] = hn::IfThenElse(back, last_[j], radius);
    move(j, here, step);
  }

  /// Ends lanes that are there or past their end, and moves the others on.
  void move(std::size_t j, M there, V step) {
    going_[j] = hn::AndNot(there, going_[j]);
    t_[j] = hn::IfThenElse(going_[j], hn::Add(t_[j], step), t_[j]);
    const M past = hn::And(going_[j], hn::Gt(t_[j], far_[j]));
    going_[j] = hn::AndNot(past, going_[j]);
  }

  /// Newton's method along the lane, so that how a lane came to a surface leaves no trace; after
  /// equal steps halving first.
  void refine(std::size_t vectors) {
    const D d;
    ActiveVectors active;
    for (std::size_t j = 0; j < vectors; ++j) {
      if (!hn::AllFalse(d, hit_[j])) active.index[active.count++] = j;
    }
    if (active.count == 0) return;
    if (budget_.method == FieldMethod::fixed) halve(active);
    if (budget_.refinement == 0) return;
    Machine<D, Dual<D>> slope(tape_);
    V best[block_vectors], least[block_vectors];
    M moving[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      best[j] = t_[j];
      least[j] = hn::Inf(d);
      moving[j] = hit_[j];
    }
    /// Keeps where a lane is nearest to the surface; the others move no more.
    const auto keep = [&](std::size_t j, V value) {
      const V size = hn::Abs(value);
      moving[j] = hn::And(moving[j], hn::Lt(size, least[j]));
      best[j] = hn::IfThenElse(moving[j], t_[j], best[j]);
      least[j] = hn::IfThenElse(moving[j], size, least[j]);
    };
    for (int turn = 0; turn < budget_.refinement; ++turn) {
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        place(slope, j);
        slope.point(0, 0, j).x = slope.point(0, 1, j).y = slope.point(0, 2, j).z =
            hn::Set(d, Number(1));
      }
      slope.run(active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const std::size_t i = first_ + j * hn::Lanes(d);
        const Dual<D>& value = slope.value(j);
        keep(j, value.v);
        const V rate = hn::Add(hn::Add(hn::Mul(value.x, hn::Load(d, lanes_.direction_x + i)),
                                       hn::Mul(value.y, hn::Load(d, lanes_.direction_y + i))),
                               hn::Mul(value.z, hn::Load(d, lanes_.direction_z + i)));
        // Where the lane runs along the surface there is nothing to be gained.
        const V longest = hn::Mul(hn::Set(d, Number(64)), tolerance_at(j));
        const V step = hn::Neg(hn::Div(value.v, rate));
        moving[j] = hn::And(moving[j], hn::Le(hn::Abs(step), longest));
        t_[j] = hn::IfThenElse(moving[j], hn::Add(t_[j], step), best[j]);
      }
    }
    ask(active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      keep(j, machine_.value(j).v);
      t_[j] = hn::IfThenElse(hit_[j], best[j], t_[j]);
    }
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
        t_[j] = hn::IfThenElse(hit_[j], hn::Add(t_[j], step[j]), t_[j]);
      }
      ask(active);
      for (std::size_t k = 0; k < active.count; ++k) {
        const std::size_t j = active.index[k];
        const V value = hn::Mul(machine_.value(j).v, side_[j]);
        const V size = hn::Mul(hn::Abs(step[j]), hn::Set(d, Number(0.5)));
        step[j] = hn::IfThenElse(hn::Lt(value, hn::Zero(d)), hn::Neg(size), size);
      }
    }
  }

  void tell(std::size_t count, HitBatch<Number>& hits) const {
    const D d;
    const std::size_t width = hn::Lanes(d);
    HWY_ALIGN Number t[hn::MaxLanes(D())];
    HWY_ALIGN Number steps[hn::MaxLanes(D())];
    HWY_ALIGN Number side[hn::MaxLanes(D())];
    for (std::size_t j = 0; j * width < count; ++j) {
      hn::Store(t_[j], d, t);
      hn::Store(steps_[j], d, steps);
      hn::Store(side_[j], d, side);
      std::uint8_t hit[16];
      std::uint8_t going[16];
      hn::StoreMaskBits(d, hit_[j], hit);
      hn::StoreMaskBits(d, going_[j], going);
      for (std::size_t k = 0; k < width && j * width + k < count; ++k) {
        const std::size_t i = first_ + j * width + k;
        const auto bit = [&](const std::uint8_t* bits) {
          return (bits[k / 8] >> (k % 8) & 1) != 0;
        };
        hits.ending[i] = bit(hit) ? Ending::hit : bit(going) ? Ending::spent : Ending::escaped;
        hits.face[i] = side[k] < 0 ? Face::inside : Face::curved;
        hits.t[i] = t[k];
        hits.steps[i] = static_cast<std::uint32_t>(steps[k]);
      }
    }
  }

  Machine<D, Plain<D>> machine_;
  const Tape& tape_;
  const LaneBatch<Number>& lanes_;
  const FieldBudget& budget_;
  std::size_t first_;
  V t_[block_vectors], far_[block_vectors], side_[block_vectors], steps_[block_vectors];
  V last_[block_vectors], stride_[block_vectors];
  M going_[block_vectors], hit_[block_vectors];
};

template <class Number>
void MarchAll(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,
              HitBatch<Number>& hits) {
  using D = hn::ScalableTag<Number>;
  const std::size_t block = block_vectors * hn::Lanes(D());
  for (std::size_t first = 0; first < lanes.size; first += block) {
    March<D>(tape, lanes, budget, first).run(hits);
  }
}

#define PHOTONLANE_FIELD_FOR(Number, Name)                                                      \
  void Values##Name(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {      \
    Values(tape, places, values);                                                               \
  }                                                                                             \
  void Gradients##Name(const Tape& tape, const FieldPlaces<Number>& places, Number* values,     \
                       const FieldGradients<Number>& to) {                                      \
    Gradients(tape, places, values, to);                                                        \
  }                                                                                             \
  void Materials##Name(const Tape& tape, const FieldPlaces<Number>& places,                     \
                       const FieldMaterials<Number>& to) {                                      \
    Materials(tape, places, to);                                                                \
  }                                                                                             \
  void March##Name(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget, \
                   HitBatch<Number>& hits) {                                                    \
    MarchAll(tape, lanes, budget, hits);                                                        \
  }
PHOTONLANE_FIELD_FOR(float, Float)
PHOTONLANE_FIELD_FOR(double, Double)
#undef PHOTONLANE_FIELD_FOR

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

#define PHOTONLANE_FIELD_FOR(Number, Name)                                                     \
  HWY_EXPORT(Values##Name);                                                                    \
  HWY_EXPORT(Gradients##Name);                                                                 \
  HWY_EXPORT(Materials##Name);                                                                 \
  HWY_EXPORT(March##Name);                                                                     \
  template <>                                                                                  \
  void evaluate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {    \
    HWY_DYNAMIC_DISPATCH(Values##Name)(tape, places, values);                                  \
  }                                                                                            \
  template <>                                                                                  \
  void differentiate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values, \
                          const FieldGradients<Number>& gradients) {                           \
    HWY_DYNAMIC_DISPATCH(Gradients##Name)(tape, places, values, gradients);                    \
  }                                                                                            \
  template <>                                                                                  \
  void tape_materials(const Tape& tape, const FieldPlaces<Number>& places,                     \
                      const FieldMaterials<Number>& materials) {                               \
    HWY_DYNAMIC_DISPATCH(Materials##Name)(tape, places, materials);                            \
  }                                                                                            \
  template <>                                                                                  \
  void march_tape(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget, \
                  HitBatch<Number>& hits) {                                                    \
    HWY_DYNAMIC_DISPATCH(March##Name)(tape, lanes, budget, hits);                              \
  }
PHOTONLANE_FIELD_FOR(float, Float)
PHOTONLANE_FIELD_FOR(double, Double)
#undef PHOTONLANE_FIELD_FOR

}  // namespace photonlane
#endif
