#pragma once

#include <cstdint>
#include <memory>
#include <vector>

#include "photonlane/field/source.hpp"

namespace photonlane {

struct Tape;

/// What one instruction of a fold program does with a place; after it come its numbers.
enum class FoldOp : std::uint8_t {
  mirror,   ///< which axes, as bits
  sort,     ///< x the largest, z the least
  swap,     ///< first axis, second, and 1 where they are added up rather than compared
  level,    ///< axis, height, and 1 or -1: the side of a plane across an axis
  fold,     ///< unit normal, height
  wedge,    ///< step, 1 / step
  move,     ///< at, factor
  place,    ///< at, the inverse turn row by row, factor
  box,      ///< half
  ball,     ///< square of outer, of outer over inner
  invert,   ///< at, square of the radius
  start,    ///< share
  stretch,  ///< factors, the largest
};
constexpr std::size_t fold_op_numbers(FoldOp op) {
  constexpr std::size_t counts[] = {1, 0, 3, 3, 4, 2, 4, 13, 1, 2, 4, 1, 4};
  return counts[static_cast<std::size_t>(op)];
}

/// A solid of steps done again and again, ready for the kernel. Lengths are in the space of its
/// steps, `factor` for a meter.
struct FoldProgram {
  enum class Form : std::uint8_t {
    chain,   ///< steps, then a base
    sponge,  ///< crossed holes taken out of all parts of a cube
    balls,   ///< balls taken out of all parts of a cube
    bulb,
    quaternion
  };
  enum class Base : std::uint8_t {
    box,      ///< half size - round, round
    sphere,   ///< radius
    capsule,  ///< from, to - from, 1 / square of its length, radius
    facets,   ///< what is left of a tetrahedron or an octahedron by its mirrors: the facet's normal
              ///< and height, the way across its edge and where that is, the way along the edge and
              ///< where that ends
    field     ///< a tape
  };
  Form form = Form::chain;
  Base base = Base::box;
  int times = 0;
  int power = 2;
  double factor = 1;
  std::vector<FoldOp> ops;       ///< of one iteration
  std::vector<FoldOp> last_ops;  ///< once more, before the base
  std::vector<double> numbers;   ///< of all ops in a row, then of the base
  std::vector<float> numbers_float;
  double ball = 0;         ///< radius of what is taken out of each part
  double c[4]{};           ///< what is added to a quaternion
  double slice = 0;        ///< fourth part of all places
  double limit = 0;        ///< farther from the middle a place has left; 0: none does
  bool keeps_all = false;  ///< the base stands after every iteration
  bool jacobian = false;
  bool exact = true;  ///< the value is a distance, not an estimate
  double reach = 0;   ///< radius of a ball that holds all of it
  double detail = 1;  ///< the size of what one more iteration changes, before any
  std::shared_ptr<const Tape> field;

  template <class Number>
  const Number* numbers_as() const {
    if constexpr (sizeof(Number) == 4) {
      return numbers_float.data();
    } else {
      return numbers.data();
    }
  }
};

/// Values, slopes and tints at places, as a FieldSource gives them.
void ask_folds(const FoldProgram& program, const SourceBatch<float>& batch);
void ask_folds(const FoldProgram& program, const SourceBatch<double>& batch);

}  // namespace photonlane
