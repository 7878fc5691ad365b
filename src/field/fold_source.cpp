#include "field/fold_source.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>
#include <limits>
#include <string>

#include "field/fold_program.hpp"
#include "field/kind_traits.hpp"
#include "field/tape.hpp"
#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

Bounds around_origin(double reach) { return {Vec3d::Constant(-reach), Vec3d::Constant(reach)}; }

/// A fold program that is asked as a shape.
class FoldSource final : public FieldSource {
 public:
  FoldSource(FoldProgram program, std::string name, Bounds bounds, double stretch, double looseness)
      : program_(std::move(program)),
        name_(std::move(name)),
        bounds_(bounds),
        stretch_(stretch),
        looseness_(looseness) {
    program_.numbers_float.assign(program_.numbers.begin(), program_.numbers.end());
  }

  void ask(const SourceBatch<float>& batch) const override { ask_folds(program_, batch); }
  void ask(const SourceBatch<double>& batch) const override { ask_folds(program_, batch); }
  Bounds bounds() const override { return bounds_; }
  double stretch() const override { return stretch_; }
  double looseness() const override { return looseness_; }
  bool steady() const override { return program_.exact; }
  const std::string& name() const override { return name_; }
  std::size_t memory_bytes() const override {
    return program_.numbers.size() * (sizeof(double) + sizeof(float));
  }

 private:
  FoldProgram program_;
  std::string name_;
  Bounds bounds_;
  double stretch_;
  double looseness_;
};

void add(FoldProgram& program, std::vector<FoldOp>& ops, FoldOp op,
         std::initializer_list<double> numbers) {
  ops.push_back(op);
  program.numbers.insert(program.numbers.end(), numbers);
}

/// Mirrors that lead to the corner of a tetrahedron at (1, 1, 1), or where no coordinate of an
/// octahedron is below 0.
void add_mirrors(FoldProgram& program, std::vector<FoldOp>& ops, GasketForm form) {
  if (form == GasketForm::octahedron) return add(program, ops, FoldOp::mirror, {7});
  add(program, ops, FoldOp::swap, {0, 1, 1});
  add(program, ops, FoldOp::swap, {0, 2, 1});
  add(program, ops, FoldOp::swap, {1, 2, 1});
}

/// Facets of an octahedron or a tetrahedron, in the part of space that its mirrors lead to: x is
/// the largest, then y, then z, of which the octahedron's are above 0 and the tetrahedron's at
/// least -y.
void add_facets(FoldProgram& program, GasketForm form, double radius) {
  const bool octahedron = form == GasketForm::octahedron;
  const double unit = octahedron ? radius : radius / std::sqrt(3.0);
  const Vec3d normal = Vec3d(1, 1, octahedron ? 1 : -1).normalized();
  const Vec3d corner = octahedron ? Vec3d(unit, 0, 0) : Vec3d(unit, unit, unit);
  const Vec3d middle = octahedron ? Vec3d(unit / 2, unit / 2, 0) : Vec3d(unit, 0, 0);
  const Vec3d along = (corner - middle).normalized();
  Vec3d across = normal.cross(along);
  // Away from the middle of the facet.
  if (across.dot(middle - normal * normal.dot(middle)) < 0) across = -across;
  add_mirrors(program, program.last_ops, form);
  add(program, program.last_ops, FoldOp::sort, {});
  program.base = FoldProgram::Base::facets;
  const auto add_way = [&](const Vec3d& way, const Vec3d& on) {
    program.numbers.insert(program.numbers.end(), {way.x(), way.y(), way.z(), way.dot(on)});
  };
  add_way(normal, middle);
  add_way(across, middle);
  add_way(along, corner);
}

FoldProgram sponge(double size, int times) {
  // Of the 27 parts those at the corners and the edges are left: with x >= y >= z >= 0 the corner
  // of (1, 1, 1), and the edge below it, which a mirror between the two leads there.
  FoldProgram program;
  program.form = FoldProgram::Form::sponge;

  program.times = times;
  program.factor = 2 / size;
  program.reach = std::sqrt(3.0);
  return program;
}

FoldProgram gasket(GasketForm form, double radius, int times) {
  FoldProgram program;
  program.times = times;
  program.reach = radius;
  program.detail = radius;
  add_mirrors(program, program.ops, form);
  if (form == GasketForm::octahedron) {
    add(program, program.ops, FoldOp::sort, {});
    add(program, program.ops, FoldOp::move, {0.5 * radius, 0, 0, 2});
  } else {
    const double at = 0.5 * radius / std::sqrt(3.0);
    add(program, program.ops, FoldOp::move, {at, at, at, 2});
  }
  add_facets(program, form, radius);
  return program;
}

