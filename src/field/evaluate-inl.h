// Per-target include: evaluating tapes, for distances alone, with their gradients, and with what
// the surface is made of.

#if defined(PHOTONLANE_FIELD_EVALUATE_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_EVALUATE_INL_H_
#undef PHOTONLANE_FIELD_EVALUATE_INL_H_
#else
#define PHOTONLANE_FIELD_EVALUATE_INL_H_
#endif

#include <hwy/highway.h>

#include <span>
#include <type_traits>

#include "field/noise.hpp"
#include "field/numbers-inl.h"
#include "field/tape.hpp"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Vectors an instruction works on, so that finding out what it is costs little beside the work.
inline constexpr std::size_t block_vectors = 4;

/// The vectors of a block that take part.
struct ActiveVectors {
  std::size_t count = 0;
  std::size_t index[block_vectors];

  static ActiveVectors First(std::size_t count) {
    ActiveVectors active;
    for (; active.count < count; ++active.count) active.index[active.count] = active.count;
    return active;
  }
};

/// Registers of a tape for a block. T is Plain<D>, Dual<D>, Dual<D, SlopeAlong<D>> or Made<D>.
template <class D, class T>
class Machine {
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;

 public:
  explicit Machine(const Tape& tape) : tape_(tape), constants_(tape.constants_as<Number>()) {}

  T& point(std::size_t reg, std::size_t axis, std::size_t j) { return points_[reg][axis][j]; }
  const T& value(std::size_t j) const { return values_[tape_.result][j]; }
  const T& value_at(std::size_t reg, std::size_t j) const { return values_[reg][j]; }
  void set_value(std::size_t reg, std::size_t j, const T& value) { values_[reg][j] = value; }

  /// How small detail may be that does not matter, vector by vector.
  V& footprint(std::size_t j) { return footprint_[j]; }

  /// With `cuts`, detail below the footprints is left out.
  void run(std::span<const Tape::Instruction> instructions, const ActiveVectors& active,
           bool cuts = false) {
    cuts_ = cuts;
    for (const Tape::Instruction& one : instructions) step(one, active);
    cuts_ = false;
  }

 private:
  struct P {
    T x, y, z;
  };
  P load(std::size_t reg, std::size_t j) const {
    return {points_[reg][0][j], points_[reg][1][j], points_[reg][2][j]};
  }
  static P shifted(const P& p, const Number* c) {
    const D d;
    return {p.x - hn::Set(d, c[0]), p.y - hn::Set(d, c[1]), p.z - hn::Set(d, c[2])};
  }
  void store(std::size_t reg, std::size_t j, const P& p) {
    points_[reg][0][j] = p.x;
    points_[reg][1][j] = p.y;
    points_[reg][2][j] = p.z;
  }

