#include "field/tape.hpp"

#include <algorithm>
#include <cmath>
#include <initializer_list>
#include <limits>
#include <map>
#include <span>
#include <string>
#include <tuple>
#include <unordered_map>
#include <utility>

#include "field/kind_traits.hpp"
#include "field/tape_steps.hpp"
#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

/// Whether the first of some steps make both sides of an axis the same.
bool steps_symmetric(const std::vector<FoldStep>& steps, int axis) {
  for (const FoldStep& step : steps) {
    const double number = step.numbers[0];
    if (step.kind == FoldKind::mirror) {
      if (static_cast<int>(number) == axis) return true;
    } else if (step.kind == FoldKind::wedge) {
      return axis == 1 || (axis == 0 && static_cast<int>(number) % 2 == 0);
    } else {
      return false;
    }
  }
  return false;
}

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
    case FieldKind::disc:
      return true;
    case FieldKind::prism:
      return axis != 0 || static_cast<int>(n[0]) % 2 == 0;
    case FieldKind::pyramid:
      return axis != 2;
    case FieldKind::octahedron:
    case FieldKind::sponge:
      return true;
    case FieldKind::gasket:
      return n[0] == 1;
    case FieldKind::iterate: {
      const bool as_it_is = n[0] == 0 || n[4] == 1;  // some of it stands before any step
      return (n[0] == 0 || steps_symmetric(fold_steps(n), axis)) && (!as_it_is || parts());
    }
    case FieldKind::tetrahedron:
    case FieldKind::bulb:
    case FieldKind::julia:
    case FieldKind::heights:
    case FieldKind::volume:
    case FieldKind::function:
    case FieldKind::outline:
    case FieldKind::noise:
    case FieldKind::fold:
    case FieldKind::around:
    case FieldKind::twist:
    case FieldKind::bend:
      return false;
    case FieldKind::taper:
      return axis != 2 && parts();
    case FieldKind::join:
    case FieldKind::meet:
    case FieldKind::carve:
    case FieldKind::invert:
    case FieldKind::offset:
    case FieldKind::shell:
    case FieldKind::elongate:
    case FieldKind::waves:
    case FieldKind::damp:
    case FieldKind::repeat:
      return parts();
  }
  refuse_kind();
}

/// Flattens a field into steps, the same one on the same inputs only once.
class TapeMaker {
 public:
  explicit TapeMaker(bool share) : share_(share) {}

  Tape make(const Field& field) {
    list_.result = emit(field, 0, -1);
    find_joined();
    Tape tape = give_registers(std::move(list_));
    tape.stretch = field.stretch();
    tape.bounds = field.bounds();
    tape.loose = loose(field);
    tape.steady = std::all_of(tape.sources.begin(), tape.sources.end(),
                              [](const auto& source) { return source->steady(); });
    for (std::size_t i = 0; i < tape.instructions.size(); ++i) {
      tape.instructions[i].index = static_cast<std::uint32_t>(i);
    }
    return tape;
  }

 private:
  using Step = TapeStep;

  /// Estimates that nothing but joins take in are marked: of them a bound is enough to know where
  /// they do not matter.
  void find_joined() {
    enum : unsigned char { joined = 1, otherwise = 2 };
    std::vector<unsigned char> used(list_.steps.size(), 0);
    used[list_.result] = joined;
    for (std::size_t i = list_.steps.size(); i-- > 1;) {
      const Step& step = list_.steps[i];
      if (used[i] == 0) continue;
      const bool rises = step.op == TapeOp::join || step.op == TapeOp::scale ||
                         step.op == TapeOp::offset || step.op == TapeOp::move;
      const unsigned char how = rises && used[i] == joined ? joined : otherwise;
      if (reads_value(step.op)) used[step.a] |= how;
      if (is_pair(step.op)) used[step.b] |= how;
      if (step.op != TapeOp::source || used[i] != joined) continue;
      double& steady = list_.constants[step.constants + 1];
      if (steady == 0) steady = -1;
    }
  }

  static bool loose(const Field& field) {
    if (!has_trait(field.kind(), loose_values)) {
      return std::any_of(field.parts().begin(), field.parts().end(), loose);
    }
    if (field.kind() != FieldKind::ellipsoid) return true;
    // One that is nearly a ball is near enough.
    const std::vector<double>& n = field.numbers();
    return std::max({n[0], n[1], n[2]}) > 1.25 * std::min({n[0], n[1], n[2]});
  }

  static bool steady(const Field& field) {
    return !field.estimates() && std::all_of(field.parts().begin(), field.parts().end(), steady);
  }

