#include "photonlane/field/field.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <span>

#include "field/fold_source.hpp"
#include "field/kind_traits.hpp"
#include "field/noise.hpp"
#include "field/sources.hpp"
#include "field/tape.hpp"

namespace photonlane {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

Bounds around_origin(const Vec3d& half) { return {-half, half}; }
Bounds grown(const Bounds& bounds, double by) {
  return {bounds.low - Vec3d::Constant(by), bounds.high + Vec3d::Constant(by)};
}
Bounds endless() { return around_origin(Vec3d::Constant(infinite)); }

/// Checks one number against what a parameter says, as its text would be.
void check_number(const FieldKindInfo::Parameter& parameter, double value) {
  const KnobInfo& info = parameter.info;
  switch (info.kind) {
    case KnobKind::choice:
      if (!(value >= 0 && value < static_cast<double>(info.choices.size()))) {
        throw Error(ErrorKind::input, fmt::format("no such choice {}", value));
      }
      break;
    case KnobKind::integer: {
      std::int64_t read = 0;
      detail::assign(read, info, fmt::format("{}", value));
      break;
    }
    default: {
      KnobInfo plain = info;
      plain.kind = KnobKind::number;
      double read = 0;
      detail::assign(read, plain, detail::read(value, plain));
    }
  }
}

/// Which side of a line from a to b c lies on.
double turn_of(const Vec2d& a, const Vec2d& b, const Vec2d& c) {
  return (b - a).x() * (c - a).y() - (b - a).y() * (c - a).x();
}

/// Whether two pieces of a line have a place in common.
bool meet_each_other(const Vec2d& a, const Vec2d& b, const Vec2d& c, const Vec2d& d) {
  if ((a.cwiseMax(b) - c.cwiseMin(d)).minCoeff() < 0) return false;
  if ((c.cwiseMax(d) - a.cwiseMin(b)).minCoeff() < 0) return false;
  return turn_of(a, b, c) * turn_of(a, b, d) <= 0 && turn_of(c, d, a) * turn_of(c, d, b) <= 0;
}

void check_corners(FieldKind kind, const std::vector<double>& numbers) {
  const std::size_t count = numbers.size() / 2;
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorKind::input, fmt::format("{}: {}", name_of(kind), what));
  };
  if (numbers.size() % 2 != 0 || count < 3 || count > 1000) {
    refuse(fmt::format("{} corners, expected 3 to 1000", count));
  }
  const auto corner = [&](std::size_t i) {
    return Vec2d(numbers[2 * (i % count)], numbers[2 * (i % count) + 1]);
  };
  for (std::size_t i = 0; i < count; ++i) {
    if (!(corner(i).cwiseAbs().maxCoeff() <= 1e6)) {
      refuse(fmt::format("corner {} is not within 1e+06 m", i));
    }
    if ((corner(i + 1) - corner(i)).norm() < 1e-9) {
      refuse(fmt::format("corner {} is where the next one is", i));
    }
  }
  for (std::size_t i = 0; i < count; ++i) {
    for (std::size_t j = i + 2; j < count; ++j) {
      if (i == 0 && j == count - 1) continue;
      if (meet_each_other(corner(i), corner(i + 1), corner(j), corner(j + 1))) {
        refuse(fmt::format("the sides after corners {} and {} meet", i, j));
      }
    }
  }
}

