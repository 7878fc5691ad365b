#pragma once

#include <algorithm>
#include <cstdint>
#include <memory>
#include <vector>

#include "field/warp.hpp"
#include "photonlane/field/field.hpp"

namespace photonlane {

/// What one instruction of a tape does. Shapes read a point and write a value; space reads a point
/// and writes a point; the rest reads values, some a point as well. c are its constants.
enum class TapeOp : std::uint8_t {
  sphere,     ///< c: radius
  ellipsoid,  ///< c: 1 / radii, least radius
  box,        ///< c: half size - round, round
  frame,      ///< c: half size, half bar
  plane,      ///< c: unit normal, height
  cylinder,   ///< c: radius - round, half height - round, round
  capsule,    ///< c: from, to - from, 1 / square of its length, radius
  cone,       ///< c: radius, top, half height, 1 / square of the side's length, 1 / length
  torus,      ///< c: radius, tube
  torus_arc,  ///< c: radius, tube, sine and cosine of half the angle
  disc,       ///< c: radius, round
  pyramid,  ///< c: half size, height, length of a slope, its inverse, 1 / square of a slanted edge
  source,   ///< c: which of the tape's sources, 1 where it is steady, else 0, or -1 where only
            ///< joins take it in, by how much its space is
            ///< stretched, what decides its material, how many of them, which
  circle,   ///< c: radius
  rectangle,  ///< c: half width - round, half height - round, round
  star,  ///< c: 2 pi / points, its inverse, radius, side x, side y, 1 / square of its length, 1 /
         ///< length
  outline,  ///< c: corners, then of each x, y, the way to the next, 1 / its length and its square
  arc,      ///< c: radius, half width, sine and cosine of half the angle
  flatten,  ///< point: z = 0
  extrude,  ///< a: figure, b: point; c: half height - round, round
  revolve,  ///< point: (length(x, y) - c, z, 0)
  join,     ///< the lesser of a and b
  join_polynomial,  ///< c: radius, 1 / radius
  join_circular,    ///< c: radius
  meet,
  meet_polynomial,
  meet_circular,
  carve,
  carve_polynomial,
  carve_circular,
  invert,
  offset,    ///< c: distance
  shell,     ///< c: half thickness
  elongate,  ///< point; c: half size
  waves,   ///< a: value, b: point; c: factor, height in all, factor far away, height, 2 pi / length
  shift,   ///< point; c: at
  noise,   ///< a: value, b: point; c: the first three as waves, height, 1 / length, octaves, 1 for
           ///< gradients
  fold,    ///< point; c: unit normal
  place,   ///< point; c: at, the inverse turn row by row, 1 / scale
  scale,   ///< c: scale
  mirror,  ///< point; c: axis
  repeat,  ///< point; c: axis, spacing, 1 / spacing, last copy or -1, their middle, which copy,
           ///< 1 where there are several that are asked
  around,  ///< point; c: step, 1 / step, which copy, 1 where several are asked
  twist,   ///< point; c: rate, radius of what is turned
  twist_outside,  ///< a: value, b: point; c: rate, radius, stretch at it
  taper,          ///< point; c: foot, 1 / height, width at the foot, how much more at the top, rim
  taper_outside,  ///< a: value, b: point; c: as taper, least width, radius, shear per meter,
                  ///< stretch at the rim, of the whole, per meter beyond the radius
  bend,           ///< point; c: radius, side, 1 / it, innermost radius
  bend_outside,  ///< a: value, b: point; c: as bend, stretch of the whole, of the part, how far the
                 ///< part reaches, middle and half size of the whole's box
  move,          ///< value a, of tapes that parts were left out of
};

/// A field flattened: instructions over registers, in order. Points and values have registers of
/// their own; point 0 is where the field is asked, value `result` is the answer.
struct Tape {
  static constexpr std::uint8_t no_register = 255;
  static constexpr std::uint32_t no_shift = 0xffffffffu;
  static constexpr std::uint32_t no_join = 0xffffffffu;
  static constexpr std::uint32_t no_box = 0xffffffffu;
  struct Instruction {
    TapeOp op;
    std::uint8_t out, a, b;
    std::uint32_t constants;     ///< where its constants start
    std::int32_t material = -1;  ///< of shapes
    /// By how much the values (or the point) it reads change at most for a meter of the way.
    float reach_a = 1;
    float reach_b = 1;
    float reach = 1;  ///< the same of what it writes
    /// The point register of which the value it writes is a continuous function, even where what it
    /// is made from is not: of the last of several copies. no_register: as its parts.
    std::uint8_t whole = no_register;
    /// Where the three constants start by which the point a shape reads is moved; no_shift: none.
    std::uint32_t shift = no_shift;
    /// Where the six constants start, low then high, of a box at the point `whole` beyond which the
    /// value it writes is above 0; no_box: none is known.
    std::uint32_t box = no_box;
    std::uint32_t index = 0;  ///< in the whole tape, wherever a copy stands
  };
  static constexpr int most_registers = 250;

