#include "field/tape.hpp"

#include <algorithm>
#include <cmath>
#include <initializer_list>
#include <limits>

#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

/// True where a field is the same on both sides of an axis.
bool symmetric(const Field& field, int axis) {
  const std::vector<double>& n = field.numbers();
  const auto parts = [&] {
    return std::all_of(field.parts().begin(), field.parts().end(),
                       [&](const Field& part) { return symmetric(part, axis); });
  };
  switch (field.kind()) {
    case FieldKind::sphere:
    case FieldKind::ellipsoid:
    case FieldKind::box:
    case FieldKind::frame:
    case FieldKind::cylinder:
    case FieldKind::circle:
    case FieldKind::rectangle:
      return true;
    case FieldKind::plane:
      return n[axis] == 0;
    case FieldKind::capsule:
      return n[axis] == 0 && n[3 + axis] == 0;
    case FieldKind::cone:
      return axis != 2;
    case FieldKind::torus:
    case FieldKind::arc:
      return axis != 0 || n[2] >= 2 * pi;
    case FieldKind::polygon:
    case FieldKind::star:
      return axis != 0 || static_cast<int>(n[0]) % 2 == 0;
    case FieldKind::revolve:
      return axis != 2 || symmetric(field.parts().front(), 1);
    case FieldKind::extrude:
      return axis == 2 || parts();
    case FieldKind::place:
      return n[axis] == 0 && n[3] == 0 && n[4] == 0 && n[5] == 0 && parts();
    case FieldKind::mirror:
      return static_cast<int>(n[0]) == axis || parts();
    case FieldKind::around:
    case FieldKind::twist:
      return false;
    default:
      return parts();
  }
}

/// How far to either side of +x a box is seen from the z axis, in radians; pi where it holds it.
double half_angle(const Bounds& bounds) {
  if (!(bounds.low.x() > 0)) return pi;
  const double side = std::max(std::abs(bounds.low.y()), std::abs(bounds.high.y()));
  return std::atan2(side, bounds.low.x());
}

class TapeMaker {
 public:
  explicit TapeMaker(Tape& tape) : tape_(tape) {}

