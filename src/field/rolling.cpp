#include "photonlane/field/rolling.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <Eigen/LU>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <limits>

#include "field/way_down.hpp"

namespace photonlane {
namespace {

/// A body's mass: where its middle is and how it is spread, in its own space.
struct Mass {
  Vec3d middle{0, 0, 0};
  Mat3d inertia = Mat3d::Zero();

  explicit Mass(const RollingBody& body) {
    double volume = 0;
    for (const BodyBall& ball : body.balls) {
      const double own = ball.radius * ball.radius * ball.radius;
      volume += own;
      middle += own * ball.place;
    }
    middle /= volume;
    for (const BodyBall& ball : body.balls) {
      const double own = body.mass * ball.radius * ball.radius * ball.radius / volume;
      const Vec3d arm = ball.place - middle;
      inertia += own * ((0.4 * ball.radius * ball.radius + arm.squaredNorm()) * Mat3d::Identity() -
                        arm * arm.transpose());
    }
  }
};

void check(const RollingBody& body) {
  const auto refuse = [](const std::string& what) { throw Error(ErrorKind::input, what); };
  if (body.balls.empty()) refuse("a body of no balls");
  for (const BodyBall& ball : body.balls) {
    if (!(ball.radius > 0 && ball.radius <= 1e3) || !ball.place.allFinite()) {
      refuse(fmt::format("a body's ball of radius {}, expected one above 0", ball.radius));
    }
  }
  if (!(body.mass > 0 && std::isfinite(body.mass))) {
    refuse(fmt::format("a body of mass {}, expected one above 0", body.mass));
  }
  if (!(body.bounce >= 0 && body.bounce <= 1)) {
    refuse(fmt::format("a bounce of {}, expected 0 to 1", body.bounce));
  }
  if (!(body.friction >= 0 && std::isfinite(body.friction))) {
    refuse(fmt::format("a friction of {}, expected at least 0", body.friction));
  }
  if (!body.place.allFinite() || !body.velocity.allFinite() || !body.spin.allFinite() ||
      !body.turn.allFinite()) {
    refuse("a body whose place or speed is not finite");
  }
}

/// A ball beside a surface.
struct Touch {
  double gap = 0;
  Vec3d normal{0, 0, 1};
  double surface_speed = 0;  ///< of the surface along its normal
};

/// How bodies are while they move: by the middle of their mass, in flight and by impulses where
/// they touch (Mirtich and Canny, "Impulse-based Simulation of Rigid Bodies", 1995).
class Motion {
 public:
  Motion(RollingBody& body, const RollSettings& settings)
      : body_(body), mass_(body), gravity_(settings.gravity), settings_(settings) {
    set_turn(Eigen::Quaterniond(body_.turn));
    middle_ = body_.place + body_.turn * mass_.middle;
  }

  /// How much of the time to roll has passed, and how long the next step is.
  double done = 0;
  double step = 0;

  bool rests() const { return body_.still >= rest_after; }
  void wake() { body_.still = body_.slow = 0; }
  double speed() const {
    double arm = 0;
    for (const BodyBall& ball : body_.balls) {
      arm = std::max(arm, (ball.place - mass_.middle).norm() + ball.radius);
    }
    return body_.velocity.norm() + arm * body_.spin.norm();
  }
  double least_radius() const {
    double least = std::numeric_limits<double>::infinity();
    for (const BodyBall& ball : body_.balls) least = std::min(least, ball.radius);
    return least;
  }
  std::size_t ball_count() const { return body_.balls.size(); }
  Vec3d ball(std::size_t i) const {
    return middle_ + body_.turn * (body_.balls[i].place - mass_.middle);
  }
  double radius(std::size_t i) const { return body_.balls[i].radius; }

  /// On by a time, as if nothing were in the way.
  void fly(double time) {
    before_ = middle_;
    turn_before_ = body_.turn;
    velocity_before_ = body_.velocity;
    spin_before_ = body_.spin;
    energy_ = energy();
    given_ = 0;
    touched_ = false;
    middle_ += time * body_.velocity + 0.5 * time * time * gravity_;
    body_.velocity += time * gravity_;
    const double angle = time * body_.spin.norm();
    if (angle > 0) {
      const Vec3d momentum = inertia() * body_.spin;
      set_turn(Eigen::AngleAxisd(angle, body_.spin.normalized()) * Eigen::Quaterniond(body_.turn));
      body_.spin = inertia().inverse() * momentum;
    }
    const double kept = std::max(0.0, 1 - settings_.drag * time);
    body_.velocity *= kept;
    body_.spin *= kept;
  }