  /// Emits a field asked at a point; the number of its value. What a tree holds several times, at
  /// the same point and of the same material, is emitted once.
  int emit(const Field& field, int point, int material) {
    if (field.material() >= 0) material = field.material();
    if (!share_ || field.parts().empty()) {
      return with_box(field, point, emit_anew(field, point, material));
    }
    const auto key = std::tuple(field.identity(), point, material);
    if (const auto found = emitted_.find(key); found != emitted_.end()) return found->second.second;
    const int value = with_box(field, point, emit_anew(field, point, material));
    emitted_.emplace(key, std::pair(field, value));
    return value;
  }

  /// Notes the box around what is not convex or has a space of its own: lanes are clear of it up to
  /// there.
  int with_box(const Field& field, int point, int value) {
    if (!has_trait(field.kind(), boxed) || !steady(field)) return value;
    Bounds box = field.bounds();
    // From where shapes are moved themselves.
    while (point != 0 && list_.steps[point].op == TapeOp::shift) {
      const double* by = list_.constants.data() + list_.steps[point].constants;
      box.low += Vec3d(by[0], by[1], by[2]);
      box.high += Vec3d(by[0], by[1], by[2]);
      point = list_.steps[point].a;
    }
    const auto any = [](const Vec3d& side) { return side.array().isFinite().any(); };
    if (!any(box.low) && !any(box.high)) return value;
    Step& step = list_.steps[value];
    step.whole = point;
    step.box = static_cast<std::uint32_t>(list_.constants.size());
    for (const Vec3d& side : {box.low, box.high}) {
      list_.constants.insert(list_.constants.end(), side.data(), side.data() + 3);
    }
    return value;
  }