/// The axes of a plane that swaps two of them, as 10 * first + second; -1: it is another.
int plane_pair(const FoldStep& step) {
  if (step.kind != FoldKind::fold || step.numbers[3] != 0) return -1;
  int first = -1;
  int second = -1;
  for (int axis = 0; axis < 3; ++axis) {
    const double part = step.numbers[axis];
    if (part == 0) continue;
    if (first < 0) {
      first = axis;
    } else if (second < 0) {
      second = axis;
    } else {
      return -1;
    }
  }
  if (second < 0) return -1;
  const double a = step.numbers[first];
  const double b = step.numbers[second];
  if (a != -b) return -1;
  return a > 0 ? 10 * first + second : 10 * second + first;
}

/// The steps of an iterate as ops, neighbors that have a shorter form together.
void add_steps(FoldProgram& program, const std::vector<FoldStep>& steps) {
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const FoldStep& step = steps[i];
    const auto& n = step.numbers;
    switch (step.kind) {
      case FoldKind::mirror: {
        int axes = 0;
        for (; i < steps.size() && steps[i].kind == FoldKind::mirror; ++i) {
          axes |= 1 << static_cast<int>(steps[i].numbers[0]);
        }
        --i;
        add(program, program.ops, FoldOp::mirror, {static_cast<double>(axes)});
        break;
      }
      case FoldKind::fold: {
        const int pair = plane_pair(step);
        if (pair == 1 && i + 2 < steps.size() && plane_pair(steps[i + 1]) == 2 &&
            plane_pair(steps[i + 2]) == 12) {
          add(program, program.ops, FoldOp::sort, {});
          i += 2;
        } else if (pair >= 0) {
          const double first = pair / 10;
          const double second = pair % 10;
          add(program, program.ops, FoldOp::swap, {first, second, 0});
        } else {
          const Vec3d normal = Vec3d(n[0], n[1], n[2]).normalized();
          Eigen::Index axis = 0;
          if (normal.cwiseAbs().maxCoeff(&axis) == 1) {
            add(program, program.ops, FoldOp::level,
                {static_cast<double>(axis), normal[axis] * n[3], normal[axis]});
          } else {
            add(program, program.ops, FoldOp::fold, {normal.x(), normal.y(), normal.z(), n[3]});
          }
        }
        break;
      }
      case FoldKind::wedge:
        add(program, program.ops, FoldOp::wedge, {2 * pi / n[0], n[0] / (2 * pi)});
        break;
      case FoldKind::place:
        if (n[3] == 0 && n[4] == 0 && n[5] == 0) {
          add(program, program.ops, FoldOp::move, {n[0], n[1], n[2], 1 / n[6]});
        } else {
          const Mat3d back = turn_matrix({n[3], n[4], n[5]}).transpose();
          add(program, program.ops, FoldOp::place,
              {n[0], n[1], n[2], back(0, 0), back(0, 1), back(0, 2), back(1, 0), back(1, 1),
               back(1, 2), back(2, 0), back(2, 1), back(2, 2), 1 / n[6]});
        }
        break;
      case FoldKind::box_fold:
        add(program, program.ops, FoldOp::box, {n[0]});
        break;
      case FoldKind::ball_fold:
        add(program, program.ops, FoldOp::ball, {n[1] * n[1], n[1] * n[1] / (n[0] * n[0])});
        break;
      case FoldKind::inversion:
        add(program, program.ops, FoldOp::invert, {n[0], n[1], n[2], n[3] * n[3]});
        break;
      case FoldKind::start:
        add(program, program.ops, FoldOp::start, {n[0]});
        break;
      case FoldKind::stretch:
        add(program, program.ops, FoldOp::stretch,
            {n[0], n[1], n[2], std::max({n[0], n[1], n[2]})});
        break;
    }
  }
}

