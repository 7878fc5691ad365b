#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <vector>

#include "fractal/double_double.hpp"
#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// What is done to points again and again: z^power + c of what the family makes of z, from 0 with
/// the point as c, or from the point with one c for all.
struct EscapeRule {
  PlaneFamily family = PlaneFamily::power;
  int power = 2;
  bool julia = false;
  DoubleDouble julia_x, julia_y;
};

/// Points of a plane that are iterated together.
struct PlanePoints {
  std::vector<double> high_x, high_y, low_x, low_y;  ///< numbers of two doubles

  std::size_t size() const { return high_x.size(); }
  void resize(std::size_t size) {
    for (auto* column : {&high_x, &high_y, &low_x, &low_y}) column->resize(size);
  }
  DoubleDouble x(std::size_t i) const { return {high_x[i], low_x[i]}; }
  DoubleDouble y(std::size_t i) const { return {high_y[i], low_y[i]}; }
};

/// How the orbits of points ended, in their order.
struct EscapeEnds {
  std::vector<std::uint64_t> count;  ///< steps until it was outside, or was given up
  std::vector<Ending> ending;  ///< escaped; hit: never escapes; spent: neither up to the limit
  std::vector<double> x, y;    ///< of those that escaped: where they were first outside
  /// Where asked for: how far the edge is, in the plane's units, and how near the orbit came to the
  /// trap.
  std::vector<double> distance, trap;
  std::uint64_t steps = 0;  ///< taken, of all

  void resize(std::size_t size);
};

/// The square of a stretch, from the first step on, below which an orbit is taken to be drawn in.
constexpr double drawn_in = 1e-20;

/// When orbits end.
struct EscapeStop {
  std::uint64_t limit = 1000;
  double radius = 64;
  bool forms = true;        ///< the largest parts of the power 2 by their closed forms
  bool periodicity = true;  ///< an orbit that comes back to where it was never escapes
  bool derivative = false;  ///< nor one that draws its surroundings together
};

/// Iterates points in one number type. The same at every vector width.
void iterate_float(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                   EscapeEnds& ends);
void iterate_double(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                    EscapeEnds& ends);
void iterate_double_double(const EscapeRule& rule, const EscapeStop& stop,
                           const PlanePoints& points, EscapeEnds& ends);

/// What more is found out along the way.
struct EscapeExtras {
  bool distance = false;
  std::optional<OrbitTrap> trap;
};

/// Finds that along orbits whose ends are known, by doubles or pairs of them.
void find_extras(const EscapeRule& rule, const EscapeExtras& extras, bool pairs,
                 const PlanePoints& points, EscapeEnds& ends);

/// True for points that the closed forms tell never escape.
bool in_largest_parts(double x, double y);

}  // namespace photonlane