/// The steps of an iterate.
void check_steps(std::span<const double> numbers) {
  if (numbers.size() % step_numbers != 0 || numbers.size() > 64 * step_numbers) {
    throw Error(ErrorKind::input, "iterate: more than 64 steps, or numbers of a part of one");
  }
  for (std::size_t at = 0; at < numbers.size(); at += step_numbers) {
    const double which = numbers[at];
    if (!(which >= 0 && which < static_cast<double>(choice_names<FoldKind>.size()))) {
      throw Error(ErrorKind::input, fmt::format("iterate: no such step {}", which));
    }
    const auto kind = static_cast<FoldKind>(static_cast<int>(which));
    const double* n = numbers.data() + at + 1;
    std::size_t i = 0;
    for (const FieldKindInfo::Parameter& parameter : fold_kind_info(kind).parameters) {
      for (std::size_t k = 0; k < parameter.numbers(); ++k, ++i) {
        try {
          check_number(parameter, n[i]);
        } catch (const Error& error) {
          throw Error(ErrorKind::input,
                      fmt::format("iterate: step {}: {}: {}: {}", at / step_numbers + 1,
                                  name_of(kind), parameter.info.name, error.message()));
        }
      }
    }
    const auto refuse = [&](std::string_view what) {
      throw Error(ErrorKind::input, fmt::format("iterate: step {}: {}: {}", at / step_numbers + 1,
                                                name_of(kind), what));
    };
    if (kind == FoldKind::fold && Vec3d(n[0], n[1], n[2]).norm() < 1e-9) {
      refuse("a normal of no length");
    }
    if (kind == FoldKind::place && std::abs(n[6]) < 1e-6) refuse("a scale of 0");
    if (kind == FoldKind::ball_fold && n[0] > n[1]) refuse("inner is more than outer");
  }
}

void check_numbers(FieldKind kind, const std::vector<double>& numbers) {
  const FieldKindInfo& info = field_kind_info(kind);
  if (info.extra == FieldKindInfo::Extra::points) return check_corners(kind, numbers);
  std::size_t at = 0;
  for (const FieldKindInfo::Parameter& parameter : info.parameters) {
    for (std::size_t i = 0; i < parameter.numbers(); ++i, ++at) {
      try {
        check_number(parameter, at < numbers.size() ? numbers[at] : infinite);
      } catch (const Error& error) {
        throw Error(ErrorKind::input,
                    fmt::format("{}: {}: {}", name_of(kind), parameter.info.name, error.message()));
      }
    }
  }
  if (info.extra == FieldKindInfo::Extra::steps)
    return check_steps({numbers.data() + at, numbers.size() - at});
  if (at != numbers.size()) {
    throw Error(ErrorKind::input,
                fmt::format("{} of {} numbers, expected {}", name_of(kind), numbers.size(), at));
  }
}

/// What a kind's numbers have to be beside one another.
void check_shape(FieldKind kind, const std::vector<double>& n) {
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorKind::input, fmt::format("{}: {}", name_of(kind), what));
  };
  switch (kind) {
    case FieldKind::box:
      if (2 * n[3] > std::min({n[0], n[1], n[2]})) refuse("round is more than half its size");
      break;
    case FieldKind::frame:
      if (2 * n[3] > std::min({n[0], n[1], n[2]})) refuse("bar is more than half its size");
      break;
    case FieldKind::plane:
      if (Vec3d(n[0], n[1], n[2]).norm() < 1e-9) refuse("a normal of no length");
      break;
    case FieldKind::fold:
      if (Vec3d(n[0], n[1], n[2]).norm() < 1e-9) refuse("a normal of no length");
      break;
    case FieldKind::cylinder:
      if (n[2] > n[0] || 2 * n[2] > n[1]) refuse("round is more than half its size");
      break;
    case FieldKind::cone:
      if (n[0] <= 0 && n[1] <= 0) refuse("radius and top are both 0");
      break;
    case FieldKind::torus:
      if (n[1] > n[0]) refuse("tube is more than radius");
      break;
    case FieldKind::rectangle:
      if (2 * n[2] > std::min(n[0], n[1])) refuse("round is more than half its size");
      break;
    case FieldKind::arc:
      if (n[1] > 2 * n[0]) refuse("width is more than twice the radius");
      break;
    case FieldKind::extrude:
      if (2 * n[1] > n[0]) refuse("round is more than half its height");
      break;
    default:
      break;
  }
}

double across(const Bounds& bounds) {
  const auto far = [&](int axis) {
    return std::max(std::abs(bounds.low[axis]), std::abs(bounds.high[axis]));
  };
  return std::hypot(far(0), far(1));
}

