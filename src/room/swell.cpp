#include "photonlane/room/swell.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace photonlane {
namespace {

/// How a lane changes over its length.
BentLane change(const Swell& swell, const Vec3d& axis, const BentLane& lane) {
  const SwellFactor factor = swell_factor(swell, lane.place);
  const double along = axis.dot(lane.momentum);
  const double inverse = 1 / factor.stretch;
  return {lane.momentum + (inverse * inverse - 1) * along * axis,
          along * along * inverse * inverse * inverse * factor.slope};
}

/// An explicit Runge-Kutta pair whose last stage is at the step's end.
template <BendMethod>
struct Pair;
template <>
struct Pair<BendMethod::second> {
  static constexpr int stages = 2;
  // By the midpoint: at a swell's rim, where a step may begin and end, nothing is bent.
  static constexpr double takes[2][2] = {{1.0 / 2}, {0, 1}};  ///< of the stages before each
  static constexpr double less[3] = {-1, 1};                  ///< what the lower order takes less
};
template <>
struct Pair<BendMethod::third> {
  static constexpr int stages = 3;
  static constexpr double takes[3][3] = {{1.0 / 2}, {0, 3.0 / 4}, {2.0 / 9, 1.0 / 3, 4.0 / 9}};
  static constexpr double less[4] = {-5.0 / 72, 1.0 / 12, 1.0 / 9, -1.0 / 8};
};
template <>
struct Pair<BendMethod::fifth> {
  static constexpr int stages = 6;
  static constexpr double takes[6][6] = {
      {1.0 / 5},
      {3.0 / 40, 9.0 / 40},
      {44.0 / 45, -56.0 / 15, 32.0 / 9},
      {19372.0 / 6561, -25360.0 / 2187, 64448.0 / 6561, -212.0 / 729},
      {9017.0 / 3168, -355.0 / 33, 46732.0 / 5247, 49.0 / 176, -5103.0 / 18656},
      {35.0 / 384, 0, 500.0 / 1113, 125.0 / 192, -2187.0 / 6784, 11.0 / 84}};
  static constexpr double less[7] = {71.0 / 57600,      0,          -71.0 / 16695, 71.0 / 1920,
                                     -17253.0 / 339200, 22.0 / 525, -1.0 / 40};
};

/// A lane in a swell's own measure: its middle is 0 and its radius 1.
struct Place {
  double p[3];
  double m[3];
};

/// How that changes over its length.
inline Place slope_of(const Place& at, const double* axis, double more) {
  const double rest =
      std::max(0.0, 1 - (at.p[0] * at.p[0] + at.p[1] * at.p[1] + at.p[2] * at.p[2]));
  const double along = axis[0] * at.m[0] + axis[1] * at.m[1] + axis[2] * at.m[2];
  const double inverse = 1 / (1 + more * rest * rest * rest);
  const double drag = (inverse * inverse - 1) * along;
  const double pull = along * along * inverse * inverse * inverse * (-6 * more * rest * rest);
  Place slope;
  for (int k = 0; k < 3; ++k) {
    slope.p[k] = at.m[k] + drag * axis[k];
    slope.m[k] = pull * at.p[k];
  }
  return slope;
}

inline double length_of(const double* v) {
  return std::sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]);
}

