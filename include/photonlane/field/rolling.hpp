#pragma once

/// Bodies made of balls that fall, bounce, slide and roll on fields.
///
///   const CompiledField petal(field::measured(field::bulb(5)));
///   std::vector<RollingBody> dew(1);
///   dew[0].place = {0.1, 0, 1.4};
///   roll(petal, dew, 0.5);  // half a second later

#include <functional>
#include <span>
#include <vector>

#include "photonlane/field/compiled_field.hpp"

namespace photonlane {

/// One ball of a body, in the body's own space.
struct BodyBall {
  Vec3d place{0, 0, 0};
  double radius = 0.05;
};

/// Balls that keep together. Their mass is spread evenly in each, by volume; the body turns about
/// the middle of it all.
struct RollingBody {
  std::vector<BodyBall> balls{BodyBall{}};
  Vec3d place{0, 0, 0};            ///< of its own space's origin
  Mat3d turn = Mat3d::Identity();  ///< of its own space
  Vec3d velocity{0, 0, 0};         ///< of the middle of its mass, meters a second
  Vec3d spin{0, 0, 0};             ///< radians a second, about the middle of its mass
  double mass = 1;
  double bounce = 0.2;    ///< share of the speed toward a surface that comes back
  double friction = 0.6;  ///< force along a surface over force into it, at most
  double still = 0;       ///< seconds since it came to rest; it stays so until something moves
  double slow = 0;        ///< seconds since it was last faster than gravity makes it in a few steps
  bool touching = false;  ///< after the last step
};

struct RollSettings {
  Vec3d gravity{0, 0, -9.81};  ///< meters a second, for every second
  double step = 1.0 / 480;     ///< seconds at most between looks at the field; less where a body
                               ///< would go farther than a quarter of a ball
  double drag = 0;             ///< share of the speed lost a second
};
std::span<const Knob<RollSettings>> roll_settings_knobs();

/// Moves bodies on by so many seconds. A step never adds energy that gravity has not given before;
/// bodies that are slower than gravity makes them in a few steps, on something that holds them,
/// come to rest, where nothing speeds them up. Where the field is a distance bodies touch exactly;
/// where it is an estimate, what is nearest is looked for. Bodies do not meet one another, and how
/// one moves does not depend on others. A body that begins inside of the field is pushed out to
/// where it touches it. Throws Error (input) for bodies without balls, values out of range, and
/// bodies inside of the field from where no way out was found.
void roll(const CompiledField& field, std::span<RollingBody> bodies, double seconds,
          const RollSettings& settings = {});

/// The same while the field changes: `field_at` gives it at a time, asked every `every` seconds.
/// What moves pushes bodies, and may give them energy.
void roll(const std::function<CompiledField(double time)>& field_at, std::span<RollingBody> bodies,
          double from, double to, const RollSettings& settings = {}, double every = 0.01);

/// Where the balls of a body are, and the middle of its mass.
std::vector<Vec3d> ball_places(const RollingBody& body);
Vec3d mass_middle(const RollingBody& body);
/// Of moving and turning, and of being high, 0 at the origin: joules.
double body_energy(const RollingBody& body, const Vec3d& gravity);

}  // namespace photonlane
