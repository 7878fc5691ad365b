#include "photonlane/room/swell.hpp"

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
constexpr int most_stages = 6;
struct Pair {
  int stages;
  double takes[most_stages][most_stages];  ///< of each stage: what it takes of those before it
  double less[most_stages + 1];            ///< what the lower order takes less of each
  double power;                            ///< of the error, in a step's length
};
constexpr Pair pairs[] = {
    {2, {{1}, {1.0 / 2, 1.0 / 2}}, {-1.0 / 2, 1.0 / 2}, 1.0 / 2},
    {3,
     {{1.0 / 2}, {0, 3.0 / 4}, {2.0 / 9, 1.0 / 3, 4.0 / 9}},
     {-5.0 / 72, 1.0 / 12, 1.0 / 9, -1.0 / 8},
     1.0 / 3},
    {6,
     {{1.0 / 5},
      {3.0 / 40, 9.0 / 40},
      {44.0 / 45, -56.0 / 15, 32.0 / 9},
      {19372.0 / 6561, -25360.0 / 2187, 64448.0 / 6561, -212.0 / 729},
      {9017.0 / 3168, -355.0 / 33, 46732.0 / 5247, 49.0 / 176, -5103.0 / 18656},
      {35.0 / 384, 0, 500.0 / 1113, 125.0 / 192, -2187.0 / 6784, 11.0 / 84}},
     {71.0 / 57600, 0, -71.0 / 16695, 71.0 / 1920, -17253.0 / 339200, 22.0 / 525, -1.0 / 40},
     1.0 / 5}};

}  // namespace

std::span<const Knob<Swell>> swell_knobs() {
  static const Knob<Swell> table[] = {
      knob<&Swell::at>("at", "meters", {-1e7, 1e7}, "the middle"),
      knob<&Swell::radius>("radius", "meters", {0, 1e6, true}, "where it has faded out"),
      knob<&Swell::axis>("axis", "", {-1e6, 1e6}, "the direction in which space is longer"),
      knob<&Swell::stretch>("stretch", "", {0.01, 100}, "how many times longer, in the middle"),
  };
  return table;
}

void validate(const Swell& swell) {
  validate_knobs(swell_knobs(), swell);
  if (!(swell.axis.norm() > 0)) {
    throw Error(ErrorKind::input, "a swell whose axis has no length, expected a direction");
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
  const Pair& pair = pairs[static_cast<std::size_t>(method)];
  const Vec3d axis = swell.axis.normalized();
  const double scale = swell.radius;
  // Of the radius: longer steps might not notice what is in the middle.
  constexpr double longest = 0.6;
  BentLane slopes[most_stages + 1];
  slopes[0] = change(swell, axis, lane);
  length = std::min(length, longest * scale);
  for (;;) {
    BentLane end;
    for (int stage = 0; stage < pair.stages; ++stage) {
      end = lane;
      for (int k = 0; k <= stage; ++k) {
        const double share = length * pair.takes[stage][k];
        if (share == 0) continue;
        end.place += share * slopes[k].place;
        end.momentum += share * slopes[k].momentum;
      }
      slopes[stage + 1] = change(swell, axis, end);
    }
    Vec3d off(0, 0, 0);
    Vec3d turned_off(0, 0, 0);
    for (int k = 0; k <= pair.stages; ++k) {
      off += length * pair.less[k] * slopes[k].place;
      turned_off += length * pair.less[k] * slopes[k].momentum;
    }
    // A direction that is off matters over the rest of the way.
    const double error = std::max(off.norm(), scale * turned_off.norm());
    // How far the way lies from its chord, which is what is looked along.
    const double bow = length * (slopes[pair.stages].place - slopes[0].place).norm() / 8;
    const double by_error = 0.9 * std::pow(tolerance / std::max(error, 1e-300), pair.power);
    const double by_bow = 0.9 * std::sqrt(tolerance / std::max(bow, 1e-300));
    const double factor = std::clamp(std::min(by_error, by_bow), 0.2, 4.0);
    if ((error <= tolerance && bow <= tolerance) || length < 1e-9 * scale) {
      return {end, length, std::min(length * factor, longest * scale)};
    }
    length *= std::min(factor, 0.9);
  }
}

}  // namespace photonlane
