// Per-target include: how far lanes can go without meeting a surface, by how values change along
// them.

#if defined(PHOTONLANE_FIELD_SLOPES_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_SLOPES_INL_H_
#undef PHOTONLANE_FIELD_SLOPES_INL_H_
#else
#define PHOTONLANE_FIELD_SLOPES_INL_H_
#endif

#include <hwy/highway.h>

#include <cmath>
#include <span>

#include "field/evaluate-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Runs a tape at places of lanes and finds how far each can go on without meeting a surface.
///
/// Along a straight lane the distance to a convex shape is a convex function: it stays above its
/// tangent, and from outside Newton's step along the tangent never goes through the surface. Every
/// value has two bounds from below, for h meters further along the lane:
/// - its line: value + slope * h, for h up to `known`;
/// - its chord: value * (1 - h / chord), for h up to `chord`, of values above 0.
/// It is clear at least as far as the chord, or to the box around it. A join takes the lesser of
/// two clear ways, a meet the one of the greater value. Smooth joins are concave functions of their
/// parts, so that they stay above the chord between two values; smooth meets are convex, and stay
/// above their tangent. Mirrors and copies are followed up to where the lane changes sides. Where
/// no such rule is known, a way is clear as far as the value over how much it changes at most for a
/// meter.
///
/// Convexity and Newton's method: Boyd and Vandenberghe, "Convex Optimization", 2004. Bounds by
/// slopes along a ray: Galin and others, "Segment Tracing Using Local Lipschitz Bounds", 2020.
template <class D>
class SlopeMachine {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using T = Dual<D, SlopeAlong<D>>;

 public:
  explicit SlopeMachine(const Tape& tape)
      : machine_(tape), constants_(tape.constants_as<Number>()), result_(tape.result) {
    for (std::size_t j = 0; j < block_vectors; ++j) straight_[0][j] = known_[0][j] = inf();
  }

  /// Whose point 0 is where lanes are, with their ways for slopes.
  Machine<D, T>& machine() { return machine_; }
  V value(std::size_t j) const { return machine_.value(j).v; }
  /// How far the way is clear, in meters; 0 inside.
  V clear(std::size_t j) const { return clear_[result_][j]; }

  void run(std::span<const Tape::Instruction> instructions, const ActiveVectors& active) {
    for (const Tape::Instruction& one : instructions) {
      if (writes_point(one.op)) {
        space(one, active);
      } else if (is_pair(one.op)) {
        pair(one, active);
      } else if (reads_value(one.op)) {
        value(one, active);
      } else {
        shape(one, active);
      }
    }
  }

 private:
  static V inf() { return hn::Inf(D()); }
  static V zero() { return hn::Zero(D()); }
  static V set(double value) { return hn::Set(D(), static_cast<Number>(value)); }

  /// A value with what is known of it further along.
  struct Known {
    V v, line, clear, chord, known;
  };
  Known load(std::size_t reg, std::size_t j) const {
    const T& value = machine_.value_at(reg, j);
    return {value.v, value.along, clear_[reg][j], chord_[reg][j], sure_[reg][j]};
  }

  /// Meters until a value gets to 0 along its line.
  static V way_down(V value, V line) {
    return hn::IfThenElse(hn::Lt(line, zero()), hn::Div(value, hn::Neg(line)), inf());
  }
  /// The same for either sign, of what is straight. Where a lane is just there, which of the two
  /// sides its slope is of is not known: 0.
  static V way_to_zero(V value, V along) {
    const M away = hn::Gt(hn::Mul(value, along), zero());
    const M level = hn::AndNot(hn::Eq(value, zero()), hn::Eq(along, zero()));
    return hn::IfThenElse(
        hn::Or(away, level), inf(),
        hn::IfThenElseZero(hn::Ne(value, zero()), hn::Abs(hn::Div(value, along))));
  }