Bounds placed(const Bounds& bounds, const Mat3d& turn, const Vec3d& at, double scale) {
  if (!bounds.finite()) return endless();
  Bounds result{Vec3d::Constant(infinite), Vec3d::Constant(-infinite)};
  for (int corner = 0; corner < 8; ++corner) {
    const Vec3d local((corner & 1) != 0 ? bounds.high.x() : bounds.low.x(),
                      (corner & 2) != 0 ? bounds.high.y() : bounds.low.y(),
                      (corner & 4) != 0 ? bounds.high.z() : bounds.low.z());
    const Vec3d corner_at = at + turn * (scale * local);
    result.low = result.low.cwiseMin(corner_at);
    result.high = result.high.cwiseMax(corner_at);
  }
  return result;
}

Bounds bounds_of(FieldKind kind, const std::vector<double>& n, const std::vector<Field>& parts,
                 const FieldSource* source) {
  const auto part = [&]() -> const Bounds& { return parts.front().bounds(); };
  double loose = 1;
  for (const Field& one : parts) loose = std::max(loose, one.looseness());
  const auto upright = [](double radius, double half) {
    return around_origin({radius, radius, half});
  };
  switch (kind) {
    case FieldKind::sphere:
      return around_origin(Vec3d::Constant(n[0]));
    case FieldKind::ellipsoid:
      return around_origin({n[0], n[1], n[2]});
    case FieldKind::box:
    case FieldKind::frame:
      return around_origin(0.5 * Vec3d(n[0], n[1], n[2]));
    case FieldKind::plane:
    case FieldKind::invert:
      return endless();
    case FieldKind::cylinder:
      return upright(n[0], 0.5 * n[1]);
    case FieldKind::capsule: {
      const Vec3d from(n[0], n[1], n[2]);
      const Vec3d to(n[3], n[4], n[5]);
      return grown({from.cwiseMin(to), from.cwiseMax(to)}, n[6]);
    }
    case FieldKind::cone:
      return upright(std::max(n[0], n[1]), 0.5 * n[2]);
    case FieldKind::torus:
      return upright(n[0] + n[1], n[1]);
    case FieldKind::disc:
      return upright(n[0] + n[1], n[1]);
    case FieldKind::prism:
      return upright(n[1], 0.5 * n[2]);
    case FieldKind::pyramid:
      return around_origin({0.5 * n[0], 0.5 * n[0], 0.5 * n[1]});
    case FieldKind::heights: {
      const double top = std::max(source->bounds().high.z(), 0.0);
      return {{-0.5 * n[0], -0.5 * n[1], 0}, {0.5 * n[0], 0.5 * n[1], top}};
    }
    case FieldKind::outline: {
      Bounds bounds{Vec3d(infinite, infinite, -infinite), Vec3d(-infinite, -infinite, infinite)};
      for (std::size_t i = 0; i < n.size(); ++i) {
        const auto axis = static_cast<Eigen::Index>(i % 2);
        bounds.low[axis] = std::min(bounds.low[axis], n[i]);
        bounds.high[axis] = std::max(bounds.high[axis], n[i]);
      }
      return bounds;
    }
    case FieldKind::circle:
      return upright(n[0], infinite);
    case FieldKind::rectangle:
      return around_origin({0.5 * n[0], 0.5 * n[1], infinite});
    case FieldKind::polygon:
      return upright(n[1], infinite);
    case FieldKind::star:
      return upright(std::max(n[1], n[2]), infinite);
    case FieldKind::arc:
      return upright(n[0] + 0.5 * n[1], infinite);
    case FieldKind::extrude: {
      Bounds bounds = part();
      bounds.low.z() = -0.5 * n[0];
      bounds.high.z() = 0.5 * n[0];
      return bounds;
    }
    case FieldKind::revolve: {
      const double radius = n[0] + part().high.x();
      return {{-radius, -radius, part().low.y()}, {radius, radius, part().high.y()}};
    }
    case FieldKind::join: {
      Bounds all = part();
      for (const Field& one : parts) {
        all.low = all.low.cwiseMin(one.bounds().low);
        all.high = all.high.cwiseMax(one.bounds().high);
      }
      // Each smooth seam fills in at most a quarter of its radius, or all of (sqrt(2) - 1) of it.
      const double share = n[1] == 0 ? 0.25 : 0.42;
      return grown(all, loose * share * n[0] * static_cast<double>(parts.size() - 1));
    }
    case FieldKind::meet: {
      Bounds all = part();
      for (const Field& one : parts) {
        all.low = all.low.cwiseMax(one.bounds().low);
        all.high = all.high.cwiseMin(one.bounds().high);
      }
      return all;
    }
    case FieldKind::carve:
      return part();
    case FieldKind::offset:
      return grown(part(), n[0] > 0 ? loose * n[0] : 0);
    case FieldKind::shell:
      return grown(part(), 0.5 * loose * n[0]);
    case FieldKind::damp:
      return part();
    case FieldKind::elongate: {
      const Vec3d half = 0.5 * Vec3d(n[0], n[1], n[2]);
      return {part().low - half, part().high + half};
    }
    case FieldKind::waves:
      return grown(part(), loose * n[0]);
    case FieldKind::noise:
      return grown(part(), loose * n[0] * octaves_height(n[2]));
    case FieldKind::place:
      return placed(part(), turn_matrix({n[3], n[4], n[5]}), {n[0], n[1], n[2]}, n[6]);
    case FieldKind::mirror: {
      Bounds bounds = part();
      const int axis = static_cast<int>(n[0]);
      bounds.high[axis] = std::max(bounds.high[axis], 0.0);
      bounds.low[axis] = -bounds.high[axis];
      return bounds;
    }
    case FieldKind::fold: {
      const Vec3d normal = Vec3d(n[0], n[1], n[2]).normalized();
      const Mat3d mirror = Mat3d::Identity() - 2 * normal * normal.transpose();
      const Bounds other = placed(part(), mirror, {0, 0, 0}, 1);
      return {part().low.cwiseMin(other.low), part().high.cwiseMax(other.high)};
    }
    case FieldKind::repeat: {
      Bounds bounds = part();
      for (int axis = 0; axis < 3; ++axis) {
        if (n[axis] == 0 || n[3 + axis] == 1) continue;
        const double reach = n[3 + axis] == 0 ? infinite : 0.5 * n[axis] * (n[3 + axis] - 1);
        bounds.low[axis] -= reach;
        bounds.high[axis] += reach;
      }
      return bounds;
    }
    case FieldKind::around:
    case FieldKind::twist: {
      const double radius = across(part());
      return {{-radius, -radius, part().low.z()}, {radius, radius, part().high.z()}};
    }
    case FieldKind::taper: {
      const double wide = std::max(n[0], n[1]);
      const auto widen = [&](double end) { return end * (end < 0 ? -wide : wide); };
      Bounds bounds = part();
      for (const int axis : {0, 1}) {
        // What lies on one side of the axis alone gets nearer to it as well.
        bounds.low[axis] = bounds.low[axis] < 0 ? -widen(bounds.low[axis]) : 0;
        bounds.high[axis] = bounds.high[axis] > 0 ? widen(bounds.high[axis]) : 0;
      }
      return bounds;
    }
    case FieldKind::bend: {
      if (n[0] == 0) return part();
      const Bend bent(n[0], part());
      // Places along the inner and the outer arc, and where that is lowest and farthest.
      const double turn = std::min(bent.reach / bent.radius, pi);
      Bounds bounds{part().low, part().high};
      const double side = bent.outermost * std::sin(std::min(turn, pi / 2));
      bounds.low.x() = -side;
      bounds.high.x() = side;
      const double lowest = bent.radius - bent.outermost;
      const double highest =
          bent.radius - (turn > pi / 2 ? bent.outermost : bent.innermost) * std::cos(turn);
      bounds.low.z() = bent.side > 0 ? lowest : -highest;
      bounds.high.z() = bent.side > 0 ? highest : -lowest;
      return bounds;
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
      return source->bounds();
  }
  refuse_kind();
}

double looseness_of(FieldKind kind, const std::vector<double>& n, const std::vector<Field>& parts,
                    const FieldSource* source) {
  if (folds(kind)) return source->looseness();
  double most = 1;
  for (const Field& one : parts) most = std::max(most, one.looseness());
  if (!has_trait(kind, own_looseness)) return most;
  switch (kind) {
    case FieldKind::ellipsoid:
      return std::max({n[0], n[1], n[2]}) / std::min({n[0], n[1], n[2]});
    case FieldKind::heights:
    case FieldKind::volume:
    case FieldKind::function:
      return source->looseness();
    case FieldKind::taper:
      return most * std::max(n[0], n[1]) / std::min(n[0], n[1]);
    case FieldKind::bend: {
      if (n[0] == 0) return most;
      const Bend bent(n[0], parts.front().bounds());
      return most * 0.5 * pi * std::max(1.0, bent.outermost / bent.radius);
    }
    case FieldKind::damp:
      return most / n[0];
    case FieldKind::place:
      // The corners of what grew along the axes reach farther along turned ones.
      return n[3] == 0 && n[4] == 0 && n[5] == 0 ? most : std::sqrt(3.0) * most;
    default:
      refuse_kind();
  }
}

double stretch_of(FieldKind kind, const std::vector<double>& n, const std::vector<Field>& parts,
                  const FieldSource* source) {
  if (folds(kind)) return source->stretch();
  double most = 1;
  for (const Field& one : parts) most = std::max(most, one.stretch());
  if (!has_trait(kind, own_stretch)) return most;
  switch (kind) {
    case FieldKind::join:
    case FieldKind::meet:
    case FieldKind::carve:
      // A quarter circle adds up gradients that point the same way.
      return n[0] > 0 && n[1] == 1 && parts.size() > 1
                 ? most * std::pow(std::sqrt(2.0), static_cast<double>(parts.size() - 1))
                 : most;
    case FieldKind::damp:
      return most * n[0];
    case FieldKind::waves:
      // The gradient of a product of three sines is nowhere longer than that of one.
      return most + n[0] * 2 * pi / n[1];
    case FieldKind::noise:
      // Each octave is as steep as the first.
      return most + noise_slope(n[3] != 0) * n[2] * n[0] / n[1];
    case FieldKind::volume:
    case FieldKind::function:
      return source->stretch();
    case FieldKind::twist:
      return most * twist_stretch(n[0], across(parts.front().bounds()));
    case FieldKind::taper:
      return most * Taper(n[0], n[1], parts.front().bounds()).stretch;
    case FieldKind::bend:
      return n[0] == 0 ? most : most * Bend(n[0], parts.front().bounds()).stretch();
    default:
      refuse_kind();
  }
}

/// What parts have to be for a kind.
void check_parts(FieldKind kind, const std::vector<double>& n, const std::vector<Field>& parts) {
  if (kind == FieldKind::repeat) {
    const Bounds& bounds = parts.front().bounds();
    for (int axis = 0; axis < 3; ++axis) {
      if (n[3 + axis] != std::floor(n[3 + axis])) {
        throw Error(ErrorKind::input, "repeat: count: expected whole numbers");
      }
      const double reach = std::max(-bounds.low[axis], bounds.high[axis]);
      if (n[axis] > 0 && n[3 + axis] != 1 && !(reach <= n[axis])) {
        throw Error(
            ErrorKind::input,
            fmt::format("repeat: a part that reaches {:.4g} m along {}, expected at most its "
                        "spacing of {:.4g} m",
                        reach, "xyz"[axis], n[axis]));
      }
    }
  }
  if (kind == FieldKind::around) {
    const int count = static_cast<int>(n[0]);
    const int copies = std::min(count, 2 * copies_beside(count, parts.front().bounds()) + 1);
    if (copies > most_copies_around) {
      throw Error(
          ErrorKind::input,
          fmt::format("around: {} copies that reach into one another's share of the circle, "
                      "expected at most {}; a part farther from the z axis reaches less far",
                      copies, most_copies_around));
    }
  }
  if (kind == FieldKind::twist && !std::isfinite(across(parts.front().bounds()))) {
    throw Error(ErrorKind::input, "twist: a part without end in x or y, expected one that has one");
  }
  if (kind == FieldKind::taper || kind == FieldKind::bend) {
    const Bounds& bounds = parts.front().bounds();
    if (!bounds.finite()) {
      throw Error(ErrorKind::input,
                  fmt::format("{}: a part without end, expected one that has one", name_of(kind)));
    }
    if (kind == FieldKind::bend && n[0] != 0) {
      const Bend bent(n[0], bounds);
      if (!(bent.reach < 0.999 * pi * bent.radius)) {
        throw Error(ErrorKind::input,
                    fmt::format("bend: a part that reaches {:.4g} m along x, expected less than "
                                "half the circle's {:.4g} m",
                                bent.reach, 2 * pi * bent.radius));
      }
      if (!(bent.innermost > 0.01 * bent.radius)) {
        throw Error(ErrorKind::input,
                    fmt::format("bend: a part that reaches {:.4g} m along z, expected less than "
                                "the circle's radius of {:.4g} m",
                                bent.radius - bent.innermost, bent.radius));
      }
    }
  }
}

}  // namespace