  /// Its balls have been looked at where they are now.
  void looked() { looked_ = middle_; }

  /// How far a ball is from a surface, after what others of its balls have moved it since the look.
  double gap_now(const Touch& touch) const {
    return touch.gap + (middle_ - looked_).dot(touch.normal);
  }

  /// Out of a surface, without any speed.
  void push_out(const Touch& touch) {
    const double gap = gap_now(touch);
    if (gap < 0) middle_ -= gap * touch.normal;
    body_.place = middle_ - body_.turn * mass_.middle;
  }

  /// Meets surfaces with its balls, all together: out of them, and what of the speed leads into
  /// them back. Balls that touch push one another, in turns, until none is pushed any more (Catto,
  /// "Iterative Dynamics with Temporal Coherence", 2005).
  void meet(const Touch* touches, double time) {
    contacts_.clear();
    for (std::size_t i = 0; i < ball_count(); ++i) {
      const Touch& touch = touches[i];
      if (touch.gap > 1e-3 * radius(i)) continue;
      touched_ = true;
      const double gap = gap_now(touch);
      if (gap < 0) {
        middle_ -= gap * touch.normal;
        // What comes up lifts what stands on it.
        if (touch.surface_speed > 0) given_ -= body_.mass * gravity_.dot(-gap * touch.normal);
      }
      contacts_.push_back({&touch, i});
    }
    const Mat3d inverse = inertia().inverse();
    for (Contact& contact : contacts_) contact.prepare(*this, inverse, time);
    constexpr int most_turns = 60;
    for (int turn = 0; turn < most_turns; ++turn) {
      double most = 0;
      for (Contact& contact : contacts_) most = std::max(most, contact.push(*this, inverse));
      if (most < 1e-9 * gravity_.norm() * time) break;
    }
    for (const Contact& contact : contacts_) {
      given_ += contact.impulse * std::max(contact.touch->surface_speed, 0.0);
    }
  }

  /// Removes energy that rounding or the solver added, and puts bodies to rest that hardly move.
  void settle(double time) {
    const double allowed = energy_ + given_;
    const double high = -body_.mass * gravity_.dot(middle_);
    const double moving = energy() - high;
    if (high + moving > allowed && moving > 0) {
      // In flight only turning can have gained any.
      const double linear = 0.5 * body_.mass * body_.velocity.squaredNorm();
      const bool both = touched_ || high + linear > allowed;
      const double left = std::max(0.0, allowed - high - (both ? 0 : linear));
      const double share = std::min(1.0, std::sqrt(left / (both ? moving : moving - linear)));
      if (both) body_.velocity *= share;
      body_.spin *= share;
    }
    if (high > allowed && given_ == 0) {
      // Pushed out of a surface to higher than it can have come: back to where it was.
      middle_ = before_;
      body_.turn = turn_before_;
    }
    body_.touching = touched_;
    const double slow = 4 * gravity_.norm() * settings_.step;
    const bool stands = touched_ && speed() < slow && (middle_ - before_).norm() < slow * time;
    // Nothing rests that something speeds up, however slow it is: at the highest place of its way,
    // or where a slope is gentle. What stays slow for long is held, as at the bottom of a bowl.
    body_.slow = stands ? body_.slow + time : 0;
    const double change = (body_.velocity - velocity_before_).norm() +
                          least_radius() * (body_.spin - spin_before_).norm();
    const bool steady = change <= 0.02 * gravity_.norm() * time || body_.slow >= held_after;
    body_.still = stands && steady ? body_.still + time : 0;
    if (body_.still >= rest_after) {
      body_.velocity.setZero();
      body_.spin.setZero();
    }
    body_.place = middle_ - body_.turn * mass_.middle;
  }
  void stay(double time) { body_.still += time; }

 private:
  /// One ball on a surface while impulses are found.
  struct Contact {
    const Touch* touch;
    std::size_t ball;
    Vec3d arm{0, 0, 0};
    double softness = 1;    ///< speed along the normal for an impulse of 1
    double softest = 1;     ///< the most along the surface
    double wanted = 0;      ///< speed along the normal that bouncing leaves
    double impulse = 0;     ///< along the normal, so far
    Vec3d rubbed{0, 0, 0};  ///< impulse along the surface, so far