  int emit_anew(const Field& field, int point, int material) {
    const std::vector<double>& n = field.numbers();
    const double reach = list_.steps[point].reach * field.stretch();
    const auto shape = [&](TapeOp op, const std::vector<double>& constants) {
      // A shape moves its point itself.
      const bool moved = list_.steps[point].op == TapeOp::shift;
      return add({.op = op,
                  .a = moved ? list_.steps[point].a : point,
                  .shift = moved ? list_.steps[point].constants : Tape::no_shift,
                  .material = material,
                  .reach = reach},
                 constants);
    };
    const auto source = [&] {
      auto& known = list_.sources;
      const auto found = std::find(known.begin(), known.end(), field.source());
      const auto which = found - known.begin();
      if (found == known.end()) known.push_back(field.source());
      const FoldTint& tint = field.tint();
      std::vector<double> constants{static_cast<double>(which),
                                    field.source()->steady() ? 1.0 : 0.0, list_.steps[point].reach,
                                    static_cast<double>(tint.by),
                                    static_cast<double>(tint.materials.size())};
      constants.insert(constants.end(), tint.materials.begin(), tint.materials.end());
      return shape(TapeOp::source, constants);
    };
    /// A part asked at a point of its own, where space is stretched.
    const auto within = [&](TapeOp op, std::initializer_list<double> constants,
                            double stretch = 1) {
      const int inner =
          add({.op = op, .a = point, .reach = list_.steps[point].reach * stretch}, constants);
      return emit(field.parts().front(), inner, material);
    };
    /// Something done to a part's value.
    const auto after = [&](TapeOp op, int value, std::initializer_list<double> constants) {
      return add(
          {.op = op,
           .a = value,
           .b = reads_point_second(op) ? point : -1,
           .whole = (op == TapeOp::twist_outside || op == TapeOp::taper_outside) && steady(field)
                        ? point
                        : -1,
           .reach = reach},
          constants);
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
      case FieldKind::disc:
        return shape(TapeOp::disc, {n[0], n[1]});
      case FieldKind::prism:
        return emit(field::extrude(n[2], field::polygon(static_cast<int>(n[0]), n[1])), point,
                    material);
      case FieldKind::pyramid: {
        const double half = 0.5 * n[0];
        const double slope = std::hypot(half, n[1]);
        return shape(TapeOp::pyramid,
                     {half, n[1], slope, 1 / slope, 1 / (half * half + slope * slope)});
      }
      case FieldKind::heights: {
        const double top = field.bounds().high.z();
        // Up to a little above: the heights themselves are the upper side.
        const int block =
            emit(field::place({0, 0, 0.55 * top + 0.05}, field::box({n[0], n[1], 1.1 * top + 0.1})),
                 point, material);
        return fold(TapeOp::meet, block, source(), reach);
      }
      case FieldKind::tetrahedron:
      case FieldKind::octahedron:
      case FieldKind::sponge:
      case FieldKind::gasket:
      case FieldKind::bulb:
      case FieldKind::julia:
      case FieldKind::volume:
      case FieldKind::function:
      case FieldKind::iterate:
        // Of what repeats a part, the part's material counts, where it has one.
        for (const Field& part : field.parts()) {
          if (part.material() >= 0) material = part.material();
        }
        return source();
      case FieldKind::outline:
        return shape(TapeOp::outline, outline_constants(n));
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
      case FieldKind::noise:
        return rough(field, point, material, 1, reach);
      case FieldKind::damp: {
        const Field& part = field.parts().front();
        if (part.kind() == FieldKind::noise || part.kind() == FieldKind::waves) {
          return rough(part, point, part.material() >= 0 ? part.material() : material, n[0], reach);
        }
        return after(TapeOp::scale, only_part(), {n[0]});
      }
      case FieldKind::elongate:
        return within(TapeOp::elongate, {0.5 * n[0], 0.5 * n[1], 0.5 * n[2]});
      case FieldKind::waves:
        return rough(field, point, material, 1, reach);
      case FieldKind::place: {
        if (n[3] == 0 && n[4] == 0 && n[5] == 0 && n[6] == 1) {
          return within(TapeOp::shift, {n[0], n[1], n[2]});
        }
        const Mat3d back = turn_matrix({n[3], n[4], n[5]}).transpose();
        const int value =
            within(TapeOp::place,
                   {n[0], n[1], n[2], back(0, 0), back(0, 1), back(0, 2), back(1, 0), back(1, 1),
                    back(1, 2), back(2, 0), back(2, 1), back(2, 2), 1 / n[6]},
                   1 / n[6]);
        return n[6] == 1 ? value : after(TapeOp::scale, value, {n[6]});
      }
      case FieldKind::mirror:
        return within(TapeOp::mirror, {n[0]});
      case FieldKind::fold: {
        const Vec3d normal = Vec3d(n[0], n[1], n[2]).normalized();
        return within(TapeOp::fold, {normal.x(), normal.y(), normal.z()});
      }
      case FieldKind::repeat:
        return repeat(field, 0, point, material);
      case FieldKind::around:
        return around(field, point, material);
      case FieldKind::twist: {
        const Bounds& bounds = field.bounds();
        const double radius = bounds.high.x();
        const double stretch = twist_stretch(n[0], radius);
        return after(TapeOp::twist_outside, within(TapeOp::twist, {n[0], radius}, stretch),
                     {n[0], radius, stretch});
      }
      case FieldKind::taper: {
        const Taper made(n[0], n[1], field.parts().front().bounds());
        const double per_height = made.height > 0 ? 1 / made.height : 0;
        const double own = field.parts().front().stretch();
        const int value =
            within(TapeOp::taper, {made.foot, per_height, n[0], n[1] - n[0], made.rim},
                   made.stretch / made.least());
        return after(TapeOp::taper_outside, value,
                     {made.foot, per_height, n[0], n[1] - n[0], made.rim, made.least(), made.radius,
                      made.shear, made.stretch / made.least(), made.stretch * own,
                      1 / std::hypot(1.0, made.radius * made.shear * made.least())});
      }
      case FieldKind::bend: {
        if (n[0] == 0) return only_part();
        const Bend bent(n[0], field.parts().front().bounds());
        const Vec3d middle = 0.5 * (field.bounds().low + field.bounds().high);
        const Vec3d half = 0.5 * (field.bounds().high - field.bounds().low);
        const int value =
            within(TapeOp::bend, {bent.radius, bent.side, 1 / bent.radius, bent.innermost},
                   bent.stretch());
        return after(TapeOp::bend_outside, value,
                     {bent.radius, bent.side, 1 / bent.radius, bent.innermost, field.stretch(),
                      field.parts().front().stretch(), bent.reach, middle.x(), middle.y(),
                      middle.z(), half.x(), half.y(), half.z()});
      }
    }
    refuse_kind();
  }

  /// Waves or noise in a part's surface, times a factor. Farther away than they are high they do
  /// not
  /// matter: there the value is what is left of the part's, times as much as makes it as steep.
  int rough(const Field& field, int point, int material, double factor, double reach) {
    const std::vector<double>& n = field.numbers();
    const Field& part = field.parts().front();
    const bool waves = field.kind() == FieldKind::waves;
    // A little more than all octaves together, so that no rounding gets there.
    const double height = 1.0001 * (waves ? n[0] : n[0] * octaves_height(n[2]));
    const double far = factor * field.stretch() / part.stretch();
    const int value = emit(part, point, material);
    std::vector<double> constants{factor, height, far};
    if (waves) {
      constants.insert(constants.end(), {n[0], 2 * pi / n[1]});
    } else {
      constants.insert(constants.end(), {n[0], 1 / n[1], n[2], n[3]});
    }
    return add(
        {.op = waves ? TapeOp::waves : TapeOp::noise, .a = value, .b = point, .reach = reach},
        constants);
  }