template <BendMethod method>
BentStep bend_by(const Swell& swell, const BentLane& lane, double length, double tolerance) {
  using Stages = Pair<method>;
  constexpr int stages = Stages::stages;
  const double scale = swell.radius;
  const double inverse = 1 / scale;
  const Vec3d unit = swell.axis.normalized();
  const double axis[3] = {unit.x(), unit.y(), unit.z()};
  const double more = swell.stretch - 1;
  const Place start{
      {(lane.place.x() - swell.at.x()) * inverse, (lane.place.y() - swell.at.y()) * inverse,
       (lane.place.z() - swell.at.z()) * inverse},
      {lane.momentum.x(), lane.momentum.y(), lane.momentum.z()}};
  const double wanted = tolerance * inverse;
  // Longer steps might not notice what is in the middle.
  constexpr double longest = 0.6;
  Place slopes[stages + 1];
  slopes[0] = slope_of(start, axis, more);
  double step = std::min(length * inverse, longest);
  for (;;) {
    Place end;
    for (int stage = 0; stage < stages; ++stage) {
      end = start;
      for (int k = 0; k <= stage; ++k) {
        const double share = step * Stages::takes[stage][k];
        for (int i = 0; i < 3; ++i) {
          end.p[i] += share * slopes[k].p[i];
          end.m[i] += share * slopes[k].m[i];
        }
      }
      slopes[stage + 1] = slope_of(end, axis, more);
    }
    double off[3] = {};
    double turned_off[3] = {};
    double turned[3];
    for (int k = 0; k <= stages; ++k) {
      for (int i = 0; i < 3; ++i) {
        off[i] += Stages::less[k] * slopes[k].p[i];
        turned_off[i] += Stages::less[k] * slopes[k].m[i];
      }
    }
    for (int i = 0; i < 3; ++i) turned[i] = slopes[stages].p[i] - slopes[0].p[i];
    // A direction that is off matters over the rest of the way.
    const double error = step * std::max(length_of(off), length_of(turned_off));
    // How far the way lies from its chord, which is what is looked along.
    const double bow = step * length_of(turned) / 8;
    const double by_bow = std::sqrt(wanted / std::max(bow, 1e-300));
    double by_error = std::sqrt(wanted / std::max(error, 1e-300));
    if (method != BendMethod::second) by_error = std::sqrt(by_error);
    const double factor = std::clamp(0.9 * std::min(by_error, by_bow), 0.2, 4.0);
    if ((error <= wanted && bow <= wanted) || step < 1e-9) {
      return {{swell.at + scale * Vec3d(end.p[0], end.p[1], end.p[2]),
               Vec3d(end.m[0], end.m[1], end.m[2])},
              step * scale,
              std::min(step * factor, longest) * scale};
    }
    step *= std::min(factor, 0.9);
  }
}

}  // namespace

std::span<const Knob<Swell>> swell_knobs() {
  static const Knob<Swell> table[] = {
      knob<&Swell::at>("at", "meters", {-1e7, 1e7}, "middle of the ball"),
      knob<&Swell::radius>("radius", "meters", {0, 1e6, true},
                           "radius of the ball, where the stretch has faded out"),
      knob<&Swell::axis>("axis", "", {-1e6, 1e6}, "the direction in which space is longer"),
      knob<&Swell::stretch>("stretch", "", {0.01, 100},
                            "factor by which lengths along the axis are longer in the middle"),
  };
  return table;
}

void validate(const Swell& swell) {
  validate_knobs(swell_knobs(), swell);
  if (!(swell.axis.norm() > 0)) {
    throw Error(ErrorKind::input, "a swell whose axis has no length, expected a direction");
  }
}

void check_apart(std::span<const Swell> swells) {
  if (swells.empty()) return;
  const Swell& last = swells.back();
  for (std::size_t i = 0; i + 1 < swells.size(); ++i) {
    if ((last.at - swells[i].at).norm() >= last.radius + swells[i].radius) continue;
    throw Error(ErrorKind::input, fmt::format("swells {} and {} of a room reach into one another",
                                              i + 1, swells.size()));
  }
}

SwellFactor swell_factor(const Swell& swell, const Vec3d& place) {
  const Vec3d off = (place - swell.at) / swell.radius;
  const double rest = 1 - off.squaredNorm();
  if (rest <= 0) return {};
  return {1 + (swell.stretch - 1) * rest * rest * rest,
          (swell.stretch - 1) * -6 * rest * rest / swell.radius * off};
}

Vec3d way_of(const Swell& swell, const BentLane& lane) {
  return change(swell, swell.axis.normalized(), lane).place.normalized();
}

BentLane bent_lane(const Swell& swell, const Vec3d& place, const Vec3d& way) {
  const Vec3d axis = swell.axis.normalized();
  const double stretch = swell_factor(swell, place).stretch;
  const double along = axis.dot(way);
  const double length = std::sqrt(1 + (stretch * stretch - 1) * along * along);
  return {place, (way + (stretch * stretch - 1) * along * axis) / length};
}

double energy(const Swell& swell, const BentLane& lane) {
  return lane.momentum.dot(change(swell, swell.axis.normalized(), lane).place);
}

BentStep bend_on(const Swell& swell, const BentLane& lane, double length, double tolerance,
                 BendMethod method) {
  switch (method) {
    case BendMethod::second:
      return bend_by<BendMethod::second>(swell, lane, length, tolerance);
    case BendMethod::third:
      return bend_by<BendMethod::third>(swell, lane, length, tolerance);
    case BendMethod::fifth:
      break;
  }
  return bend_by<BendMethod::fifth>(swell, lane, length, tolerance);
}

}  // namespace photonlane