  template <class Work>
  HWY_INLINE void shape(const Tape::Instruction& one, const ActiveVectors& active,
                        const Work& work) {
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      P p = load(one.a, j);
      if (one.shift != Tape::no_shift) p = shifted(p, constants_ + one.shift);
      T value = work(p);
      value.made_of(one.material);
      values_[one.out][j] = value;
    }
  }
  template <class Work>
  HWY_INLINE void space(const Tape::Instruction& one, const ActiveVectors& active,
                        const Work& work) {
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      store(one.out, j, work(load(one.a, j)));
    }
  }
  template <class Work>
  HWY_INLINE void value(const Tape::Instruction& one, const ActiveVectors& active,
                        const Work& work) {
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const T part = values_[one.a][j];
      T value = work(part);
      value.keep(part);
      values_[one.out][j] = value;
    }
  }
  template <class Work>
  HWY_INLINE void value_and_point(const Tape::Instruction& one, const ActiveVectors& active,
                                  const Work& work) {
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      const T part = values_[one.a][j];
      T value = work(part, load(one.b, j));
      value.keep(part);
      values_[one.out][j] = value;
    }
  }
  template <class Work>
  HWY_INLINE void pair(const Tape::Instruction& one, const ActiveVectors& active,
                       const Work& work) {
    for (std::size_t k = 0; k < active.count; ++k) {
      const std::size_t j = active.index[k];
      values_[one.out][j] = work(values_[one.a][j], values_[one.b][j]);
    }
  }

  static T length2(const T& a, const T& b) { return Sqrt(a * a + b * b); }
  static T length3(const T& a, const T& b, const T& c) { return Sqrt(a * a + b * b + c * c); }
  static T above(const T& a) { return MaxWith(a, hn::Zero(D())); }
  static T below(const T& a) { return MinWith(a, hn::Zero(D())); }

  /// From distances to two sides that meet squarely: outside both, beside one, inside.
  static T corner(const T& a, const T& b) { return below(Max(a, b)) + length2(above(a), above(b)); }

 public:
  /// Does one operation; those before it have been done.
  void step(const Tape::Instruction& one, const ActiveVectors& active) {
    const D d;
    const Number* c = constants_ + one.constants;
    const auto constant = [&](std::size_t i) { return hn::Set(d, c[i]); };
    switch (one.op) {
      case TapeOp::sphere: {
        const V radius = constant(0);
        return shape(one, active, [&](const P& p) { return length3(p.x, p.y, p.z) - radius; });
      }
      case TapeOp::ellipsoid: {
        const V least = constant(3);
        return shape(one, active, [&](const P& p) {
          const T length = length3(p.x * constant(0), p.y * constant(1), p.z * constant(2));
          return (length - hn::Set(d, Number(1))) * least;
        });
      }
      case TapeOp::box:
        return shape(one, active, [&](const P& p) {
          const T x = Abs(p.x) - constant(0);
          const T y = Abs(p.y) - constant(1);
          const T z = Abs(p.z) - constant(2);
          return below(Max(x, Max(y, z))) + length3(above(x), above(y), above(z)) - constant(3);
        });
      case TapeOp::frame:
        return shape(one, active, [&](const P& p) {
          const V bar = constant(3);
          const T x = Abs(p.x) - constant(0);
          const T y = Abs(p.y) - constant(1);
          const T z = Abs(p.z) - constant(2);
          // Each bar as a box, from the frame's corner inward.
          const T inner_x = Abs(x + bar) - bar;
          const T inner_y = Abs(y + bar) - bar;
          const T inner_z = Abs(z + bar) - bar;
          const auto bars = [&](const T& along, const T& side, const T& other) {
            return below(Max(along, Max(side, other))) +
                   length3(above(along), above(side), above(other));
          };
          return Min(bars(x, inner_y, inner_z),
                     Min(bars(y, inner_x, inner_z), bars(z, inner_x, inner_y)));
        });
      case TapeOp::plane:
        return shape(one, active, [&](const P& p) {
          return p.x * constant(0) + p.y * constant(1) + p.z * constant(2) - constant(3);
        });
      case TapeOp::cylinder:
        return shape(one, active, [&](const P& p) {
          return corner(length2(p.x, p.y) - constant(0), Abs(p.z) - constant(1)) - constant(2);
        });
      case TapeOp::capsule:
        return shape(one, active, [&](const P& p) {
          const T x = p.x - constant(0);
          const T y = p.y - constant(1);
          const T z = p.z - constant(2);
          const T share =
              MinWith(above((x * constant(3) + y * constant(4) + z * constant(5)) * constant(6)),
                      hn::Set(d, Number(1)));
          return length3(x - share * constant(3), y - share * constant(4),
                         z - share * constant(5)) -
                 constant(7);
        });
      case TapeOp::cone:
        return shape(one, active, [&](const P& p) { return cone(p, c); });
      case TapeOp::torus:
        return shape(one, active, [&](const P& p) {
          return length2(length2(p.x, p.y) - constant(0), p.z) - constant(1);
        });
      case TapeOp::torus_arc:
        return shape(one, active, [&](const P& p) {
          return length2(to_arc(p.x, p.y, c[0], c[2], c[3]), p.z) - constant(1);
        });
      case TapeOp::disc:
        return shape(one, active, [&](const P& p) {
          return length2(above(length2(p.x, p.y) - constant(0)), p.z) - constant(1);
        });
      case TapeOp::pyramid:
        return shape(one, active, [&](const P& p) { return pyramid(p, c); });
      case TapeOp::source:
        return ask_source(one, active, c);
      case TapeOp::outline:
        return shape(one, active, [&](const P& p) { return outline(p, c); });
      case TapeOp::circle:
        return shape(one, active, [&](const P& p) { return length2(p.x, p.y) - constant(0); });
      case TapeOp::rectangle:
        return shape(one, active, [&](const P& p) {
          return corner(Abs(p.x) - constant(0), Abs(p.y) - constant(1)) - constant(2);
        });
      case TapeOp::star:
        return shape(one, active, [&](const P& p) { return star(p, c); });
      case TapeOp::arc:
        return shape(one, active, [&](const P& p) {
          return Abs(to_arc(p.x, p.y, c[0], c[2], c[3])) - constant(1);
        });
      case TapeOp::flatten:
        return space(one, active, [&](const P& p) { return P{p.x, p.y, T(hn::Zero(d))}; });
      case TapeOp::extrude:
        return value_and_point(one, active, [&](const T& a, const P& p) {
          return corner(a + constant(1), Abs(p.z) - constant(0)) - constant(1);
        });
      case TapeOp::revolve:
        return space(one, active, [&](const P& p) {
          return P{length2(p.x, p.y) - constant(0), p.z, T(hn::Zero(d))};
        });
      case TapeOp::join:
        return pair(one, active, [&](const T& a, const T& b) { return Min(a, b); });
      case TapeOp::meet:
        return pair(one, active, [&](const T& a, const T& b) { return Max(a, b); });
      case TapeOp::carve:
        return pair(one, active, [&](const T& a, const T& b) { return Max(a, Neg(b)); });
      case TapeOp::join_polynomial:
        return pair(one, active, [&](const T& a, const T& b) { return parabola(a, b, c); });
      case TapeOp::meet_polynomial:
        return pair(one, active,
                    [&](const T& a, const T& b) { return Neg(parabola(Neg(a), Neg(b), c)); });
      case TapeOp::carve_polynomial:
        return pair(one, active,
                    [&](const T& a, const T& b) { return Neg(parabola(Neg(a), b, c)); });
      case TapeOp::join_circular:
        return pair(one, active, [&](const T& a, const T& b) { return quarter(a, b, c); });
      case TapeOp::meet_circular:
        return pair(one, active,
                    [&](const T& a, const T& b) { return Neg(quarter(Neg(a), Neg(b), c)); });
      case TapeOp::carve_circular:
        return pair(one, active,
                    [&](const T& a, const T& b) { return Neg(quarter(Neg(a), b, c)); });
      case TapeOp::invert:
        return value(one, active, [&](const T& a) { return Neg(a); });
      case TapeOp::offset:
        return value(one, active, [&](const T& a) { return a - constant(0); });
      case TapeOp::shell:
        return value(one, active, [&](const T& a) { return Abs(a) - constant(0); });
      case TapeOp::scale:
        return value(one, active, [&](const T& a) { return a * constant(0); });
      case TapeOp::elongate:
        return space(one, active, [&](const P& p) {
          const auto cut = [&](const T& a, V half) {
            return a - MinWith(MaxWith(a, hn::Neg(half)), half);
          };
          return P{cut(p.x, constant(0)), cut(p.y, constant(1)), cut(p.z, constant(2))};
        });
      case TapeOp::waves:
        return rough_value(one, active, c, [&](const P& p) {
          const V rate = constant(4);
          return Sine(p.x * rate) * Sine(p.y * rate) * Sine(p.z * rate) * constant(3);
        });
      case TapeOp::noise:
        return rough_value(one, active, c, [&](const P& p) { return rough(p, c + 3); });
      case TapeOp::fold:
        return space(one, active, [&](const P& p) {
          const T beyond = below(p.x * constant(0) + p.y * constant(1) + p.z * constant(2)) *
                           hn::Set(d, Number(2));
          return P{p.x - beyond * constant(0), p.y - beyond * constant(1),
                   p.z - beyond * constant(2)};
        });
      case TapeOp::shift:
        return space(one, active, [&](const P& p) { return shifted(p, c); });
      case TapeOp::place:
        return space(one, active, [&](const P& p) {
          const T x = p.x - constant(0);
          const T y = p.y - constant(1);
          const T z = p.z - constant(2);
          const V share = constant(12);
          const auto row = [&](std::size_t i) {
            return (x * constant(i) + y * constant(i + 1) + z * constant(i + 2)) * share;
          };
          return P{row(3), row(6), row(9)};
        });
      case TapeOp::mirror: {
        const int axis = static_cast<int>(c[0]);
        return space(one, active, [&](const P& p) {
          return P{axis == 0 ? Abs(p.x) : p.x, axis == 1 ? Abs(p.y) : p.y,
                   axis == 2 ? Abs(p.z) : p.z};
        });
      }
      case TapeOp::repeat: {
        const int axis = static_cast<int>(c[0]);
        return space(one, active, [&](const P& p) {
          return P{axis == 0 ? in_cell(p.x, c) : p.x, axis == 1 ? in_cell(p.y, c) : p.y,
                   axis == 2 ? in_cell(p.z, c) : p.z};
        });
      }
      case TapeOp::around:
        return space(one, active, [&](const P& p) { return in_share(p, c); });
      case TapeOp::twist:
        return space(one, active, [&](const P& p) {
          const T angle = p.z * constant(0);
          const T sine = Sine(angle);
          const T cosine = Cosine(angle);
          return P{p.x * cosine + p.y * sine, p.y * cosine - p.x * sine, p.z};
        });
      case TapeOp::twist_outside:
        return value_and_point(one, active,
                               [&](const T& a, const P& p) { return untwist(a, p, c); });
      case TapeOp::taper:
        return space(one, active, [&](const P& p) {
          const T width = taper_width(p.z, c);
          return P{p.x / width, p.y / width, p.z};
        });
      case TapeOp::taper_outside:
        return value_and_point(one, active,
                               [&](const T& a, const P& p) { return untaper(a, p, c); });
      case TapeOp::bend:
        return space(one, active, [&](const P& p) {
          const V radius = constant(0);
          const T up = radius - p.z * constant(1);
          const T out = MaxWith(length2(p.x, up), constant(3));
          return P{AngleOf(up, p.x) * radius, p.y, (radius - out) * constant(1)};
        });
      case TapeOp::bend_outside:
        return value_and_point(one, active,
                               [&](const T& a, const P& p) { return unbend(a, p, c); });
      case TapeOp::move:
        return value(one, active, [&](const T& a) { return a; });
    }
  }

 private:
  /// Distances to the foot and the top, and to the side, in the half plane through the axis.
  static T cone(const P& p, const Number* c) {
    const D d;
    const V foot = hn::Set(d, c[0]);
    const V top = hn::Set(d, c[1]);
    const V half = hn::Set(d, c[2]);
    const V lean = hn::Sub(top, foot);
    const V height = hn::Add(half, half);
    const T radius = length2(p.x, p.y);
    const V nearer = hn::IfThenElse(hn::Lt(p.z.v, hn::Zero(d)), foot, top);
    const T beyond = above(radius - nearer);
    const T over = Abs(p.z) - half;
    const T x = radius - foot;
    const T y = p.z + half;
    const T along = (x * lean + y * height) * hn::Set(d, c[3]);
    const V one = hn::Set(d, Number(1));
    const T share = MinWith(above(along), one);
    // Beside the slope and above an end the distance is to a plane, with a sign of its own, so that
    // it has a gradient on the surface too.
    const T slope = (x * height - y * lean) * hn::Set(d, c[4]);
    const M beside = hn::And(hn::Gt(along.v, hn::Zero(d)), hn::Lt(along.v, one));
    const T side = Select(beside, slope, length2(x - share * lean, y - share * height));
    const M above_end = hn::And(hn::Eq(beyond.v, hn::Zero(d)), hn::Gt(over.v, hn::Zero(d)));
    const T end = Select(above_end, over, length2(beyond, over));
    const M inside = hn::And(hn::Le(over.v, hn::Zero(d)), hn::Le(slope.v, hn::Zero(d)));
    return Select(inside, Max(slope, over), Min(Select(beside, Abs(side), side), end));
  }

  /// By symmetry the nearest side is that toward the larger of x and y: a triangle on its slope,
  /// and the square of the foot.
  static T pyramid(const P& p, const Number* c) {
    const D d;
    const V zero = hn::Zero(d);
    const V half = hn::Set(d, c[0]);
    const V height = hn::Set(d, c[1]);
    const V slope = hn::Set(d, c[2]);
    const V per_slope = hn::Set(d, c[3]);
    const T ax = Abs(p.x);
    const T ay = Abs(p.y);
    const T x = Max(ax, ay);
    const T side = Min(ax, ay);
    const T z = p.z + hn::Mul(height, hn::Set(d, Number(0.5)));
    const T from_foot = x - half;
    const T out = (from_foot * height + z * half) * per_slope;
    const T up = (z * height - from_foot * half) * per_slope;
    // In the plane of the slope: beyond its edge, below its foot.
    const T beside = side - half;
    const T share =
        MinWith(above((up * slope - beside * half) * hn::Set(d, c[4])), hn::Set(d, Number(1)));
    const T edge_x = beside + share * half;
    const T edge_y = up - share * slope;
    const M beyond = hn::Gt(hn::Add(hn::Mul(beside.v, slope), hn::Mul(up.v, half)), zero);
    const M under = hn::Lt(up.v, zero);
    const T to_edge = edge_x * edge_x + edge_y * edge_y;
    const T over = above(beside);
    const T to_foot = over * over + up * up;
    const T miss =
        Select(hn::And(beyond, under), Min(to_edge, to_foot), Select(beyond, to_edge, to_foot));
    const M within = hn::Not(hn::Or(beyond, under));
    const T to_side = Select(within, Abs(out), Sqrt(out * out + miss));
    const T past_x = above(from_foot);
    const T past_y = above(beside);
    const M on_square = hn::And(hn::Le(from_foot.v, zero), hn::Le(beside.v, zero));
    const T to_square = Select(on_square, Abs(z), length3(past_x, past_y, z));
    const M inside = hn::And(hn::Le(out.v, zero), hn::Ge(z.v, zero));
    return Select(inside, Max(out, Neg(z)), Min(to_side, to_square));
  }

  /// Adds what roughens a surface; not asked where it cannot matter.
  template <class Roughness>
  void rough_value(const Tape::Instruction& one, const ActiveVectors& active, const Number* c,
                   const Roughness& roughness) {
    const D d;
    if (c[0] == Number(1)) {
      value_and_point(one, active, [&](const T& a, const P& p) { return a + roughness(p); });
      return;
    }
    const V factor = hn::Set(d, c[0]);
    const V height = hn::Set(d, c[1]);
    const V steep = hn::Set(d, c[2]);
    value_and_point(one, active, [&](const T& a, const P& p) {
      const T far = (a - height) * steep;
      if (hn::AllTrue(d, hn::Gt(far.v, hn::Mul(hn::Add(a.v, height), factor)))) return far;
      return Max((a + roughness(p)) * factor, far);
    });
  }

  /// Octaves of values at the corners of a lattice, blended by 3 t^2 - 2 t^3.
  static T rough(const P& p, const Number* c) {
    const D d;
    V rate = hn::Set(d, c[1]);
    V height = hn::Set(d, c[0]);
    T sum(hn::Zero(d));
    for (int octave = 0; octave < static_cast<int>(c[2]); ++octave) {
      // Each has a place of its own in the lattice.
      const V shift = hn::Set(d, static_cast<Number>(5.37 * octave));
      const T x = p.x * rate + shift;
      const T y = p.y * rate + shift;
      const T z = p.z * rate + shift;
      sum = sum + (c[3] != 0 ? slopes(x, y, z) : lattice(x, y, z)) * height;
      rate = hn::Add(rate, rate);
      height = hn::Mul(height, hn::Set(d, Number(0.5)));
    }
    return sum;
  }

  using VI = hn::Vec<hn::RebindToSigned<D>>;

  /// Where a coordinate is between two planes of the noise's lattice.
  struct Between {
    VI low, high;
    T way;    ///< from the low one
    T share;  ///< of the high one

    explicit Between(const T& place) {
      const D d;
      const hn::RebindToSigned<D> di;
      const VI last = hn::Set(di, noise_side - 1);
      const V floor = hn::Floor(place.v);
      way = place - floor;
      share = way * way * (hn::Set(d, Number(3)) - (way + way));
      const VI index = hn::ConvertTo(di, floor);
      low = hn::And(index, last);
      high = hn::And(hn::Add(index, hn::Set(di, 1)), last);
    }
  };
  static VI corner_index(VI i, VI j, VI k) {
    return hn::Add(i, hn::ShiftLeft<4>(hn::Add(j, hn::ShiftLeft<4>(k))));
  }

  /// Of a corner's slope, how high it is at a place.
  static T slopes(const T& x, const T& y, const T& z) {
    const D d;
    const Between bx(x);
    const Between by(y);
    const Between bz(z);
    const V one = hn::Set(d, Number(1));
    const T past_x = bx.way - one;
    const T past_y = by.way - one;
    const T past_z = bz.way - one;
    const Number* values = noise_slopes<Number>();
    const auto at = [&](int i, int j, int k) {
      const VI index = corner_index(i != 0 ? bx.high : bx.low, j != 0 ? by.high : by.low,
                                    k != 0 ? bz.high : bz.low);
      const auto along = [&](int axis) {
        return hn::GatherIndex(d, values + static_cast<std::size_t>(axis) * noise_size, index);
      };
      return (i != 0 ? past_x : bx.way) * along(0) + (j != 0 ? past_y : by.way) * along(1) +
             (k != 0 ? past_z : bz.way) * along(2);
    };
    const auto between = [](const T& a, const T& b, const T& share) { return a + share * (b - a); };
    const auto layer = [&](int k) {
      return between(between(at(0, 0, k), at(1, 0, k), bx.share),
                     between(at(0, 1, k), at(1, 1, k), bx.share), by.share);
    };
    return between(layer(0), layer(1), bz.share);
  }

  static T lattice(const T& x, const T& y, const T& z) {
    const D d;
    const Between bx(x);
    const Between by(y);
    const Between bz(z);
    const VI x0 = bx.low, x1 = bx.high, y0 = by.low, y1 = by.high, z0 = bz.low, z1 = bz.high;
    const T &sx = bx.share, &sy = by.share, &sz = bz.share;
    const Number* values = noise_lattice<Number>();
    const auto at = [&](VI i, VI j, VI k) {
      return hn::GatherIndex(d, values, corner_index(i, j, k));
    };
    const auto blend = [&](V a, V b, const T& share) { return share * hn::Sub(b, a) + a; };
    const auto between = [](const T& a, const T& b, const T& share) { return a + share * (b - a); };
    const T low = between(blend(at(x0, y0, z0), at(x1, y0, z0), sx),
                          blend(at(x0, y1, z0), at(x1, y1, z0), sx), sy);
    const T high = between(blend(at(x0, y0, z1), at(x1, y0, z1), sx),
                           blend(at(x0, y1, z1), at(x1, y1, z1), sx), sy);
    return between(low, high, sz);
  }

  /// Radius less that of an arc about +x, or the distance to its nearer end where it ends before.
  static T to_arc(const T& x, const T& y, Number radius, Number sine, Number cosine) {
    const D d;
    const V r = hn::Set(d, radius);
    const V s = hn::Set(d, sine);
    const V co = hn::Set(d, cosine);
    const T side = Abs(y);
    const T past = side * co - x * s;
    const T end = length2(x - hn::Mul(r, co), side - hn::Mul(r, s));
    return Select(hn::Gt(past.v, hn::Zero(d)), end, length2(x, y) - r);
  }

  /// Turned by whole steps to the point nearest +x, and to its upper half: the distance to one
  /// side.
  static T star(const P& p, const Number* c) {
    const D d;
    const V steps = hn::Round(hn::Mul(Angle(p.x.v, p.y.v), hn::Set(d, c[1])));
    V sine;
    V cosine;
    SineCosineOf(d, hn::Mul(steps, hn::Set(d, c[0])), sine, cosine);
    const T x = p.x * cosine + p.y * sine - hn::Set(d, c[2]);
    const T y = Abs(p.y * cosine - p.x * sine);
    const V side_x = hn::Set(d, c[3]);
    const V side_y = hn::Set(d, c[4]);
    const T along = (x * side_x + y * side_y) * hn::Set(d, c[5]);
    const V one = hn::Set(d, Number(1));
    const T share = MinWith(above(along), one);
    const T across = (x * side_y - y * side_x) * hn::Set(d, c[6]);
    const T end =
        NegIf(hn::Lt(across.v, hn::Zero(d)), length2(x - share * side_x, y - share * side_y));
    // Beside the side the distance is to a line, with a sign and a gradient of its own.
    return Select(hn::And(hn::Gt(along.v, hn::Zero(d)), hn::Lt(along.v, one)), across, end);
  }

  /// The lesser of two, less a parabola of their difference where it is below the radius.
  static T parabola(const T& a, const T& b, const Number* c) {
    const D d;
    const V radius = hn::Set(d, c[0]);
    const T near = above(radius - Abs(a - b)) * hn::Set(d, c[1]);
    const T least = MixedMin(a, b, hn::Mul(near.v, hn::Mul(near.v, hn::Set(d, Number(0.5)))));
    return least - near * near * hn::Mul(radius, hn::Set(d, Number(0.25)));
  }

  /// A quarter of a circle between two surfaces that meet squarely.
  static T quarter(const T& a, const T& b, const Number* c) {
    const D d;
    const V radius = hn::Set(d, c[0]);
    const T near_a = above(radius - a);
    const T near_b = above(radius - b);
    const V both = hn::Add(near_a.v, near_b.v);
    const V lesser = hn::Min(near_a.v, near_b.v);
    const V share = hn::Div(lesser, hn::Max(both, hn::Set(d, Number(1e-30))));
    const T least = MixedMin(a, b, share);
    // Where only one is near, just that one, to the bit.
    return Select(hn::Gt(lesser, hn::Zero(d)), MaxWith(least, radius) - length2(near_a, near_b),
                  least);
  }

  /// A coordinate within the cell of a copy: the nearest one, or one counted from it toward the
  /// side it lies on.
  static T in_cell(const T& x, const Number* c) {
    const D d;
    const V spacing = hn::Set(d, c[1]);
    const V last = hn::Set(d, c[3]);
    const V place = hn::Add(hn::Mul(x.v, hn::Set(d, c[2])), hn::Set(d, c[4]));
    V copy = hn::Round(place);
    const V zero = hn::Zero(d);
    if (c[3] >= 0) copy = hn::Min(hn::Max(copy, zero), last);
    if (c[5] != 0) {
      const V side =
          hn::IfThenElse(hn::Lt(place, copy), hn::Set(d, Number(-1)), hn::Set(d, Number(1)));
      copy = hn::Add(copy, hn::Mul(side, hn::Set(d, c[5])));
      if (c[3] >= 0) copy = hn::Min(hn::Max(copy, zero), last);
    }
    return x - hn::Mul(hn::Sub(copy, hn::Set(d, c[4])), spacing);
  }

  /// A point turned into the share of the circle of the first copy.
  static P in_share(const P& p, const Number* c) {
    const D d;
    const V place = hn::Mul(Angle(p.x.v, p.y.v), hn::Set(d, c[1]));
    V copy = hn::Round(place);
    if (c[2] != 0) {
      const V side =
          hn::IfThenElse(hn::Lt(place, copy), hn::Set(d, Number(-1)), hn::Set(d, Number(1)));
      copy = hn::Add(copy, hn::Mul(side, hn::Set(d, c[2])));
    }
    V sine;
    V cosine;
    SineCosineOf(d, hn::Mul(copy, hn::Set(d, c[0])), sine, cosine);
    return {p.x * cosine + p.y * sine, p.y * cosine - p.x * sine, p.z};
  }

  /// Farther from the axis than the part reaches, space is stretched more than at its rim: there
  /// the value is that of the rim's stretch, and at least the way to the rim.
  static T untwist(const T& a, const P& p, const Number* c) {
    const D d;
    const V rim = hn::Set(d, c[1]);
    const T radius = length2(p.x, p.y);
    const M outside = hn::Gt(radius.v, rim);
    if (hn::AllFalse(d, outside)) return a;
    const V rate = hn::Abs(hn::Set(d, c[0]));
    const V stretch = hn::Set(d, c[2]);
    const T shear = radius * rate;
    const T here = shear * hn::Set(d, Number(0.5)) +
                   Sqrt(shear * shear * hn::Set(d, Number(0.25)) + hn::Set(d, Number(1)));
    const T value = Max(a * stretch / here, (radius - rim) * stretch);
    return Select(outside, value, a);
  }

  static T taper_width(const T& z, const Number* c) {
    const D d;
    const T share =
        MinWith(above((z - hn::Set(d, c[0])) * hn::Set(d, c[1])), hn::Set(d, Number(1)));
    return share * hn::Set(d, c[3]) + hn::Set(d, c[2]);
  }

  /// As untwist: beyond the rim space is sheared more than at it, and what is within the radius is
  /// at least as far as that.
  static T untaper(const T& value, const P& p, const Number* c) {
    const D d;
    const V one = hn::Set(d, Number(1));
    const T a = value * hn::Set(d, c[5]);
    const T width = taper_width(p.z, c);
    const T radius = length2(p.x, p.y);
    const T across = radius / width;
    const M beyond = hn::Gt(across.v, hn::Set(d, c[6]));
    if (hn::AllFalse(d, beyond)) return a;
    const T shear = across * hn::Set(d, c[7]);
    const V narrow = hn::Div(one, hn::Mul(hn::Set(d, c[5]), hn::Set(d, c[5])));
    const T sum = shear * shear + hn::Add(one, narrow);
    const T root = Sqrt(above(sum * sum - hn::Mul(hn::Set(d, Number(4)), narrow)));
    const T here = Sqrt((sum + root) * hn::Set(d, Number(0.5)));
    const T less = Select(hn::Gt(across.v, hn::Set(d, c[4])), a * hn::Set(d, c[8]) / here, a);
    const T gap =
        (radius - width * hn::Set(d, c[6])) * hn::Mul(hn::Set(d, c[9]), hn::Set(d, c[10]));
    return Select(beyond, Max(less, gap), a);
  }

  /// What a bent part is away along its circle is nearer on straight ways across the inside, where
  /// nothing is: an arc of angle a is bridged by 2 sin(a / 2). The other way around may be shorter
  /// too.
  static T unbend(const T& value, const P& p, const Number* c) {
    const D d;
    const V zero = hn::Zero(d);
    const V one = hn::Set(d, Number(1));
    const V two = hn::Set(d, Number(2));
    const V turn = hn::Set(d, static_cast<Number>(3.14159265358979323846));
    const V inner = hn::Set(d, c[3]);
    const V stretch = hn::Set(d, c[4]);
    const V radius = hn::Set(d, c[0]);
    const T up = radius - p.z * hn::Set(d, c[1]);
    const T out = length2(p.x, up);
    const T along = Abs(AngleOf(up, p.x)) * radius;
    const V around = hn::Sub(hn::Mul(hn::Mul(two, turn), radius), hn::Set(d, c[6]));
    const T a = Min(value, (around - along) * hn::Set(d, c[5]));
    // In turns of the innermost circle.
    const V unit = hn::Div(one, hn::Mul(stretch, inner));
    const T angle = Abs(a) * unit;
    const T bridged = MinWith(angle, turn);
    const T rest = angle - bridged;
    const T chord = Sine(bridged * hn::Set(d, Number(0.5))) * two + rest;
    const T outside = NegIf(hn::Lt(a.v, zero), chord);
    // From within the innermost circle everything is outside it.
    const T share = out * hn::Div(one, inner);
    const T far = above(a) * unit;
    const T to = MinWith(far, turn);
    // Written so that nothing is lost on the circle itself.
    const T half = Sine(to * hn::Set(d, Number(0.5)));
    const T gap = one - share;
    const T square = gap * gap + share * half * half * hn::Set(d, Number(4));
    const T inside = Sqrt(above(square)) + (far - to);
    const T near = Select(hn::Lt(out.v, inner), inside, outside) * hn::Mul(stretch, inner);
    // The ways around end; from far away it is at least as far as its box.
    const auto beyond = [&](const T& place, std::size_t axis) {
      return Abs(place - hn::Set(d, c[7 + axis])) - hn::Set(d, c[10 + axis]);
    };
    return Max(near, Max(beyond(p.x, 0), Max(beyond(p.y, 1), beyond(p.z, 2))) * stretch);
  }

  /// Side by side, a batch of the lanes that take part.
  void ask_source(const Tape::Instruction& one, const ActiveVectors& active, const Number* c) {
    const FieldSource& source = *tape_.sources[static_cast<std::size_t>(c[0])];
    const D d;
    constexpr std::size_t most = block_vectors * hn::MaxLanes(D());
    const std::size_t lanes = hn::Lanes(d);
    HWY_ALIGN Number place[3][most];
    HWY_ALIGN Number value[most];
    HWY_ALIGN Number slope[3][most];
    HWY_ALIGN Number footprint[most];
    P at[block_vectors];
    for (std::size_t k = 0; k < active.count; ++k) {
      P& p = at[k];
      p = load(one.a, active.index[k]);
      if (one.shift != Tape::no_shift) p = shifted(p, constants_ + one.shift);
      // Lanes that do not take part may be anywhere; a source is asked for numbers only.
      const auto put = [&](const V& along, Number* to) HWY_ATTR {
        hn::Store(hn::IfThenElseZero(hn::IsFinite(along), along), d, to + k * lanes);
      };
      put(p.x.v, place[0]);
      put(p.y.v, place[1]);
      put(p.z.v, place[2]);
      if (cuts_) {
        hn::Store(hn::Mul(footprint_[active.index[k]], hn::Set(d, c[2])), d, footprint + k * lanes);
      }
    }
    SourceBatch<Number> batch{active.count * lanes, place[0], place[1], place[2], value};
    if (cuts_) batch.footprint = footprint;
    HWY_ALIGN Number tint[most];
    const bool tinted = std::is_same_v<T, Made<D>> && c[4] != 0;
    if (tinted) {
      batch.tint = tint;
      batch.tint_by = static_cast<TintBy>(static_cast<int>(c[3]));
    }
    constexpr bool slopes = std::is_same_v<T, Dual<D>>;
    if constexpr (slopes) {
      batch.slope_x = slope[0];
      batch.slope_y = slope[1];
      batch.slope_z = slope[2];
    }
    source.ask(batch);
    for (std::size_t k = 0; k < active.count; ++k) {
      T result(hn::Load(d, value + k * lanes));
      if constexpr (slopes) {
        const auto along = [&](const T& p, int axis) {
          return p * hn::Load(d, slope[axis] + k * lanes);
        };
        const T sum = along(at[k].x, 0) + along(at[k].y, 1) + along(at[k].z, 2);
        result = T(result.v, {sum.x, sum.y, sum.z});
      }
      result.made_of(one.material);
      if constexpr (std::is_same_v<T, Made<D>>) {
        if (tinted) result.made_of(c + 5, c[4], hn::Load(d, tint + k * lanes));
      }
      values_[one.out][active.index[k]] = result;
    }
  }

  /// The nearest side, and by how many a line to +x goes through on which side of them all it is.
  static T outline(const P& p, const Number* c) {
    const D d;
    const V zero = hn::Zero(d);
    const V one = hn::Set(d, Number(1));
    T best(hn::Inf(d));
    V least = hn::Inf(d);
    M sided = hn::Lt(one, zero);
    M inside = sided;
    const auto count = static_cast<std::size_t>(c[0]);
    for (std::size_t i = 0; i < count; ++i) {
      const Number* side = c + 1 + 6 * i;
      const V way_x = hn::Set(d, side[2]);
      const V way_y = hn::Set(d, side[3]);
      const T x = p.x - hn::Set(d, side[0]);
      const T y = p.y - hn::Set(d, side[1]);
      const T along = (x * way_x + y * way_y) * hn::Set(d, side[5]);
      const T across = (x * way_y - y * way_x) * hn::Set(d, side[4]);
      // Beside a side the distance is to its line, with a sign and a gradient of its own.
      const M beside = hn::And(hn::Gt(along.v, zero), hn::Lt(along.v, one));
      const T share = MinWith(above(along), one);
      const T end = length2(x - share * way_x, y - share * way_y);
      const T here = Select(beside, across, end);
      const V size = hn::Abs(here.v);
      const M nearer = hn::Lt(size, least);
      least = hn::Min(size, least);
      best = Select(nearer, here, best);
      sided = hn::Or(hn::And(nearer, beside), hn::AndNot(nearer, sided));
      const V to_y = hn::Sub(p.y.v, hn::Set(d, side[1] + side[3]));
      const M upward = hn::And(hn::Ge(y.v, zero), hn::Lt(to_y, zero));
      const M downward = hn::And(hn::Lt(y.v, zero), hn::Ge(to_y, zero));
      const M crossed = hn::Or(hn::And(upward, hn::Lt(across.v, zero)),
                               hn::And(downward, hn::Gt(across.v, zero)));
      inside = hn::Xor(inside, crossed);
    }
    return Select(sided, best, NegIf(inside, best));
  }

  const Tape& tape_;
  const Number* constants_;
  bool cuts_ = false;
  V footprint_[block_vectors];
  T points_[Tape::most_registers][3][block_vectors];
  T values_[Tape::most_registers][block_vectors];
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
