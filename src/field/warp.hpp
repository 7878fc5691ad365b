#pragma once

#include <algorithm>

#include "photonlane/field/source.hpp"

namespace photonlane {

/// The matrix of a turn about x, then y, then z, in radians.
Mat3d turn_matrix(const Vec3d& turn);

/// The largest factor by which a turn of `rate` radians a meter stretches lengths at a radius: the
/// larger singular value of the shear it is there.
double twist_stretch(double rate, double radius);

/// The same of a shear that also shrinks across: the largest singular value of [[1 / width, shear],
/// [0, 1]].
double shear_stretch(double width, double shear);

/// How many of `count` copies about the z axis reach, on either side, into the share of the circle
/// of the one between them; 0 where none does. Their bounds decide.
int copies_beside(int count, const Bounds& part);
/// The most that may.
constexpr int most_copies_around = 64;

/// What a part becomes that is as wide as factors say.
struct Taper {
  double foot, height;  ///< of the part, along z
  double at_foot, at_top;
  double radius;  ///< of the part
  double rim;     ///< up to which space is stretched by at most `stretch`
  double shear;   ///< per meter across
  double stretch;

  Taper(double foot_factor, double top_factor, const Bounds& part);
  double least() const { return std::min(at_foot, at_top); }
  double most() const { return std::max(at_foot, at_top); }
};

/// What a part becomes that lies along a circle.
struct Bend {
  double radius;
  double side;       ///< 1 where it bends upward, -1 downward
  double innermost;  ///< the least radius the part reaches
  double outermost;
  double reach;  ///< how far along x the part goes to either side

  Bend(double rate, const Bounds& part);
  double stretch() const { return radius / innermost; }
};

}  // namespace photonlane