    void prepare(const Motion& motion, const Mat3d& inverse, double time) {
      const Vec3d& normal = touch->normal;
      arm = motion.ball(ball) - motion.radius(ball) * normal - motion.middle_;
      const Mat3d cross = cross_matrix(arm);
      const Mat3d response = Mat3d::Identity() / motion.body_.mass - cross * inverse * cross;
      softness = normal.dot(response * normal);
      // Of any way along the surface no more than that.
      const Mat3d flat = Mat3d::Identity() - normal * normal.transpose();
      softest = (flat * response * flat).trace();
      const double into = speed(motion).dot(normal);
      // As slow as gravity makes it in some steps it does not bounce.
      const bool hard = -into > 8 * motion.gravity_.norm() * time;
      wanted = hard ? -motion.body_.bounce * into : 0;
    }
    Vec3d speed(const Motion& motion) const {
      return motion.body_.velocity + motion.body_.spin.cross(arm) -
             touch->surface_speed * touch->normal;
    }
    void give(Motion& motion, const Mat3d& inverse, const Vec3d& by) const {
      motion.body_.velocity += by / motion.body_.mass;
      motion.body_.spin += inverse * arm.cross(by);
    }
    /// One turn; by how much it changed the speed there.
    double push(Motion& motion, const Mat3d& inverse) {
      const Vec3d& normal = touch->normal;
      const double into = speed(motion).dot(normal);
      const double all = std::max(0.0, impulse + (wanted - into) / softness);
      const double more = all - impulse;
      impulse = all;
      give(motion, inverse, more * normal);
      const Vec3d slip = speed(motion);
      const Vec3d along = slip - slip.dot(normal) * normal;
      Vec3d rub = rubbed - along / softest;
      const double most = motion.body_.friction * impulse;
      if (rub.norm() > most) rub *= most / rub.norm();
      const Vec3d change = rub - rubbed;
      rubbed = rub;
      give(motion, inverse, change);
      return std::abs(more) * softness + change.norm() * softest;
    }
    static Mat3d cross_matrix(const Vec3d& a) {
      Mat3d result;
      result << 0, -a.z(), a.y(), a.z(), 0, -a.x(), -a.y(), a.x(), 0;
      return result;
    }
  };

  static constexpr double rest_after = 0.1;  // seconds
  static constexpr double held_after = 1;    // seconds

  /// A turn that stays one, however often it is added to.
  void set_turn(const Eigen::Quaterniond& turn) {
    body_.turn = turn.normalized().toRotationMatrix();
  }
  Mat3d inertia() const { return body_.turn * mass_.inertia * body_.turn.transpose(); }
  double energy() const {
    return 0.5 * body_.mass * body_.velocity.squaredNorm() +
           0.5 * body_.spin.dot(inertia() * body_.spin) - body_.mass * gravity_.dot(middle_);
  }