  /// Corners counterclockwise, so that what is on the left of a side is inside.
  static std::vector<double> outline_constants(const std::vector<double>& corners) {
    const std::size_t count = corners.size() / 2;
    const auto at = [&](std::size_t i) {
      return Vec2d(corners[2 * (i % count)], corners[2 * (i % count) + 1]);
    };
    double area = 0;
    for (std::size_t i = 0; i < count; ++i) {
      area += at(i).x() * at(i + 1).y() - at(i).y() * at(i + 1).x();
    }
    std::vector<double> constants{static_cast<double>(count)};
    for (std::size_t i = 0; i < count; ++i) {
      const Vec2d from = area > 0 ? at(i) : at(count - i);
      const Vec2d way = (area > 0 ? at(i + 1) : at(count - i - 1)) - from;
      const double length = way.norm();
      constants.insert(constants.end(),
                       {from.x(), from.y(), way.x(), way.y(), 1 / length, 1 / (length * length)});
    }
    return constants;
  }

  int add(Step step, const std::vector<double>& constants) {
    if (share_) {
      std::string key;
      const auto put = [&](const auto& value) {
        key.append(reinterpret_cast<const char*>(&value), sizeof(value));
      };
      put(step.op);
      put(step.a);
      put(step.b);
      put(step.whole);
      put(step.shift);
      put(step.material);
      for (const double constant : constants) put(constant);
      for (const auto& scope : known_) {
        const auto known = scope.find(key);
        if (known != scope.end()) return known->second;
      }
      known_.back().emplace(std::move(key), static_cast<int>(list_.steps.size()));
    }
    step.constants = static_cast<std::uint32_t>(list_.constants.size());
    list_.constants.insert(list_.constants.end(), constants.begin(), constants.end());
    list_.steps.push_back(step);
    return static_cast<int>(list_.steps.size()) - 1;
  }

  /// Takes in one more part.
  int fold(TapeOp op, int first, int second, double reach,
           const std::vector<double>& constants = {}, int whole = -1) {
    if (first < 0) return second;
    return add({.op = op, .a = first, .b = second, .whole = whole, .reach = reach}, constants);
  }

  int combine(const Field& field, int point, int material, TapeOp sharp) {
    const double radius = field.numbers()[0];
    if (sharp == TapeOp::join && radius == 0) {
      const auto finite = std::count_if(field.parts().begin(), field.parts().end(),
                                        [](const Field& part) { return part.bounds().finite(); });
      if (finite >= least_crowd) return crowd(field, point, material);
    }
    const int smooth = radius == 0 ? 0 : 1 + static_cast<int>(field.numbers()[1]);
    const auto op = static_cast<TapeOp>(static_cast<int>(sharp) + smooth);
    int value = -1;
    for (const Field& part : field.parts()) {
      value =
          fold(op, value, emit(part, point, material), list_.steps[point].reach * field.stretch(),
               {radius, radius == 0 ? 0 : 1 / radius});
    }
    return value;
  }

  /// A join of many parts: neighbors make groups, so that those far away can be passed over
  /// together.
  int crowd(const Field& field, int point, int material) {
    const double reach = list_.steps[point].reach * field.stretch();
    std::vector<const Field*> near;
    int value = -1;
    for (const Field& part : field.parts()) {
      if (part.bounds().finite()) {
        near.push_back(&part);
      } else {
        value = fold(TapeOp::join, value, emit(part, point, material), reach);
      }
    }
    sort_by_place(near, 0);
    // Crowds within come after this one, their groups after its groups.
    const std::size_t crowd = list_.crowds.size();
    const std::size_t first = list_.groups.size();
    const std::size_t count = (near.size() + group_size - 1) / group_size;
    const auto place = [&] { return static_cast<std::uint32_t>(list_.steps.size()); };
    list_.crowds.push_back({.begin = place(),
                            .end = 0,
                            .first_group = static_cast<std::uint32_t>(first),
                            .last_group = static_cast<std::uint32_t>(first + count)});
    list_.groups.resize(first + count);
    for (std::size_t g = 0; g < count; ++g) {
      const std::size_t from = g * group_size;
      const std::size_t to = std::min(from + group_size, near.size());
      TapeSteps::Group group{.begin = place(), .point = point, .reach = reach};
      group.bounds = near[from]->bounds();
      // What is worked out within a group is not there where it is passed over.
      known_.emplace_back();
      for (std::size_t k = from; k < to; ++k) {
        const Field& part = *near[k];
        group.value = fold(TapeOp::join, group.value, emit(part, point, material), reach);
        group.bounds.low = group.bounds.low.cwiseMin(part.bounds().low);
        group.bounds.high = group.bounds.high.cwiseMax(part.bounds().high);
        group.looseness = std::max(group.looseness, part.looseness());
      }
      known_.pop_back();
      group.end = place();
      const bool alone = value < 0;
      value = fold(TapeOp::join, value, group.value, reach);
      if (!alone) group.join = value;
      list_.groups[first + g] = group;
    }
    list_.crowds[crowd].end = place();
    return value;
  }