  /// Keeps what is known of the value an instruction has written: where `whole` is known, as far as
  /// it is a continuous function of that point.
  void keep(const Tape::Instruction& one, std::size_t j, V line, V clear, V chord, V known) {
    const V reach = set(one.reach);
    if (one.whole != Tape::no_register) {
      const V whole = known_[one.whole][j];
      line = hn::IfThenElse(hn::Lt(known, whole), hn::Neg(reach), line);
      known = hn::Max(known, whole);
    }
    const V value = machine_.value_at(one.out, j).v;
    const M outside = hn::Gt(value, zero());
    const V ball = hn::Mul(value, hn::Set(D(), Number(1) / Number(one.reach)));
    clear = hn::Min(hn::Max(clear, ball), known);
    if (one.box != Tape::no_box) clear = hn::Max(clear, way_to_box(one, j));
    clear_[one.out][j] = hn::IfThenElseZero(outside, clear);
    chord_[one.out][j] = hn::IfThenElseZero(outside, hn::Min(hn::Max(chord, ball), known));
    sure_[one.out][j] = known;
    machine_.set_value(one.out, j, T(value, {hn::Max(line, hn::Neg(reach))}));
  }
  void keep(const Tape::Instruction& one, std::size_t j, V line, V chord, V known) {
    keep(one, j, line, chord, chord, known);
  }

  /// How far it is to the box around what an instruction writes, while the lane is straight there;
  /// 0 within.
  V way_to_box(const Tape::Instruction& one, std::size_t j) {
    V enter = zero();
    V leave = inf();
    for (std::size_t axis = 0; axis < 3; ++axis) {
      const T& at = machine_.point(one.whole, axis, j);
      // A little outside, for rounding.
      const V more = hn::Mul(hn::Add(hn::Abs(at.v), set(1)), set(1e-6));
      const V low = hn::Set(D(), constants_[one.box + axis]);
      const V high = hn::Set(D(), constants_[one.box + 3 + axis]);
      const V per = hn::Div(set(1), at.along);
      const V first = hn::Mul(hn::Sub(hn::Sub(low, more), at.v), per);
      const V second = hn::Mul(hn::Sub(hn::Add(high, more), at.v), per);
      enter = hn::Max(enter, hn::Min(first, second));
      leave = hn::Min(leave, hn::Max(first, second));
    }
    const V to = hn::IfThenElse(hn::Gt(enter, leave), inf(), enter);
    return hn::Min(to, straight_[one.whole][j]);
  }