  RollingBody& body_;
  Mass mass_;
  Vec3d gravity_;
  const RollSettings& settings_;
  Vec3d middle_, before_{0, 0, 0};
  Mat3d turn_before_ = Mat3d::Identity();
  Vec3d looked_{0, 0, 0};  ///< the middle when its balls were looked at
  Vec3d velocity_before_{0, 0, 0}, spin_before_{0, 0, 0};
  std::vector<Contact> contacts_;
  double energy_ = 0;
  double given_ = 0;
  bool touched_ = false;
};

/// The place of a surface nearest to each of some, of those found from there and from places around
/// it, `around` away.
std::vector<Vec3d> nearest_on_surface(const CompiledField& field, const std::vector<Vec3d>& from,
                                      const std::vector<double>& around) {
  const Vec3d ways[] = {{0, 0, 0}, {1, 1, 1}, {1, -1, -1}, {-1, 1, -1}, {-1, -1, 1}};
  constexpr std::size_t count = std::size(ways);
  std::vector<Vec3d> starts;
  for (std::size_t i = 0; i < from.size(); ++i) {
    for (const Vec3d& way : ways) starts.emplace_back(from[i] + around[i] * way);
  }
  WayDown several(field, std::move(starts));
  several.go(6);
  std::vector<Vec3d> nearest;
  for (std::size_t i = 0; i < from.size(); ++i) {
    std::size_t best = count * i;
    for (std::size_t k = best + 1; k < count * (i + 1); ++k) {
      if ((several.at(k) - from[i]).norm() < (several.at(best) - from[i]).norm()) best = k;
    }
    nearest.push_back(several.at(best));
  }
  WayDown one(field, nearest);
  one.go(1);
  for (int turn = 0; turn < 2; ++turn) {
    one.slide(from);
    one.go(3);
    for (std::size_t i = 0; i < from.size(); ++i) {
      if ((one.at(i) - from[i]).norm() < (nearest[i] - from[i]).norm()) nearest[i] = one.at(i);
    }
  }
  return nearest;
}

/// What balls are beside, asked together. `past` is the field `ago` seconds before, or null.
std::vector<Touch> look(const CompiledField& field, const CompiledField* past, double ago,
                        const std::vector<Vec3d>& places, const std::vector<double>& radii) {
  std::vector<Touch> touches(places.size());
  const std::vector<FieldSlope> slopes = field.slopes(places);
  std::vector<std::size_t> unsure;
  std::vector<Vec3d> there;
  std::vector<double> around;
  for (std::size_t i = 0; i < places.size(); ++i) {
    const double steep = slopes[i].gradient.norm();
    const double away = steep > 1e-3 ? slopes[i].value / steep : slopes[i].value;
    touches[i].gap = away - radii[i];
    if (steep > 1e-9) touches[i].normal = slopes[i].gradient / steep;
    // An estimate may be far less than the distance, and more by what it is divided by.
    if (!field.has_estimates() || away > 3 * radii[i]) continue;
    unsure.push_back(i);
    there.push_back(places[i]);
    around.push_back(0.3 * radii[i]);
  }
  std::vector<Vec3d> nearest;
  if (!there.empty()) nearest = nearest_on_surface(field, there, around);
  for (std::size_t k = 0; k < unsure.size(); ++k) {
    const std::size_t i = unsure[k];
    const Vec3d way = there[k] - nearest[k];
    const double distance = way.norm();
    if (distance < 1e-9) continue;
    const double side = slopes[i].value < 0 ? -1 : 1;
    touches[i].gap = side * distance - radii[i];
    touches[i].normal = side / distance * way;
  }
  if (past != nullptr) {
    const std::vector<double> values = past->distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      const double steep = std::max(slopes[i].gradient.norm(), 1e-3);
      touches[i].surface_speed = (values[i] - slopes[i].value) / (steep * ago);
    }
  }
  return touches;
}

/// Wakes bodies at rest beside which something has moved.
void wake(const CompiledField& field, const CompiledField& past, std::vector<Motion>& all) {
  for (Motion& motion : all) {
    if (!motion.rests()) continue;
    std::vector<Vec3d> places;
    for (std::size_t i = 0; i < motion.ball_count(); ++i) places.push_back(motion.ball(i));
    const std::vector<double> now = field.distances(places);
    const std::vector<double> then = past.distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      if (std::abs(now[i] - then[i]) > 1e-9) motion.wake();
    }
  }
}

/// What the balls of some bodies are beside, in their order.
std::vector<Touch> look_around(const CompiledField& field, const CompiledField* past, double ago,
                               const std::vector<Motion*>& some) {
  std::vector<Vec3d> places;
  std::vector<double> radii;
  for (Motion* motion : some) {
    motion->looked();
    for (std::size_t i = 0; i < motion->ball_count(); ++i) {
      places.push_back(motion->ball(i));
      radii.push_back(motion->radius(i));
    }
  }
  return look(field, past, ago, places, radii);
}

/// Bodies that begin inside of the field are pushed out to where they touch it.
void begin_outside(const CompiledField& field, std::vector<Motion>& all) {
  std::vector<Motion*> inside;
  for (Motion& motion : all) {
    if (!motion.rests()) inside.push_back(&motion);
  }
  constexpr int most_rounds = 64;
  for (int round = 0; round < most_rounds && !inside.empty(); ++round) {
    const std::vector<Touch> touches = look_around(field, nullptr, 0, inside);
    std::vector<Motion*> still;
    std::size_t next = 0;
    for (Motion* motion : inside) {
      bool deep = false;
      for (std::size_t i = 0; i < motion->ball_count(); ++i, ++next) {
        deep = deep || touches[next].gap < -1e-2 * motion->radius(i);
      }
      if (!deep) continue;
      still.push_back(motion);
      for (std::size_t i = 0; i < motion->ball_count(); ++i) {
        motion->push_out(touches[next - motion->ball_count() + i]);
      }
    }
    inside = std::move(still);
  }
  if (inside.empty()) return;
  const auto which = inside.front() - all.data();
  throw Error(
      ErrorKind::input,
      fmt::format("body {} begins inside of the field, and no way out was found", which + 1));
}