  /// Emits a field asked at a point register; the register of its value.
  int emit(const Field& field, int point, int material) {
    if (field.material() >= 0) material = field.material();
    const std::vector<double>& n = field.numbers();
    const auto shape = [&](TapeOp op, std::initializer_list<double> constants) {
      const int value = take(value_used_, tape_.values);
      add(op, value, point, 0, constants, material);
      return value;
    };
    /// A part asked at a point of its own.
    const auto within = [&](TapeOp op, std::initializer_list<double> constants) {
      const int inner = take(point_used_, tape_.points);
      add(op, inner, point, 0, constants, -1);
      const int value = emit(field.parts().front(), inner, material);
      point_used_[inner] = false;
      return value;
    };
    /// Something done to a part's value.
    const auto after = [&](TapeOp op, int value, std::initializer_list<double> constants) {
      add(op, value, value, point, constants, -1);
      return value;
    };
    const auto only_part = [&] { return emit(field.parts().front(), point, material); };
    switch (field.kind()) {
      case FieldKind::sphere:
        return shape(TapeOp::sphere, {n[0]});
      case FieldKind::ellipsoid:
        return shape(TapeOp::ellipsoid,
                     {1 / n[0], 1 / n[1], 1 / n[2], std::min({n[0], n[1], n[2]})});
      case FieldKind::box:
        return shape(TapeOp::box, {0.5 * n[0] - n[3], 0.5 * n[1] - n[3], 0.5 * n[2] - n[3], n[3]});
      case FieldKind::frame:
        return shape(TapeOp::frame, {0.5 * n[0], 0.5 * n[1], 0.5 * n[2], 0.5 * n[3]});
      case FieldKind::plane: {
        const Vec3d normal = Vec3d(n[0], n[1], n[2]).normalized();
        return shape(TapeOp::plane, {normal.x(), normal.y(), normal.z(), n[3]});
      }
      case FieldKind::cylinder:
        return shape(TapeOp::cylinder, {n[0] - n[2], 0.5 * n[1] - n[2], n[2]});
      case FieldKind::capsule: {
        const Vec3d way(n[3] - n[0], n[4] - n[1], n[5] - n[2]);
        const double square = way.squaredNorm();
        return shape(TapeOp::capsule, {n[0], n[1], n[2], way.x(), way.y(), way.z(),
                                       square > 0 ? 1 / square : 0, n[6]});
      }
      case FieldKind::cone: {
        const double lean = n[1] - n[0];
        const double square = lean * lean + n[2] * n[2];
        return shape(TapeOp::cone, {n[0], n[1], 0.5 * n[2], 1 / square, 1 / std::sqrt(square)});
      }
      case FieldKind::torus: {
        if (n[2] >= 2 * pi) return shape(TapeOp::torus, {n[0], n[1]});
        const SineCosine half = sine_cosine(0.5 * n[2]);
        return shape(TapeOp::torus_arc, {n[0], n[1], half.sine, half.cosine});
      }
      case FieldKind::circle:
        return shape(TapeOp::circle, {n[0]});
      case FieldKind::rectangle:
        return shape(TapeOp::rectangle, {0.5 * n[0] - n[2], 0.5 * n[1] - n[2], n[2]});
      case FieldKind::polygon:
      case FieldKind::star: {
        const double step = 2 * pi / n[0];
        const SineCosine half = sine_cosine(0.5 * step);
        const double inner = field.kind() == FieldKind::star ? n[2] : n[1] * half.cosine;
        const double side_x = inner * half.cosine - n[1];
        const double side_y = inner * half.sine;
        const double square = side_x * side_x + side_y * side_y;
        return shape(TapeOp::star,
                     {step, 1 / step, n[1], side_x, side_y, 1 / square, 1 / std::sqrt(square)});
      }
      case FieldKind::arc: {
        const SineCosine half = sine_cosine(0.5 * std::min(n[2], 2 * pi));
        return shape(TapeOp::arc, {n[0], 0.5 * n[1], half.sine, half.cosine});
      }
      case FieldKind::extrude:
        return after(TapeOp::extrude, within(TapeOp::flatten, {}), {0.5 * n[0] - n[1], n[1]});
      case FieldKind::revolve:
        return within(TapeOp::revolve, {n[0]});
      case FieldKind::join:
        return combine(field, point, material, TapeOp::join);
      case FieldKind::meet:
        return combine(field, point, material, TapeOp::meet);
      case FieldKind::carve:
        return combine(field, point, material, TapeOp::carve);
      case FieldKind::invert:
        return after(TapeOp::invert, only_part(), {});
      case FieldKind::offset:
        return after(TapeOp::offset, only_part(), {n[0]});
      case FieldKind::shell:
        return after(TapeOp::shell, only_part(), {0.5 * n[0]});
      case FieldKind::elongate:
        return within(TapeOp::elongate, {0.5 * n[0], 0.5 * n[1], 0.5 * n[2]});
      case FieldKind::waves:
        return after(TapeOp::waves, only_part(), {n[0], 2 * pi / n[1]});
      case FieldKind::place: {
        const Mat3d back = turn_matrix({n[3], n[4], n[5]}).transpose();
        const int value = within(
            TapeOp::place, {n[0], n[1], n[2], back(0, 0), back(0, 1), back(0, 2), back(1, 0),
                            back(1, 1), back(1, 2), back(2, 0), back(2, 1), back(2, 2), 1 / n[6]});
        return n[6] == 1 ? value : after(TapeOp::scale, value, {n[6]});
      }
      case FieldKind::mirror:
        return within(TapeOp::mirror, {n[0]});
      case FieldKind::repeat:
        return repeat(field, 0, point, material);
      case FieldKind::around:
        return around(field, point, material);
      case FieldKind::twist: {
        const Bounds& bounds = field.bounds();
        const double radius = bounds.high.x();
        return after(TapeOp::twist_outside, within(TapeOp::twist, {n[0]}),
                     {n[0], radius, twist_stretch(n[0], radius)});
      }
    }
    return 0;
  }

 private:
  void add(TapeOp op, int out, int a, int b, std::initializer_list<double> constants,
           int material) {
    tape_.instructions.push_back({op, static_cast<std::uint8_t>(out), static_cast<std::uint8_t>(a),
                                  static_cast<std::uint8_t>(b),
                                  static_cast<std::uint32_t>(tape_.constants.size()), material});
    tape_.constants.insert(tape_.constants.end(), constants);
  }

  static int take(std::vector<bool>& used, int& most) {
    const auto free = std::find(used.begin(), used.end(), false);
    const int index = static_cast<int>(free - used.begin());
    if (index >= Tape::most_registers) {
      throw Error(ErrorKind::input, "a field of too many operations within one another");
    }
    used[index] = true;
    most = std::max(most, index + 1);
    return index;
  }

  /// Takes in one more part.
  int fold(TapeOp op, int first, int second, std::initializer_list<double> constants) {
    if (first < 0) return second;
    add(op, first, first, second, constants, -1);
    value_used_[second] = false;
    return first;
  }