  /// In halves of halves along the longer side, down to groups.
  static void sort_by_place(std::span<const Field*> parts, int depth) {
    if (parts.size() <= group_size || depth > 40) return;
    Vec3d low = Vec3d::Constant(std::numeric_limits<double>::infinity());
    Vec3d high = -low;
    const auto middle = [](const Field* part) -> Vec3d {
      return 0.5 * (part->bounds().low + part->bounds().high);
    };
    for (const Field* part : parts) {
      low = low.cwiseMin(middle(part));
      high = high.cwiseMax(middle(part));
    }
    Eigen::Index axis = 0;
    (high - low).maxCoeff(&axis);
    const std::size_t half = std::max<std::size_t>(1, parts.size() / group_size / 2) * group_size;
    std::nth_element(parts.begin(), parts.begin() + static_cast<std::ptrdiff_t>(half), parts.end(),
                     [&](const Field* one, const Field* two) {
                       const double a = middle(one)[axis];
                       const double b = middle(two)[axis];
                       return a != b ? a < b : one < two;
                     });
    sort_by_place(parts.subspan(0, half), depth + 1);
    sort_by_place(parts.subspan(half), depth + 1);
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
    const bool sound = steady(part);
    for (const double which : copies) {
      const int inner =
          add({.op = TapeOp::repeat, .a = point, .reach = list_.steps[point].reach},
              {static_cast<double>(axis), spacing, 1 / spacing, count == 0 ? -1 : count - 1,
               count == 0 ? 0 : 0.5 * (count - 1), which, copies.size() > 1 ? 1.0 : 0.0});
      value = fold(TapeOp::join, value, repeat(field, axis + 1, inner, material),
                   list_.steps[point].reach * field.stretch(), {},
                   sound && which == copies.back() ? point : -1);
    }
    return value;
  }

  int around(const Field& field, int point, int material) {
    const Field& part = field.parts().front();
    const int count = static_cast<int>(field.numbers()[0]);
    const double step = 2 * pi / count;
    std::vector<double> copies{0};
    if (const int more = copies_beside(count, part.bounds()); more > 0) {
      if (2 * more >= count) {
        for (int i = 1; i < count; ++i) copies.push_back(i);
      } else {
        for (int i = 1; i <= more; ++i) {
          copies.push_back(i);
          copies.push_back(-i);
        }
      }
    } else if (!symmetric(part, 1)) {
      copies.push_back(1);
    }
    int value = -1;
    const bool sound = steady(part);
    for (const double which : copies) {
      const int inner = add({.op = TapeOp::around, .a = point, .reach = list_.steps[point].reach},
                            {step, 1 / step, which, copies.size() > 1 ? 1.0 : 0.0});
      value = fold(TapeOp::join, value, emit(part, inner, material),
                   list_.steps[point].reach * field.stretch(), {},
                   sound && which == copies.back() ? point : -1);
    }
    return value;
  }

  static constexpr std::ptrdiff_t least_crowd = 24;
  static constexpr std::size_t group_size = 8;

  const bool share_;
  /// What was emitted, with the field, so that no other takes over its identity.
  std::map<std::tuple<const void*, int, int>, std::pair<Field, int>> emitted_;
  TapeSteps list_;
  /// Steps by what they do, those of the groups that are being made in scopes of their own.
  std::vector<std::unordered_map<std::string, int>> known_{1};
};

}  // namespace

double octaves_height(double count) { return 2 - std::exp2(1 - count); }

Tape make_tape(const Field& field) {
  try {
    return TapeMaker(true).make(field);
  } catch (const Error&) {
    // What is shared keeps its registers longer: without that there may be enough of them.
    return TapeMaker(false).make(field);
  }
}

}  // namespace photonlane