void roll(const CompiledField& field, const CompiledField* past, double ago,
          std::span<RollingBody> bodies, double seconds, const RollSettings& settings) {
  std::vector<Motion> all;
  all.reserve(bodies.size());
  for (RollingBody& body : bodies) all.emplace_back(body, settings);
  if (past != nullptr) {
    wake(field, *past, all);
  } else {
    begin_outside(field, all);
  }
  // Each body takes steps of its own; those of all are looked at together.
  for (;;) {
    std::vector<Motion*> moving;
    for (Motion& motion : all) {
      const double left = seconds - motion.done;
      if (!(left > 0)) continue;
      if (motion.rests()) {
        motion.stay(left);
        motion.done = seconds;
        continue;
      }
      motion.step = std::min(settings.step, left);
      const double speed = motion.speed() + settings.gravity.norm() * motion.step;
      const double far = 0.25 * motion.least_radius() / std::max(speed, 1e-12);
      motion.step = std::min(std::max(std::min(motion.step, far), 1e-6), left);
      moving.push_back(&motion);
    }
    if (moving.empty()) return;
    for (Motion* motion : moving) motion->fly(motion->step);
    // Balls that touch at several places push one another: some rounds.
    std::vector<Motion*> deep = moving;
    for (int round = 0; round < 4 && !deep.empty(); ++round) {
      const std::vector<Touch> touches = look_around(field, past, ago, deep);
      std::vector<Motion*> still;
      std::size_t next = 0;
      for (Motion* motion : deep) {
        double deepest = 0;
        for (std::size_t i = 0; i < motion->ball_count(); ++i, ++next) {
          deepest = std::min(deepest, touches[next].gap / motion->radius(i));
        }
        motion->meet(&touches[next - motion->ball_count()], motion->step);
        if (deepest <= -1e-6) still.push_back(motion);
      }
      deep = std::move(still);
    }
    for (Motion* motion : moving) {
      motion->settle(motion->step);
      motion->done += motion->step;
    }
  }
}

void check(std::span<const RollingBody> bodies, double seconds, const RollSettings& settings) {
  for (const RollingBody& body : bodies) check(body);
  validate_knobs(roll_settings_knobs(), settings);
  if (!(seconds >= 0 && seconds <= 1e6)) {
    throw Error(ErrorKind::input, fmt::format("{} seconds of rolling, expected 0 to 1e6", seconds));
  }
}

}  // namespace

std::span<const Knob<RollSettings>> roll_settings_knobs() {
  static const Knob<RollSettings> table[] = {
      knob<&RollSettings::gravity>("gravity", "meters a second, for every second", {-1e3, 1e3},
                                   "what pulls bodies"),
      knob<&RollSettings::step>("step", "seconds", {1e-5, 0.05},
                                "at most between looks at what is around bodies"),
      knob<&RollSettings::drag>("drag", "a second", {0, 100}, "share of the speed that is lost"),
  };
  return table;
}

void roll(const CompiledField& field, std::span<RollingBody> bodies, double seconds,
          const RollSettings& settings) {
  check(bodies, seconds, settings);
  roll(field, nullptr, 0, bodies, seconds, settings);
}

void roll(const std::function<CompiledField(double time)>& field_at, std::span<RollingBody> bodies,
          double from, double to, const RollSettings& settings, double every) {
  check(bodies, to - from, settings);
  if (!(every > 0)) throw Error(ErrorKind::input, "a field asked never, expected some seconds");
  const auto steps = std::max<std::int64_t>(1, std::llround(std::ceil((to - from) / every - 1e-9)));
  const double share = (to - from) / static_cast<double>(steps);
  CompiledField past = field_at(from);
  for (std::int64_t i = 1; i <= steps; ++i) {
    CompiledField now = field_at(from + share * static_cast<double>(i));
    roll(now, &past, share, bodies, share, settings);
    past = std::move(now);
  }
}

std::vector<Vec3d> ball_places(const RollingBody& body) {
  std::vector<Vec3d> places;
  for (const BodyBall& ball : body.balls) places.push_back(body.place + body.turn * ball.place);
  return places;
}

Vec3d mass_middle(const RollingBody& body) { return body.place + body.turn * Mass(body).middle; }

double body_energy(const RollingBody& body, const Vec3d& gravity) {
  const Mass mass(body);
  return 0.5 * body.mass * body.velocity.squaredNorm() +
         0.5 * body.spin.dot(body.turn * mass.inertia * body.turn.transpose() * body.spin) -
         body.mass * gravity.dot(mass_middle(body));
}

}  // namespace photonlane