  int combine(const Field& field, int point, int material, TapeOp sharp) {
    const double radius = field.numbers()[0];
    const int smooth = radius == 0 ? 0 : 1 + static_cast<int>(field.numbers()[1]);
    const auto op = static_cast<TapeOp>(static_cast<int>(sharp) + smooth);
    int value = -1;
    for (const Field& part : field.parts()) {
      value = fold(op, value, emit(part, point, material), {radius, radius == 0 ? 0 : 1 / radius});
    }
    return value;
  }

  /// The copies of a row along an axis, and those along the others, that may be the nearest: one's
  /// own, the next on the nearer side, and one more either way where a part reaches out of its
  /// cell.
  int repeat(const Field& field, int axis, int point, int material) {
    if (axis == 3) return emit(field.parts().front(), point, material);
    const std::vector<double>& n = field.numbers();
    const double spacing = n[axis];
    const double count = n[3 + axis];
    if (spacing == 0 || count == 1) return repeat(field, axis + 1, point, material);
    const Field& part = field.parts().front();
    const Bounds& bounds = part.bounds();
    const bool inside = std::max(-bounds.low[axis], bounds.high[axis]) <= 0.5 * spacing;
    std::vector<double> copies{0};
    if (!inside) {
      copies = {-1, 0, 1, 2};
    } else if (!symmetric(part, axis)) {
      copies = {0, 1};
    }
    int value = -1;
    for (const double which : copies) {
      const int inner = take(point_used_, tape_.points);
      add(TapeOp::repeat, inner, point, 0,
          {static_cast<double>(axis), spacing, 1 / spacing, count == 0 ? -1 : count - 1,
           count == 0 ? 0 : 0.5 * (count - 1), which},
          -1);
      value = fold(TapeOp::join, value, repeat(field, axis + 1, inner, material), {});
      point_used_[inner] = false;
    }
    return value;
  }

  int around(const Field& field, int point, int material) {
    const Field& part = field.parts().front();
    const int count = static_cast<int>(field.numbers()[0]);
    const double step = 2 * pi / count;
    const double reach = half_angle(part.bounds());
    std::vector<double> copies{0};
    if (reach > 0.5 * step * (1 + 1e-9)) {
      const int more = static_cast<int>(std::ceil(reach / step - 0.5)) + 1;
      if (2 * more >= count) {
        for (int i = 1; i < count; ++i) copies.push_back(i);
      } else {
        for (int i = 1; i <= more; ++i) {
          copies.push_back(i);
          copies.push_back(-i);
        }
      }
      if (copies.size() > 64) {
        throw Error(
            ErrorKind::input,
            "around: more than 64 copies that reach into one another's share of the circle");
      }
    } else if (!symmetric(part, 1)) {
      copies.push_back(1);
    }
    int value = -1;
    for (const double which : copies) {
      const int inner = take(point_used_, tape_.points);
      add(TapeOp::around, inner, point, 0, {step, 1 / step, which}, -1);
      value = fold(TapeOp::join, value, emit(part, inner, material), {});
      point_used_[inner] = false;
    }
    return value;
  }

  Tape& tape_;
  std::vector<bool> point_used_ = [] {
    std::vector<bool> used(Tape::most_registers + 1, false);
    used[0] = true;
    return used;
  }();
  std::vector<bool> value_used_ = std::vector<bool>(Tape::most_registers + 1, false);
};

}  // namespace

Mat3d turn_matrix(const Vec3d& turn) {
  Mat3d result = Mat3d::Identity();
  for (int axis = 0; axis < 3; ++axis) {
    const SineCosine angle = sine_cosine(turn[axis]);
    const int second = (axis + 1) % 3;
    const int third = (axis + 2) % 3;
    Mat3d one = Mat3d::Identity();
    one(second, second) = one(third, third) = angle.cosine;
    one(second, third) = -angle.sine;
    one(third, second) = angle.sine;
    result = one * result;
  }
  return result;
}

double twist_stretch(double rate, double radius) {
  const double shear = std::abs(rate) * radius;
  return 0.5 * shear + std::sqrt(1 + 0.25 * shear * shear);
}

Tape make_tape(const Field& field) {
  Tape tape;
  TapeMaker(tape).emit(field, 0, -1);
  tape.constants_float.assign(tape.constants.begin(), tape.constants.end());
  tape.stretch = field.stretch();
  tape.bounds = field.bounds();
  return tape;
}

}  // namespace photonlane
