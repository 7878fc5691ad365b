#pragma once

///   const FieldMoved moved = move_body(ground, {.place = {0, 0, 1}, .radius = 0.3}, {2, 0, 0});

#include <span>
#include <vector>

#include "photonlane/field/compiled_field.hpp"

namespace photonlane {

/// A ball, or an upright capsule, moved through a field.
struct FieldBody {
  Vec3d place{0, 0, 0};  ///< the middle of its lowest ball
  double radius = 0.25;
  double height = 0;  ///< from there up to the middle of its highest; 0: a ball
  /// Surfaces push it sideways alone; floors and ceilings end what of its way leads into them.
  bool keeps_height = false;
};

/// Where a body and a surface are nearest.
struct FieldContact {
  double gap = 0;         ///< meters between them; below 0 the body reaches in by so much
  Vec3d normal{0, 0, 0};  ///< away from the surface, unit length
  double height = 0;      ///< of the ball of the body that is nearest, above its lowest
  bool touching() const { return gap < 1e-4; }
};

/// What a move came to.
struct FieldMoved {
  Vec3d place{0, 0, 0};
  int contacts = 0;       ///< surfaces it slid along or stopped at
  Vec3d normal{0, 0, 0};  ///< of the last of them
  bool stuck = false;     ///< it started in something it could not be pushed out of
  double left = 0;        ///< meters of its way that were too many steps for its size; as a rule 0
};

// Distances are those the field tells by its value and its gradient: exact where the field is a
// distance. A capsule is a row of balls, at most half their radius apart. Each takes one body, or
// many at once, which is cheaper for each. Throws Error (input) for radii and heights out of range.

FieldContact contact(const CompiledField& field, const FieldBody& body);
std::vector<FieldContact> contacts(const CompiledField& field, std::span<const FieldBody> bodies);

/// Moves a body by a way: out of what it reaches into, along the gradient, then on, and along the
/// surfaces it meets. No part of the way is skipped: however long it is, its balls' middles never
/// go through a surface. One that began clear ends clear: where surfaces leave no room, it stops
/// before them.
FieldMoved move_body(const CompiledField& field, const FieldBody& body, const Vec3d& way);
std::vector<FieldMoved> move_bodies(const CompiledField& field, std::span<const FieldBody> bodies,
                                    std::span<const Vec3d> ways);

/// The height of the highest surface below a place, at most `drop` meters down; without one the
/// height `drop` below.
double ground_below(const CompiledField& field, const Vec3d& place, double drop);

}  // namespace photonlane