/// The radius of a ball about the origin that holds what steps lead into one of radius `reach`;
/// infinite where nothing does.
double reach_before(const FoldStep& step, double reach) {
  const auto& n = step.numbers;
  const double at = Vec3d(n[0], n[1], n[2]).norm();
  switch (step.kind) {
    case FoldKind::mirror:
    case FoldKind::wedge:
      return reach;
    case FoldKind::fold:
      return reach + 2 * std::abs(n[3]);
    case FoldKind::place:
      return reach * std::abs(n[6]) + at;
    case FoldKind::box_fold:
      return reach + 2 * std::sqrt(3.0) * n[0];
    case FoldKind::ball_fold:
      return std::max(reach, n[1]);
    case FoldKind::inversion:
      return at > reach ? at + n[3] * n[3] / (at - reach) : infinite;
    case FoldKind::start:
      return n[0] == 0 ? reach : infinite;
    case FoldKind::stretch:
      return reach / std::min({n[0], n[1], n[2]});
  }
  return infinite;
}

/// The same where a box fold, a ball fold, a scale and the start make the steps: along each axis
/// what is beyond it only ever gets farther away.
double box_ball_reach(const std::vector<FoldStep>& steps) {
  if (steps.size() != 4 || steps[0].kind != FoldKind::box_fold ||
      steps[1].kind != FoldKind::ball_fold || steps[2].kind != FoldKind::place ||
      steps[3].kind != FoldKind::start || steps[3].numbers[0] != 1) {
    return infinite;
  }
  const auto& place = steps[2].numbers;
  for (int i = 0; i < 6; ++i) {
    if (place[i] != 0) return infinite;
  }
  const double scale = 1 / place[6];
  const double half = steps[0].numbers[0];
  const double side = scale > 0 ? 2 * half * (scale + 1) / (scale - 1) : 2 * half;
  // Lengths within the ball are what the ball's fold changes.
  return std::abs(scale) > 1 && steps[1].numbers[1] <= half + 1e-12 ? std::sqrt(3.0) * side
                                                                    : infinite;
}

bool keeps_shapes(const FoldStep& step) {
  return step.kind == FoldKind::mirror || step.kind == FoldKind::fold ||
         step.kind == FoldKind::wedge || step.kind == FoldKind::place;
}

std::shared_ptr<const FieldSource> make_iterate(const std::vector<double>& n,
                                                const std::vector<FoldStep>& steps,
                                                const Field& part) {
  FoldProgram program;
  program.times = static_cast<int>(n[0]);
  program.jacobian = n[1] == 1;
  program.keeps_all = n[4] == 1;
  program.exact = std::all_of(steps.begin(), steps.end(), keeps_shapes);
  add_steps(program, steps);

  double part_reach = 0;
  const Bounds& box = part.bounds();
  for (int corner = 0; corner < 8; ++corner) {
    const Vec3d at((corner & 1) != 0 ? box.low.x() : box.high.x(),
                   (corner & 2) != 0 ? box.low.y() : box.high.y(),
                   (corner & 4) != 0 ? box.low.z() : box.high.z());
    part_reach = std::max(part_reach, at.norm());
  }
  double reach = part_reach;
  for (int i = 0; i < program.times && std::isfinite(reach); ++i) {
    for (auto step = steps.rbegin(); step != steps.rend(); ++step) {
      reach = reach_before(*step, reach);
    }
    if (program.keeps_all) reach = std::max(reach, part_reach);
  }
  if (!std::isfinite(reach) && program.times > 0) reach = box_ball_reach(steps);
  if (n[2] > 0) reach = n[2];
  if (!std::isfinite(reach) && !program.exact) {
    throw Error(ErrorKind::input,
                "iterate: no ball is known that holds all of it, expected `reach`, the radius of "
                "one");
  }
  program.reach = std::isfinite(reach) ? reach : 1e6;
  program.detail = std::isfinite(part_reach) ? part_reach : program.reach;
  const bool starts = std::any_of(steps.begin(), steps.end(), [](const FoldStep& step) {
    return step.kind == FoldKind::start;
  });
  if (starts) {
    program.limit = 64 * program.reach;
    program.detail = program.reach;
  }

  const std::vector<double>& b = part.numbers();
  if (part.kind() == FieldKind::box) {
    program.base = FoldProgram::Base::box;
    program.numbers.insert(program.numbers.end(),
                           {0.5 * b[0] - b[3], 0.5 * b[1] - b[3], 0.5 * b[2] - b[3], b[3]});
  } else if (part.kind() == FieldKind::sphere) {
    program.base = FoldProgram::Base::sphere;
    program.numbers.push_back(b[0]);
  } else if (part.kind() == FieldKind::capsule) {
    program.base = FoldProgram::Base::capsule;
    const Vec3d way(b[3] - b[0], b[4] - b[1], b[5] - b[2]);
    const double square = way.squaredNorm();
    program.numbers.insert(program.numbers.end(), {b[0], b[1], b[2], way.x(), way.y(), way.z(),
                                                   square > 0 ? 1 / square : 0, b[6]});
  } else {
    program.base = FoldProgram::Base::field;
    program.field = std::make_shared<const Tape>(make_tape(part));
  }
  const double trust = n[3] > 0 ? n[3] : 1;
  Bounds bounds = around_origin(std::isfinite(reach) ? reach : infinite);
  if (program.times == 0) bounds = box;
  const double stretch = (program.exact ? 1 : trust) * part.stretch();
  return std::make_shared<FoldSource>(std::move(program), "iterate", bounds, stretch,
                                      part.looseness());
}

}  // namespace