Field::Field(FieldKind kind, std::vector<double> numbers, std::vector<Field> parts,
             std::shared_ptr<const FieldSource> source) {
  if (static_cast<std::size_t>(kind) >= choice_names<FieldKind>.size()) {
    throw Error(ErrorKind::usage,
                fmt::format("no kind of field has number {}", static_cast<std::size_t>(kind)));
  }
  const FieldKindInfo& info = field_kind_info(kind);
  const auto count = static_cast<std::ptrdiff_t>(parts.size());
  if (count < info.least_parts || count > info.most_parts) {
    throw Error(ErrorKind::input, fmt::format("{} of {} parts, expected {}", name_of(kind), count,
                                              info.most_parts == 0   ? "none"
                                              : info.most_parts == 1 ? "one"
                                                                     : "at least one"));
  }
  check_numbers(kind, numbers);
  check_shape(kind, numbers);
  check_parts(kind, numbers, parts);
  const bool wants_source =
      info.extra == FieldKindInfo::Extra::file || info.extra == FieldKindInfo::Extra::function;
  if (wants_source != (source != nullptr)) {
    throw Error(ErrorKind::input, fmt::format("{} {} a source of its values", name_of(kind),
                                              wants_source ? "without" : "with"));
  }
  if (folds(kind)) source = make_fold_source(kind, numbers, parts);

  auto node = std::make_shared<Node>();
  node->kind = kind;
  for (const Field& part : parts) {
    node->depth = std::max(node->depth, part.node().depth + 1);
    node->count += part.node().count;
    node->work += part.node().work;
  }
  if (node->count > most_nodes) {
    throw Error(
        ErrorKind::input,
        fmt::format("a field of {} shapes and operations, each counted as often as it stands "
                    "in it, expected at most {}",
                    node->count, most_nodes));
  }
  if (kind == FieldKind::iterate && numbers[0] > 1) node->work *= numbers[0];
  if (node->work > most_work) {
    throw Error(ErrorKind::input,
                fmt::format("a field of {:.3g} shapes, operations and times they are iterated, "
                            "expected at most {:.3g}",
                            node->work, most_work));
  }
  if (node->depth > deepest) {
    throw Error(ErrorKind::input,
                fmt::format("a field more than {} operations deep", Field::deepest));
  }
  node->bounds = bounds_of(kind, numbers, parts, source.get());
  node->stretch = stretch_of(kind, numbers, parts, source.get());
  node->looseness = looseness_of(kind, numbers, parts, source.get());
  node->numbers = std::move(numbers);
  node->parts = std::move(parts);
  node->source = std::move(source);

  node_ = std::move(node);
}

Field Field::tinted(FoldTint tint) const {
  if (!folds(kind()) || kind() == FieldKind::tetrahedron || kind() == FieldKind::octahedron) {
    throw Error(ErrorKind::input,
                fmt::format("{} of several materials, which only what folds again and again has",
                            name_of(kind())));
  }
  if (tint.materials.size() < 2 || tint.materials.size() > 16) {
    throw Error(ErrorKind::input,
                fmt::format("a tint over {} materials, expected 2 to 16", tint.materials.size()));
  }
  auto node = std::make_shared<Node>(this->node());
  node->tint = std::move(tint);
  return Field(std::move(node));
}

void Field::refuse_empty() {
  throw Error(ErrorKind::usage, "a field that was moved from, expected one that holds something");
}

bool Field::estimates() const { return folds(kind()) && !source()->steady(); }

Field Field::made_of(int material) const {
  auto node = std::make_shared<Node>(this->node());
  node->material = material;
  return Field(std::move(node));
}

}  // namespace photonlane