  /// A part of the parts of a large join, of which others may be far away: instructions from
  /// `begin`
  /// to `end`, that write nothing else that is read than `value`.
  struct Group {
    std::uint32_t begin, end;
    std::uint32_t join;  ///< the one that takes it in; no_join: it is the first
    std::uint8_t point;  ///< where it is asked
    std::uint8_t value;
    Bounds bounds;  ///< there
    double looseness;
    float reach;  ///< by how much its value changes at most for a meter of the way
  };
  /// A large join: groups in a row, from instruction `begin` to `end`.
  struct Crowd {
    std::uint32_t begin, end;
    std::uint32_t first_group, last_group;
  };

  std::vector<Instruction> instructions;
  std::vector<Group> groups;
  std::vector<Crowd> crowds;  ///< by where they begin, the outer ones first
  std::vector<std::shared_ptr<const FieldSource>> sources;
  std::vector<double> constants;
  std::vector<float> constants_float;
  int points = 1;
  int values = 1;
  std::uint8_t result = 0;
  double stretch = 1;
  /// Near its surface the value may be far less than the distance: damped, or a loose bound. What
  /// counts as near is then told by how the value changes there.
  bool loose = false;
  bool steady = true;  ///< all values grow by at most what they say for a meter
  Bounds bounds;

  template <class Number>
  const Number* constants_as() const {
    if constexpr (sizeof(Number) == 4) {
      return constants_float.data();
    } else {
      return constants.data();
    }
  }
};

/// Throws Error (input) for fields that need more registers than there are.
Tape make_tape(const Field& field);

/// Whether an operation reads two values, and of which sort it is: 0 join, 1 meet, 2 carve.
constexpr bool is_pair(TapeOp op) { return op >= TapeOp::join && op <= TapeOp::carve_circular; }
constexpr int pair_sort(TapeOp op) {
  return (static_cast<int>(op) - static_cast<int>(TapeOp::join)) / 3;
}
/// Its seam: 0 sharp, else as Profile from 1.
constexpr int pair_seam(TapeOp op) {
  return (static_cast<int>(op) - static_cast<int>(TapeOp::join)) % 3;
}
/// Whether an operation writes a point.
constexpr bool writes_point(TapeOp op) {
  switch (op) {
    case TapeOp::flatten:
    case TapeOp::revolve:
    case TapeOp::elongate:
    case TapeOp::shift:
    case TapeOp::place:

    case TapeOp::mirror:
    case TapeOp::fold:
    case TapeOp::repeat:
    case TapeOp::around:
    case TapeOp::twist:
    case TapeOp::taper:
    case TapeOp::bend:
      return true;
    default:
      return false;
  }
}
/// What its first input is: a value of another, or a point.
constexpr bool reads_value(TapeOp op) {
  switch (op) {
    case TapeOp::extrude:
    case TapeOp::invert:
    case TapeOp::offset:
    case TapeOp::shell:
    case TapeOp::waves:
    case TapeOp::noise:
    case TapeOp::scale:
    case TapeOp::twist_outside:
    case TapeOp::taper_outside:
    case TapeOp::bend_outside:
    case TapeOp::move:
      return true;
    default:
      return is_pair(op);
  }
}
/// Whether it reads a point as its second input.
constexpr bool reads_point_second(TapeOp op) {
  return op == TapeOp::extrude || op == TapeOp::waves || op == TapeOp::noise ||
         op == TapeOp::twist_outside || op == TapeOp::taper_outside || op == TapeOp::bend_outside;
}

/// How high octaves are together, of which each is half as high as the one before.
double octaves_height(double count);

}  // namespace photonlane