bool folds(FieldKind kind) { return has_trait(kind, folds_space); }

int safety_index(FieldKind kind) { return field_kind_info(kind).place_of("safety"); }

std::vector<FoldStep> fold_steps(std::span<const double> n) {
  std::vector<FoldStep> steps;
  for (std::size_t at = field_kind_info(FieldKind::iterate).numbers();
       at + step_numbers <= n.size(); at += step_numbers) {
    FoldStep step;
    step.kind = static_cast<FoldKind>(static_cast<int>(n[at]));
    std::copy_n(n.begin() + static_cast<std::ptrdiff_t>(at) + 1, FoldStep::most_numbers,
                step.numbers.begin());
    steps.push_back(step);
  }
  return steps;
}

std::shared_ptr<const FieldSource> make_fold_source(FieldKind kind, const std::vector<double>& n,
                                                    const std::vector<Field>& parts) {
  const auto whole = [&](std::size_t i) { return static_cast<int>(n[i]); };
  const auto shape = [&](FoldProgram program, const Bounds& bounds, double stretch = 1) {
    return std::make_shared<FoldSource>(std::move(program), std::string(name_of(kind)), bounds,
                                        stretch, 1);
  };
  switch (kind) {
    case FieldKind::tetrahedron:
    case FieldKind::octahedron: {
      const bool four = kind == FieldKind::tetrahedron;
      FoldProgram program =
          gasket(four ? GasketForm::tetrahedron : GasketForm::octahedron, n[0], 0);
      return shape(std::move(program), around_origin(four ? n[0] / std::sqrt(3.0) : n[0]));
    }
    case FieldKind::sponge: {
      FoldProgram program = sponge(n[0], whole(1));
      if (n[2] == 1) {
        program.form = FoldProgram::Form::balls;
        program.ball = n[3];
      }
      return shape(std::move(program), around_origin(0.5 * n[0]));
    }
    case FieldKind::gasket: {
      const auto form = static_cast<GasketForm>(whole(0));
      return shape(gasket(form, n[1], whole(2)),
                   around_origin(form == GasketForm::octahedron ? n[1] : n[1] / std::sqrt(3.0)));
    }
    case FieldKind::bulb: {
      FoldProgram program;
      program.form = FoldProgram::Form::bulb;
      program.power = whole(0);
      program.times = whole(1);
      program.limit = n[2];
      program.jacobian = n[3] == 1;
      program.exact = false;
      program.reach = std::pow(2.0, 1 / (n[0] - 1));
      const double reach = program.reach;
      return shape(std::move(program), around_origin(reach), n[4] > 0 ? n[4] : 1);
    }
    case FieldKind::julia: {
      FoldProgram program;
      program.form = FoldProgram::Form::quaternion;
      std::copy_n(n.begin(), 4, program.c);
      program.slice = n[4];
      program.times = whole(5);
      program.limit = n[6];
      program.jacobian = n[7] == 1;
      program.exact = false;
      const double length = std::hypot(std::hypot(n[0], n[1]), std::hypot(n[2], n[3]));
      program.reach = 0.5 + std::sqrt(0.25 + length);
      // Only places beyond this never return.
      program.limit = std::max(program.limit, 2 * program.reach);
      const double reach = program.reach;
      return shape(std::move(program), around_origin(reach), n[8] > 0 ? n[8] : 1);
    }
    default:
      return make_iterate(n, fold_steps(n), parts.front());
  }
}

}  // namespace photonlane