  void shape(const Tape::Instruction& one, const ActiveVectors& active) {
    machine_.step(one, active);
    const bool convex = is_convex(one.op);
    // What slopes are off by, for rounding.
    const V off = set((sizeof(Number) == 4 ? 1e-6 : 1e-14) * one.reach);
    const V reach = set(one.reach);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const V known = known_[one.a][j];
      if (!convex) {
        keep(one, j, hn::Neg(reach), zero(), known);
        continue;
      }
      const V straight = straight_[one.a][j];
      const T& value = machine_.value_at(one.out, j);
      const V slope = hn::Sub(value.along, off);
      V clear = way_down(value.v, slope);
      const M too_far = hn::Gt(clear, straight);
      if (!hn::AllFalse(D(), too_far)) {
        // Beyond where the lane is bent it may fall as fast as it can.
        const V there = hn::Add(value.v, hn::Mul(slope, straight));
        const V bent = hn::Add(straight, hn::Div(there, reach));
        clear = hn::IfThenElse(too_far, bent, clear);
      }
      const V line = hn::IfThenElse(hn::Lt(straight, known), hn::Neg(reach), slope);
      keep(one, j, line, clear, known);
    }
  }

  void value(const Tape::Instruction& one, const ActiveVectors& active) {
    Known before[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      before[active.index[k]] = load(one.a, active.index[k]);
    }
    machine_.step(one, active);
    const V reach = set(one.reach);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Known& a = before[j];
      const T& value = machine_.value_at(one.out, j);
      V known = a.known;
      switch (one.op) {
        case TapeOp::move:
        case TapeOp::scale:
          keep(one, j, value.along, a.clear, a.chord, known);
          break;
        case TapeOp::offset:
          keep(one, j, a.line, less_clear(a, value.v), known);
          break;
        case TapeOp::shell: {
          // Outside, and no less than that inside.
          const M outside = hn::Gt(a.v, zero());
          keep(one, j, hn::IfThenElse(outside, a.line, hn::Neg(reach)),
               hn::IfThenElseZero(outside, less_clear(a, value.v)), known);
          break;
        }
        case TapeOp::extrude: {
          // A convex function, that rises with the figure's value.
          known = hn::Min(known, known_[one.b][j]);
          const M straight = hn::Ge(straight_[one.b][j], known);
          keep(one, j, hn::IfThenElse(straight, value.along, hn::Neg(reach)),
               hn::IfThenElseZero(straight, way_down(value.v, value.along)), known);
          break;
        }
        case TapeOp::waves:
        case TapeOp::noise: {
          // No lower than the part's value less all of the height; of itself no chord is known.
          known = hn::Min(known, known_[one.b][j]);
          const V height = hn::Set(D(), constants_[one.constants + 1]);
          keep(one, j, hn::Neg(reach), less_clear(a, hn::Sub(a.v, height)), zero(), known);
          break;
        }
        default:
          if (reads_point_second(one.op)) known = hn::Min(known, known_[one.b][j]);
          keep(one, j, hn::Neg(reach), zero(), known);
          break;
      }
    }
  }

  /// How far it is clear where a number was taken away from a value: by the line, and by the chord.
  static V less_clear(const Known& a, V left) {
    const V by_chord =
        hn::IfThenElse(hn::Lt(left, a.v), hn::Mul(a.chord, hn::Div(left, a.v)), a.chord);
    const M outside = hn::Gt(left, zero());
    const V by_line = hn::Min(way_down(left, a.line), a.known);
    const V longer = hn::Max(by_line, hn::IfThenElseZero(hn::Gt(a.v, zero()), by_chord));
    return hn::IfThenElseZero(outside, longer);
  }

  /// A join, of which everything is the lesser.
  void join(const Tape::Instruction& one, const ActiveVectors& active) {
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const T& a = machine_.value_at(one.a, j);
      const T& b = machine_.value_at(one.b, j);
      machine_.set_value(one.out, j, T(hn::Min(a.v, b.v), {hn::Min(a.along, b.along)}));
      for (auto* kept : {clear_, chord_, sure_}) {
        kept[one.out][j] = hn::Min(kept[one.a][j], kept[one.b][j]);
      }
    }
  }

  void pair(const Tape::Instruction& one, const ActiveVectors& active) {
    if (one.op == TapeOp::join && one.whole == Tape::no_register) return join(one, active);
    const int sort = pair_sort(one.op);
    const int seam = pair_seam(one.op);
    Known first[block_vectors];
    Known second[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      first[j] = load(one.a, j);
      second[j] = load(one.b, j);
      if (sort == 2 && seam != 0) {
        // The tangent of what is carved away needs how much it rises at most.
        machine_.set_value(one.b, j, T(second[j].v, {set(one.reach_b)}));
      }
    }
    machine_.step(one, active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const Known& a = first[j];
      Known b = second[j];
      if (sort == 2) {
        if (seam != 0 && one.b != one.out) machine_.set_value(one.b, j, T(b.v, {b.line}));
        b.v = hn::Neg(b.v);
        b.line = set(-static_cast<double>(one.reach_b));
        b.clear = b.chord = hn::IfThenElseZero(hn::Gt(b.v, zero()), hn::Div(b.v, hn::Neg(b.line)));
      }
      const V known = hn::Min(a.known, b.known);
      const T& value = machine_.value_at(one.out, j);
      if (sort != 0) {
        if (seam == 0) {
          const M greater = hn::Gt(a.v, b.v);
          keep(one, j, hn::IfThenElse(greater, a.line, b.line),
               hn::IfThenElse(greater, a.clear, b.clear), hn::IfThenElse(greater, a.chord, b.chord),
               known);
        } else {
          keep(one, j, value.along, way_down(value.v, value.along), known);
        }
      } else {
        const V chord = hn::Min(a.chord, b.chord);
        V line = hn::Min(a.line, b.line);
        if (seam == 2) {
          // On a circle both fall at once.
          const V fall_a = hn::Min(a.line, zero());
          const V fall_b = hn::Min(b.line, zero());
          const V both = hn::Sqrt(hn::Add(hn::Mul(fall_a, fall_a), hn::Mul(fall_b, fall_b)));
          line = hn::Min(line, hn::Neg(both));
        }
        if (seam == 0) {
          keep(one, j, line, hn::Min(a.clear, b.clear), chord, known);
        } else {
          keep(one, j, line, smooth_chord(one, a, b, value.v, chord), known);
        }
      }
    }
  }

  /// A smooth join, by the chord to its value where the nearer of its parts may be met.
  V smooth_chord(const Tape::Instruction& one, const Known& a, const Known& b, V value,
                 V nearer) const {
    const Number* c = constants_ + one.constants;
    const V radius = hn::Set(D(), c[0]);
    const M met = hn::Lt(nearer, inf());
    const auto there = [&](const Known& part) {
      // What is clear without end is no less anywhere than here.
      const V share = hn::IfThenElseZero(hn::Lt(part.chord, inf()), hn::Div(nearer, part.chord));
      return hn::Mul(part.v, hn::Sub(set(1), share));
    };
    const V at_a = there(a);
    const V at_b = there(b);
    V least;
    if (pair_seam(one.op) == 1) {
      const V far = hn::Abs(hn::Sub(at_a, at_b));
      const V near = hn::Mul(hn::Max(hn::Sub(radius, far), zero()), hn::Set(D(), c[1]));
      const V below = hn::Mul(hn::Mul(near, near), hn::Mul(radius, set(0.25)));
      least = hn::Sub(hn::Min(at_a, at_b), below);
    } else {
      const V near_a = hn::Max(hn::Sub(radius, at_a), zero());
      const V near_b = hn::Max(hn::Sub(radius, at_b), zero());
      const V both = hn::Sqrt(hn::Add(hn::Mul(near_a, near_a), hn::Mul(near_b, near_b)));
      least = hn::Min(hn::Sub(radius, both), hn::Min(at_a, at_b));
    }
    const V chord = hn::Mul(nearer, hn::Div(value, hn::Sub(value, hn::Min(least, zero()))));
    return hn::IfThenElse(met, chord, inf());
  }

  void space(const Tape::Instruction& one, const ActiveVectors& active) {
    const Number* c = constants_ + one.constants;
    V straight[block_vectors];
    V known[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      straight[j] = straight_[one.a][j];
      known[j] = known_[one.a][j];
      V turn;
      bool breaks = false;
      switch (one.op) {
        case TapeOp::shift:
        case TapeOp::place:
        case TapeOp::flatten:
          continue;
        case TapeOp::mirror: {
          const T& q = machine_.point(one.a, static_cast<std::size_t>(c[0]), j);
          turn = way_to_zero(q.v, q.along);
          break;
        }
        case TapeOp::fold: {
          const T q = machine_.point(one.a, 0, j) * hn::Set(D(), c[0]) +
                      machine_.point(one.a, 1, j) * hn::Set(D(), c[1]) +
                      machine_.point(one.a, 2, j) * hn::Set(D(), c[2]);
          turn = way_to_zero(q.v, q.along);
          break;
        }
        case TapeOp::elongate:
          turn = inf();
          for (std::size_t axis = 0; axis < 3; ++axis) {
            turn =
                hn::Min(turn, way_to_middle(machine_.point(one.a, axis, j), hn::Set(D(), c[axis])));
          }
          break;
        case TapeOp::repeat:
          turn = way_to_next_copy(machine_.point(one.a, static_cast<std::size_t>(c[0]), j), c);
          breaks = c[6] != 0;
          break;
        case TapeOp::around:
          turn = way_to_next_share(machine_.point(one.a, 0, j), machine_.point(one.a, 1, j), c);
          breaks = c[3] != 0;
          break;
        case TapeOp::revolve:
          turn = zero();
          break;
        default:
          turn = zero();
          breaks = true;
          break;
      }
      straight[j] = hn::Min(straight[j], turn);
      if (breaks) known[j] = hn::Min(known[j], turn);
    }
    machine_.step(one, active);
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      straight_[one.out][j] = straight[j];
      known_[one.out][j] = known[j];
    }
  }

  /// To where a coordinate gets into or out of what is drawn out in the middle.
  static V way_to_middle(const T& q, V half) {
    const V size = hn::Abs(q.v);
    const V out = hn::IfThenElse(hn::Lt(q.v, zero()), hn::Neg(q.along), q.along);
    const M beyond = hn::Gt(size, half);
    const V from_outside =
        hn::IfThenElse(hn::Lt(out, zero()), hn::Div(hn::Sub(half, size), out), inf());
    // Within, to the side it goes to.
    const V pace = hn::Abs(q.along);
    const V left = hn::IfThenElse(hn::Lt(out, zero()), hn::Add(half, size), hn::Sub(half, size));
    const V from_inside = hn::IfThenElse(hn::Gt(pace, zero()), hn::Div(left, pace), inf());
    return hn::IfThenElseZero(hn::Ne(size, half),
                              hn::IfThenElse(beyond, from_outside, from_inside));
  }

  /// To the plane between two numbers that are counted, up or down by which way it goes.
  static V way_to_whole(V place, V along) {
    const V past = hn::Sub(place, hn::Floor(place));
    const V left = hn::IfThenElse(hn::Gt(along, zero()), hn::Sub(set(1), past), past);
    const V pace = hn::Abs(along);
    const V way = hn::IfThenElse(hn::Gt(pace, zero()), hn::Div(left, pace), inf());
    // Just there it may be counted to either side.
    return hn::IfThenElseZero(hn::Gt(past, set(1e-6)), way);
  }

  /// To where a row's next copy is asked: between two of them, and at the middle of one where
  /// several are asked. c: of TapeOp::repeat.
  static V way_to_next_copy(const T& x, const Number* c) {
    const T place = x * hn::Set(D(), c[2]) + hn::Set(D(), c[4]);
    const bool several = c[6] != 0;
    const V within =
        several ? way_to_whole(hn::Add(place.v, place.v), hn::Add(place.along, place.along))
                : way_to_whole(hn::Add(place.v, set(0.5)), place.along);
    if (c[3] < 0) return within;
    // Beyond the ends nothing changes before the first copy's middle.
    const V last = hn::Set(D(), c[3]);
    const V up =
        hn::IfThenElse(hn::Gt(place.along, zero()), hn::Div(hn::Neg(place.v), place.along), inf());
    const V down = hn::IfThenElse(hn::Lt(place.along, zero()),
                                  hn::Div(hn::Sub(last, place.v), place.along), inf());
    return hn::IfThenElse(hn::Lt(place.v, zero()), up,
                          hn::IfThenElse(hn::Gt(place.v, last), down, within));
  }

  /// The same for shares of a circle. c: of TapeOp::around.
  static V way_to_next_share(const T& x, const T& y, const Number* c) {
    const bool several = c[3] != 0;
    const Number wide = several ? c[0] / 2 : c[0];
    // A share wider than half the circle has no side that is left by one plane.
    if (wide > Number(3.1416)) return zero();
    const V per = hn::Set(D(), several ? 2 * c[1] : c[1]);
    const V half = hn::Set(D(), several ? Number(0) : Number(0.5));
    const V place = hn::Add(hn::Mul(Angle(x.v, y.v), per), half);
    const V from = hn::Sub(hn::Floor(place), half);
    V turn = inf();
    const V near = hn::Mul(hn::Add(hn::Abs(x.v), hn::Abs(y.v)), set(1e-6));
    for (const int side : {0, 1}) {
      V sine;
      V cosine;
      const V edge = hn::Add(from, set(side));
      SineCosineOf(D(), hn::Mul(edge, hn::Set(D(), wide)), sine, cosine);
      // Above 0 within.
      const T from_edge = y * cosine - x * sine;
      const T within = side == 0 ? from_edge : Neg(from_edge);
      const M sure = hn::Gt(within.v, near);
      turn = hn::Min(turn, hn::IfThenElseZero(sure, way_down(within.v, within.along)));
    }
    return turn;
  }

  /// Shapes whose value is a convex function of the place.
  static bool is_convex(TapeOp op) {
    switch (op) {
      case TapeOp::sphere:
      case TapeOp::ellipsoid:
      case TapeOp::box:
      case TapeOp::plane:
      case TapeOp::cylinder:
      case TapeOp::capsule:
      case TapeOp::cone:
      case TapeOp::disc:
      case TapeOp::pyramid:
      case TapeOp::circle:
      case TapeOp::rectangle:
        return true;
      default:
        return false;
    }
  }

  Machine<D, T> machine_;
  const Number* constants_;
  std::size_t result_;
  V straight_[Tape::most_registers][block_vectors];  ///< how far the lane is straight at a point
  V known_[Tape::most_registers][block_vectors];     ///< and what is made from it is continuous
  V clear_[Tape::most_registers][block_vectors];
  V chord_[Tape::most_registers][block_vectors];
  V sure_[Tape::most_registers][block_vectors];
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
