#include "photonlane/field/field.hpp"

#include <gmock/gmock.h>

#include <cmath>
#include <functional>

#include "photonlane/base/random.hpp"
#include "photonlane/field/compiled_field.hpp"
#include "photonlane/field/sample.hpp"
#include "support/effort.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace field;
using ::testing::HasSubstr;

double uniform(std::uint64_t which, std::uint32_t dimension, double low, double high) {
  return low + (high - low) * random_uniform({.pixel = which}, dimension);
}
Vec3d somewhere(std::uint64_t which, double reach) {
  return {uniform(which, 0, -reach, reach), uniform(which, 1, -reach, reach),
          uniform(which, 2, -reach, reach)};
}
Vec3d direction(std::uint64_t which, std::uint32_t first) {
  const double z = uniform(which, first, -1, 1);
  const double angle = uniform(which, first + 1, 0, 2 * pi);
  const double r = std::sqrt(1 - z * z);
  return {r * std::cos(angle), r * std::sin(angle), z};
}

/// A field and, worked out another way, which places are inside.
struct Known {
  std::string name;
  Field made;
  std::function<bool(const Vec3d&)> inside;
  bool exact = true;
  bool exact_inside = true;
};

bool in_star(double x, double y, int points, double radius, double inner) {
  double angle = std::atan2(y, x);
  const double step = 2 * pi / points;
  angle -= step * std::round(angle / step);
  const double r = std::hypot(x, y);
  const double px = r * std::cos(angle);
  const double py = std::abs(r * std::sin(angle));
  const double side_x = inner * std::cos(step / 2) - radius;
  const double side_y = inner * std::sin(step / 2);
  return (px - radius) * side_y - py * side_x < 0;
}

bool in_arc(double x, double y, double radius, double half_width, double angle) {
  const double at = std::atan2(y, x);
  if (std::abs(at) <= angle / 2) return std::abs(std::hypot(x, y) - radius) < half_width;
  const double end = angle / 2;
  return std::hypot(x - radius * std::cos(end), std::abs(y) - radius * std::sin(end)) < half_width;
}

/// Counterclockwise or not, with a notch.
std::span<const Vec2d> notched_corners() {
  static const std::vector<Vec2d> corners{
      {-0.8, -0.6}, {-0.7, 0.8}, {0.1, -0.1}, {0.6, 0.9}, {0.9, -0.2}};
  return corners;
}

/// How often a closed line goes around a place: by the angles its sides are seen under.
int turns_around(double x, double y, std::span<const Vec2d> corners) {
  double sum = 0;
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Vec2d a = corners[i] - Vec2d(x, y);
    const Vec2d b = corners[(i + 1) % corners.size()] - Vec2d(x, y);
    sum += std::atan2(a.x() * b.y() - a.y() * b.x(), a.dot(b));
  }
  return static_cast<int>(std::lround(sum / (2 * pi)));
}

/// In the box from the known fields that lies along a circle above (or below) the origin.
bool in_bent(const Vec3d& p, double rate, double side) {
  const double radius = 1 / rate;
  const Vec2d from_middle(p.x(), radius - side * p.z());
  const double along = radius * std::atan2(from_middle.x(), from_middle.y());
  const double up = radius - from_middle.norm();
  return std::abs(along - 0.2) < 0.7 && std::abs(p.y()) < 0.25 && std::abs(up - 0.1) < 0.2;
}

std::vector<Known> known_fields() {
  const auto ball = [](const Vec3d& middle, double radius) {
    return [=](const Vec3d& p) { return (p - middle).norm() < radius; };
  };
  const auto in_box = [](const Vec3d& size) {
    return [=](const Vec3d& p) { return (p.cwiseAbs() - 0.5 * size).maxCoeff() < 0; };
  };
  return {
      {"sphere", sphere(0.8), ball({0, 0, 0}, 0.8)},
      {"ellipsoid", ellipsoid({0.5, 0.9, 1.3}),
       [](const Vec3d& p) { return p.cwiseQuotient(Vec3d(0.5, 0.9, 1.3)).norm() < 1; }, false,
       false},
      {"box", box({1.2, 0.8, 1.6}), in_box({1.2, 0.8, 1.6})},
      {"rounded box", box({1.2, 0.8, 1.6}, 0.2),
       [](const Vec3d& p) {
         const Vec3d beyond = (p.cwiseAbs() - Vec3d(0.4, 0.2, 0.6)).cwiseMax(0.0);
         return beyond.norm() < 0.2;
       }},
      {"frame", frame({1.6, 1.2, 1.4}, 0.2),
       [](const Vec3d& p) {
         const Vec3d half(0.8, 0.6, 0.7);
         if ((p.cwiseAbs() - half).maxCoeff() >= 0) return false;
         int near = 0;
         for (int axis = 0; axis < 3; ++axis) near += std::abs(p[axis]) > half[axis] - 0.2;
         return near >= 2;
       },
       true, false},
      {"plane", plane({1, 2, -2}, 0.3),
       [](const Vec3d& p) { return p.dot(Vec3d(1, 2, -2) / 3) < 0.3; }},
      {"cylinder", cylinder(0.6, 1.4),
       [](const Vec3d& p) { return std::hypot(p.x(), p.y()) < 0.6 && std::abs(p.z()) < 0.7; }},
      {"capsule", capsule({-0.4, 0.1, -0.5}, {0.6, -0.2, 0.4}, 0.3),
       [](const Vec3d& p) {
         for (int i = 0; i <= 20000; ++i) {
           const Vec3d on = Vec3d(-0.4, 0.1, -0.5) + i / 20000.0 * Vec3d(1, -0.3, 0.9);
           if ((p - on).squaredNorm() < 0.09) return true;
         }
         return false;
       }},
      {"cone", cone(0.7, 0.2, 1.2),
       [](const Vec3d& p) {
         const double share = (p.z() + 0.6) / 1.2;
         return std::abs(p.z()) < 0.6 && std::hypot(p.x(), p.y()) < 0.7 + share * (0.2 - 0.7);
       }},
      {"torus", torus(0.8, 0.25),
       [](const Vec3d& p) { return std::hypot(std::hypot(p.x(), p.y()) - 0.8, p.z()) < 0.25; }},
      {"part of a torus", torus(0.8, 0.2, degrees(200)),
       [](const Vec3d& p) {
         const double at = std::atan2(p.y(), p.x());
         if (std::abs(at) <= degrees(100)) {
           return std::hypot(std::hypot(p.x(), p.y()) - 0.8, p.z()) < 0.2;
         }
         const Vec3d end(0.8 * std::cos(degrees(100)), 0.8 * std::sin(degrees(100)), 0);
         return (Vec3d(p.x(), std::abs(p.y()), p.z()) - end).norm() < 0.2;
       }},
      {"disc", disc(0.7, 0.2),
       [](const Vec3d& p) {
         return std::hypot(std::max(std::hypot(p.x(), p.y()) - 0.7, 0.0), p.z()) < 0.2;
       }},
      {"prism", prism(3, 0.9, 1.1),
       [](const Vec3d& p) {
         bool within = std::abs(p.z()) < 0.55;
         for (int side = 0; side < 3; ++side) {
           const double angle = (side + 0.5) * 2 * pi / 3;
           within = within && p.x() * std::cos(angle) + p.y() * std::sin(angle) < 0.45;
         }
         return within;
       }},
      {"pyramid", pyramid(1.4, 1.1),
       [](const Vec3d& p) {
         const double left = 0.7 * (0.55 - p.z()) / 1.1;
         return p.z() > -0.55 && std::abs(p.x()) < left && std::abs(p.y()) < left;
       }},
      {"flat pyramid", pyramid(1.6, 0.3),
       [](const Vec3d& p) {
         const double left = 0.8 * (0.15 - p.z()) / 0.3;
         return p.z() > -0.15 && std::abs(p.x()) < left && std::abs(p.y()) < left;
       }},
      {"folded ball", fold({1, 1, 0}, place({0.5, 0.3, 0.1}, sphere(0.3))),
       [](const Vec3d& p) {
         const bool own = (p - Vec3d(0.5, 0.3, 0.1)).norm() < 0.3;
         return own || (p - Vec3d(-0.3, -0.5, 0.1)).norm() < 0.3;
       }},
      {"extruded polygon", extrude(0.9, polygon(6, 0.8)),
       [](const Vec3d& p) {
         for (int side = 0; side < 6; ++side) {
           const double angle = (side + 0.5) * pi / 3;
           if (p.x() * std::cos(angle) + p.y() * std::sin(angle) > 0.8 * std::cos(pi / 6)) {
             return false;
           }
         }
         return std::abs(p.z()) < 0.45;
       }},
      {"extruded star", extrude(0.6, star(5, 0.9, 0.4)),
       [](const Vec3d& p) { return std::abs(p.z()) < 0.3 && in_star(p.x(), p.y(), 5, 0.9, 0.4); }},
      {"revolved arc", revolve(0.9, arc(0.35, 0.16, degrees(220))),
       [](const Vec3d& p) {
         return in_arc(std::hypot(p.x(), p.y()) - 0.9, p.z(), 0.35, 0.08, degrees(220));
       }},
      {"revolved rectangle", revolve(0.7, rectangle(0.3, 0.8)),
       [](const Vec3d& p) {
         return std::abs(std::hypot(p.x(), p.y()) - 0.7) < 0.15 && std::abs(p.z()) < 0.4;
       }},
      {"placed box", place({0.3, -0.2, 0.1}, box({1, 0.6, 0.4}), {0, 0, degrees(90)}, 1.5),
       [](const Vec3d& p) {
         const Vec3d q = p - Vec3d(0.3, -0.2, 0.1);
         return std::abs(q.x()) < 0.45 && std::abs(q.y()) < 0.75 && std::abs(q.z()) < 0.3;
       }},
      {"offset box", offset(0.15, box({0.8, 0.6, 1})),
       [](const Vec3d& p) {
         return (p.cwiseAbs() - Vec3d(0.4, 0.3, 0.5)).cwiseMax(0.0).norm() < 0.15;
       }},
      {"shell", shell(0.2, sphere(0.8)),
       [](const Vec3d& p) { return std::abs(p.norm() - 0.8) < 0.1; }},
      {"joined spheres", join({sphere(0.5), place({0.6, 0, 0.3}, sphere(0.4))}),
       [](const Vec3d& p) { return p.norm() < 0.5 || (p - Vec3d(0.6, 0, 0.3)).norm() < 0.4; }, true,
       false},
      {"meeting spheres", meet({sphere(0.8), place({0.6, 0, 0}, sphere(0.8))}),
       [](const Vec3d& p) { return p.norm() < 0.8 && (p - Vec3d(0.6, 0, 0)).norm() < 0.8; }, false,
       true},
      {"carved box", carve({box({1.2, 1.2, 1.2}), sphere(0.75)}),
       [](const Vec3d& p) { return p.cwiseAbs().maxCoeff() < 0.6 && p.norm() > 0.75; }, false,
       true},
      {"pulled apart", elongate({0.6, 0, 0.2}, sphere(0.4)),
       [](const Vec3d& p) {
         const Vec3d half(0.3, 0, 0.1);
         return (p - p.cwiseMax(-half).cwiseMin(half)).norm() < 0.4;
       },
       true, false},
      {"row without end", repeat({0.9, 0, 0}, {0, 0, 0}, place({0.1, 0, 0}, sphere(0.3))),
       [](const Vec3d& p) {
         for (int i = -5; i <= 5; ++i) {
           if ((p - Vec3d(0.1 + 0.9 * i, 0, 0)).norm() < 0.3) return true;
         }
         return false;
       }},
      {"rows of boxes", repeat({0.7, 0.8, 0}, {2, 3, 1}, box({0.5, 0.5, 0.6})),
       [](const Vec3d& p) {
         for (const double x : {-0.35, 0.35}) {
           for (const double y : {-0.8, 0.0, 0.8}) {
             if ((p - Vec3d(x, y, 0)).cwiseAbs().cwiseQuotient(Vec3d(0.25, 0.25, 0.3)).maxCoeff() <
                 1) {
               return true;
             }
           }
         }
         return false;
       }},
      {"wider than its cell", repeat({0.5, 0, 0}, {4, 0, 0}, place({0.15, 0, 0}, sphere(0.3))),
       [](const Vec3d& p) {
         for (int i = 0; i < 4; ++i) {
           if ((p - Vec3d(0.15 + 0.5 * (i - 1.5), 0, 0)).norm() < 0.3) return true;
         }
         return false;
       },
       true, false},
      {"around", around(5, place({0.8, 0.1, 0}, sphere(0.25))),
       [](const Vec3d& p) {
         for (int i = 0; i < 5; ++i) {
           const double angle = 2 * pi * i / 5;
           const Vec3d middle(0.8 * std::cos(angle) - 0.1 * std::sin(angle),
                              0.8 * std::sin(angle) + 0.1 * std::cos(angle), 0);
           if ((p - middle).norm() < 0.25) return true;
         }
         return false;
       }},
      {"mirrored", mirror(SpaceAxis::y, place({0, 0.6, 0}, box({0.8, 0.5, 0.5}))),
       [](const Vec3d& p) {
         return std::abs(p.x()) < 0.4 && std::abs(std::abs(p.y()) - 0.6) < 0.25 &&
                std::abs(p.z()) < 0.25;
       }},
      {"twisted", twist(degrees(70), box({0.8, 0.3, 1.6})),
       [](const Vec3d& p) {
         const double angle = -degrees(70) * p.z();
         const double x = p.x() * std::cos(angle) - p.y() * std::sin(angle);
         const double y = p.x() * std::sin(angle) + p.y() * std::cos(angle);
         return std::abs(x) < 0.4 && std::abs(y) < 0.15 && std::abs(p.z()) < 0.8;
       },
       false, false},
      {"outline", extrude(0.8, outline(notched_corners())),
       [](const Vec3d& p) {
         return std::abs(p.z()) < 0.4 && turns_around(p.x(), p.y(), notched_corners()) != 0;
       }},
      {"tapered", taper(1.3, 0.5, place({0.1, 0, 0}, box({0.9, 0.7, 1.4}))),
       [](const Vec3d& p) {
         const double width = 1.3 - 0.8 * (p.z() + 0.7) / 1.4;
         return std::abs(p.z()) < 0.7 && std::abs(p.x() / width - 0.1) < 0.45 &&
                std::abs(p.y()) < 0.35 * width;
       },
       false, false},
      {"bent", bend(degrees(80), place({0.2, 0, 0.1}, box({1.4, 0.5, 0.4}))),
       [](const Vec3d& p) { return in_bent(p, degrees(80), 1); }, false, false},
      {"bent down", bend(degrees(-80), place({0.2, 0, -0.1}, box({1.4, 0.5, 0.4}))),
       [](const Vec3d& p) { return in_bent(p, degrees(80), -1); }, false, false},
  };
}

TEST(Fields, HaveTheDistanceOfTheNearestPointOfTheirSurface) {
  for (const Known& known : known_fields()) {
    const CompiledField compiled(known.made);
    int looked_at = 0;
    const std::uint64_t tried = test::effort(test::little_effort(160));
    for (std::uint64_t i = 0; i < tried; ++i) {
      const Vec3d at = somewhere(i, 1.6);
      const double value = compiled.distance(at);
      const double distance = std::abs(value) / known.made.stretch();
      const bool inside = known.inside(at);
      if (std::abs(value) > 1e-9) {
        ASSERT_EQ(value < 0, inside) << known.name << " at " << at.transpose();
      }
      // Nothing is nearer: all the ball around is on the same side.
      for (std::uint64_t k = 0; k < 60; ++k) {
        const double share = k < 40 ? 1 - 1e-6 : std::cbrt(uniform(i * 64 + k, 9, 0, 1));
        const Vec3d near = at + share * distance * direction(i * 64 + k, 5);
        if (known.inside(near) != inside) {
          // Where rounding may decide.
          ASSERT_LT(std::abs(compiled.distance(near)), 1e-6) << known.name << at.transpose();
        }
      }
      // And something is there.
      const bool exact = inside ? known.exact_inside && known.exact : known.exact;
      if (!exact || distance < 1e-6) continue;
      const Vec3d foot = at - value * compiled.gradient(at).normalized();
      // At a sharp point the middle's side is the only one with anything on it.
      bool other_side = known.inside(foot - 1e-4 * foot.normalized()) != inside;
      for (std::uint64_t k = 0; k < 100 && !other_side; ++k) {
        other_side = known.inside(foot + 1e-4 * direction(i * 128 + k, 15)) != inside;
      }
      ++looked_at;
      ASSERT_TRUE(other_side) << known.name << " at " << at.transpose();
    }
    EXPECT_EQ(looked_at > static_cast<int>(tried / 2), known.exact) << known.name;
  }
}

/// Fields of every kind of operation.
std::vector<Field> mixed_fields() {
  std::vector<Field> fields;
  for (const Known& known : known_fields()) fields.push_back(known.made);
  for (const Profile profile : {Profile::polynomial, Profile::circular}) {
    const std::vector<Field> parts{box({0.9, 0.7, 0.5}), place({0.3, 0.2, 0.3}, sphere(0.4)),
                                   place({-0.4, 0, 0.2}, torus(0.4, 0.12))};
    fields.push_back(join(0.2, parts, profile));
    fields.push_back(meet(0.15, {parts[0], parts[1]}, profile));
    fields.push_back(carve(0.2, parts, profile));
  }
  fields.push_back(waves(0.03, 0.4, sphere(0.8)));
  fields.push_back(noise(0.04, 0.5, 3, box({0.9, 0.7, 0.8}, 0.1)));
  fields.push_back(noise(0.08, 0.4, 2, sphere(0.8), NoiseForm::gradient));
  fields.push_back(heights(sample_heights({1.6, 1.2}, 24, 18,
                                          [](double x, double y) {
                                            return 0.4 + 0.2 * std::sin(4 * x) * std::cos(3 * y);
                                          }),
                           {1.6, 1.2, 1}));
  fields.push_back(volume(std::make_shared<const Volume>(
      sample_volume(join(0.1, {box({0.9, 0.7, 0.5}), place({0.3, 0.2, 0.3}, sphere(0.4))}),
                    {.points = 24, .padding = 0.1}))));
  fields.push_back(function({.name = "egg",
                             .bounds = {{-0.7, -0.7, -1}, {0.7, 0.7, 1}},
                             .stretch = 1,
                             .looseness = 1 / 0.7,

                             .values = [](const SourceBatch<double>& batch) {
                               for (std::size_t i = 0; i < batch.count; ++i) {
                                 const double z = batch.z[i] * 0.7;
                                 batch.value[i] = std::hypot(batch.x[i], batch.y[i], z) - 0.7;
                               }
                             }}));
  fields.push_back(taper(0.7, 1.5, join(0.1, {box({0.6, 0.4, 0.8}), sphere(0.4)})));
  fields.push_back(bend(degrees(150), join(0.05, {box({1.8, 0.2, 0.1}), sphere(0.2)})));
  fields.push_back(
      bend(degrees(100), repeat({0.5, 0, 0}, {3, 1, 1}, twist(2, box({0.3, 0.2, 0.4})))));
  fields.push_back(
      fold({1, 2, 0.5}, place({0.3, 0.2, 0.1}, box({0.5, 0.4, 0.3}), {0.3, 0.2, 0.9})));
  fields.push_back(invert(join(0.1, {sphere(0.4), cylinder(0.2, 1.5, 0.05)})));
  fields.push_back(twist(degrees(120), join(0.1, {box({0.6, 0.2, 1}), cone(0.3, 0, 1.3)})));
  fields.push_back(around(
      7, place({0.7, 0, 0}, carve(0.05, {box({0.4, 0.5, 0.6}), sphere(0.2)}), {0.2, -0.4, 0.7})));
  return fields;
}

TEST(Fields, GrowByNoMoreThanTheirStretch) {
  for (const Field& one : mixed_fields()) {
    const CompiledField compiled(one);
    for (std::uint64_t i = 0; i < 1500; ++i) {
      const Vec3d from = somewhere(i, 1.3);
      const Vec3d to = from + uniform(i, 7, 0.001, 0.4) * direction(i, 8);
      const double grown = std::abs(compiled.distance(to) - compiled.distance(from));
      // Outside a twist the value is a bound but not as even: there stepping is what has to be
      // safe.
      if (one.kind() == FieldKind::twist || one.kind() == FieldKind::taper ||
          one.kind() == FieldKind::bend) {
        continue;
      }
      ASSERT_LE(grown, one.stretch() * (to - from).norm() * (1 + 1e-9) + 1e-12)
          << name_of(one.kind()) << " from " << from.transpose();
    }
  }
}

TEST(Fields, BoundsHoldThemHoweverTheyGrow) {
  std::vector<Field> fields = mixed_fields();
  for (const Field& one : mixed_fields()) {
    fields.push_back(offset(0.2, one));
    fields.push_back(waves(0.15, 0.5, place({0.1, 0, 0}, one, {0.4, 0.8, 0.3})));
    fields.push_back(join(0.4, {one, sphere(0.2)}));
  }
  fields.push_back(offset(0.2, ellipsoid({0.3, 0.3, 1.2})));
  fields.push_back(shell(0.3, place({0, 0, 0}, ellipsoid({0.3, 0.3, 1.2}), {0.7, 0, 0})));
  for (const Field& one : fields) {
    const CompiledField compiled(one);
    for (std::uint64_t i = 0; i < 1500; ++i) {
      const Vec3d at = somewhere(i, 2.6);
      if (compiled.distance(at) > 0) continue;
      const Bounds& bounds = one.bounds();
      ASSERT_TRUE((at.array() >= bounds.low.array()).all() &&
                  (at.array() <= bounds.high.array()).all())
          << name_of(one.kind()) << " of "
          << name_of(one.parts().empty() ? one.kind() : one.parts()[0].kind()) << " at "
          << at.transpose();
    }
  }
}

TEST(Fields, GradientsAreThoseOfDifferences) {
  for (const Field& one : mixed_fields()) {
    const CompiledField compiled(one);
    int other = 0;
    for (std::uint64_t i = 0; i < 400; ++i) {
      const Vec3d at = somewhere(i, 1.3);
      const Vec3d gradient = compiled.gradient(at);
      Vec3d differences;
      for (int axis = 0; axis < 3; ++axis) {
        const Vec3d step = 1e-6 * Vec3d::Unit(axis);
        differences[axis] = (compiled.distance(at + step) - compiled.distance(at - step)) / 2e-6;
      }
      other += (gradient - differences).norm() > 1e-4;
    }
    // Only where a difference straddles a crease.
    EXPECT_LE(other, 3) << name_of(one.kind());
  }
}

TEST(Fields, SmoothSeamsFollowTheirFormulas) {
  const Field a = plane({1, 0, 0});
  const Field b = plane({0, 1, 0});
  const CompiledField polynomial(join(0.4, {a, b}));
  const CompiledField circular(join(0.4, {a, b}, Profile::circular));
  const CompiledField meeting(meet(0.4, {a, b}));
  for (std::uint64_t i = 0; i < 300; ++i) {
    const Vec3d at = somewhere(i, 1);
    const double h = std::max(0.4 - std::abs(at.x() - at.y()), 0.0);
    EXPECT_NEAR(polynomial.distance(at), std::min(at.x(), at.y()) - h * h / 1.6, 1e-12);
    EXPECT_NEAR(meeting.distance(at), std::max(at.x(), at.y()) + h * h / 1.6, 1e-12);
    // The fillet is a circle of radius 0.4 about (0.4, 0.4).
    if (at.x() < 0.4 && at.y() < 0.4) {
      EXPECT_NEAR(circular.distance(at), 0.4 - std::hypot(0.4 - at.x(), 0.4 - at.y()), 1e-12);
    }
  }
}

TEST(Fields, ClosestPointsAreOnTheSurfaceAndClosest) {
  for (const Known& known : known_fields()) {
    const CompiledField compiled(known.made);
    std::vector<Vec3d> places;
    for (std::uint64_t i = 0; i < test::little_effort(200); ++i) {
      places.push_back(somewhere(i, 1.5));
    }
    const std::vector<Vec3d> closest = compiled.closest_points(places);
    const std::vector<double> there = compiled.distances(closest);
    const std::vector<double> away = compiled.distances(places);
    int off = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
      off += std::abs(there[i]) > 1e-6;
      const double distance = (closest[i] - places[i]).norm();
      ASSERT_GE(distance, std::abs(away[i]) / known.made.stretch() - 1e-6) << known.name;
      const bool inside = away[i] < 0;
      if (known.exact && (!inside || known.exact_inside)) {
        EXPECT_NEAR(distance, std::abs(away[i]), 1e-6) << known.name << places[i].transpose();
      }
    }
    EXPECT_LE(off, 4) << known.name;
  }
}

TEST(Fields, CalmOnesHaveTheSameSurfaceAndLongSteps) {
  std::vector<Field> fields = mixed_fields();
  for (const Field& one : mixed_fields()) {
    fields.push_back(join({place({0.2, 0, 0.1}, waves(0.05, 0.3, one), {0, 0.2, 0.4}, 0.8),
                           place({1, 1, 0}, sphere(0.3))}));
    fields.push_back(carve({box({1.4, 1.2, 1}), noise(0.03, 0.2, 2, one)}));
  }
  for (const Field& one : fields) {
    const Field calmed = calm(one);
    EXPECT_LE(calmed.stretch(), 1 + 1e-9) << name_of(one.kind());
    const CompiledField own(one);
    const CompiledField quiet(calmed);
    for (std::uint64_t i = 0; i < 500; ++i) {
      const Vec3d at = somewhere(i, 1.5);
      const double value = own.distance(at);
      if (std::abs(value) < 1e-9) continue;
      ASSERT_EQ(quiet.distance(at) < 0, value < 0) << name_of(one.kind()) << at.transpose();
    }
  }
  // Far from it roughness costs nothing: all but twice its height of the way is free.
  const CompiledField far(calm(place({0, 0, 0}, noise(0.1, 0.1, 3, sphere(0.5)), {0, 0, 1})));
  EXPECT_GT(far.distance({0, 3, 0}), 2.5 - 0.2 - 1e-3);
  EXPECT_LE(far.distance({0, 3, 0}), 2.5);
}

TEST(Fields, TellWhatTheirSurfaceIsMadeOf) {
  const Field left = place({-0.5, 0, 0}, sphere(0.6)).made_of(3);
  const Field right = place({0.5, 0, 0}, sphere(0.6)).made_of(5);
  const CompiledField sharp(join({left, right}));
  EXPECT_EQ(sharp.material({-1, 0, 0}).material, 3);
  EXPECT_EQ(sharp.material({1, 0, 0}).material, 5);
  EXPECT_EQ(sharp.material({1, 0, 0}).share, 0);
  const CompiledField smooth(join(0.3, {left, right}));
  EXPECT_EQ(smooth.material({-1.2, 0, 0}).share, 0);
  EXPECT_NEAR(smooth.material({1e-9, 0, 0.4}).share, 0.5, 1e-6);
  EXPECT_EQ(smooth.material({0.02, 0, 0.4}).material, 5);
  EXPECT_EQ(smooth.material({0.02, 0, 0.4}).other, 3);
  // What has none takes that of what it is in.
  const CompiledField within(join({sphere(1), place({3, 0, 0}, sphere(1)).made_of(2)}).made_of(9));
  EXPECT_EQ(within.material({0, 0, 0}).material, 9);
  EXPECT_EQ(within.material({3, 0, 0}).material, 2);
  EXPECT_EQ(CompiledField(sphere(1)).material({0, 0, 0}).material, -1);
}

TEST(Fields, TheSameBitsForEveryVectorWidth) {
  std::vector<Vec3d> places;
  for (std::uint64_t i = 0; i < 77; ++i) places.push_back(somewhere(i, 1.4));
  for (const Field& one : mixed_fields()) {
    const CompiledField compiled(one);
    std::optional<std::vector<double>> expected;
    test::for_each_target([&](const char* target) {
      std::vector<double> values = compiled.distances(places);
      for (const Vec3d& gradient : compiled.gradients(places)) {
        values.insert(values.end(), {gradient.x(), gradient.y(), gradient.z()});
      }
      if (!expected) expected = values;
      EXPECT_EQ(values, *expected) << target << " " << name_of(one.kind());
    });
  }
}

std::string refusal(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TEST(Fields, ManyPlacesGetTheSameBitsAsEachAlone) {
  std::vector<Field> parts = mixed_fields();
  for (std::size_t i = 0; i < parts.size(); ++i) {
    parts[i] = place(3 * somewhere(i, 2), parts[i]);
  }
  const CompiledField compiled(join(parts));
  // Near one another for a while, then elsewhere, and some nowhere near the rest.
  std::vector<Vec3d> places;
  for (std::uint64_t i = 0; i < 1000; ++i) {
    places.push_back(somewhere(i / 50, 6) + somewhere(1000 + i, i % 97 == 0 ? 5 : 0.1));
  }
  // Little clouds beside one another: what matters is not the same in all of them.
  for (std::uint64_t i = 0; i < 40000; ++i) {
    places.push_back(somewhere(i / 128, 6) + somewhere(9000 + i / 16, 0.7) +
                     somewhere(20000 + i, 0.05));
  }
  const std::vector<double> together = compiled.distances(places);
  for (std::size_t i = 0; i < places.size(); ++i) {
    EXPECT_EQ(together[i], compiled.distance(places[i])) << i;
  }
}

TEST(Fields, ThoseThatCannotBeAreRefused) {
  EXPECT_THAT(refusal([] { sphere(0); }), HasSubstr("sphere: radius: found '0', expected number"));
  EXPECT_THAT(refusal([] { sphere(-1); }), HasSubstr("more than 0"));
  EXPECT_THAT(refusal([] { sphere(std::nan("")); }), HasSubstr("sphere: radius"));
  EXPECT_THAT(refusal([] { box({1, 0, 1}); }), HasSubstr("box: size"));
  EXPECT_THAT(refusal([] { box({1, 0.2, 1}, 0.15); }), HasSubstr("round is more than half"));
  EXPECT_THAT(refusal([] { plane({0, 0, 0}); }), HasSubstr("a normal of no length"));
  EXPECT_THAT(refusal([] { polygon(2, 1); }), HasSubstr("polygon: sides"));
  EXPECT_THAT(refusal([] {
                place({0, 0, 0}, sphere(1), {0, 0, 0}, 0);
              }),
              HasSubstr("place: scale"));
  EXPECT_THAT(refusal([] { join({}); }), HasSubstr("join of 0 parts, expected at least one"));
  EXPECT_THAT(refusal([] {
                repeat({1, 0, 0}, {0, 0, 0}, sphere(1.2));
              }),
              HasSubstr("reaches 1.2 m along x, expected at most its spacing of 1 m"));
  EXPECT_THAT(refusal([] {
                repeat({1, 0, 0}, {1.5, 0, 0}, sphere(0.2));
              }),
              HasSubstr("whole numbers"));
  EXPECT_THAT(refusal([] { twist(1, plane({0, 0, 1})); }), HasSubstr("without end in x or y"));
  EXPECT_THAT(refusal([] { Field(FieldKind::sphere, {1, 2}); }), HasSubstr("sphere of 2 numbers"));
  EXPECT_THAT(refusal([] {
                Field deep = sphere(1);
                for (int i = 0; i < 300; ++i) deep = offset(0.001, deep);
              }),
              HasSubstr("more than 200 operations deep"));
}

TEST(Fields, TenThousandNodesWork) {
  std::vector<Field> parts;
  for (std::uint64_t i = 0; i < 5000; ++i) parts.push_back(place(somewhere(i, 40), sphere(0.3)));
  const Field many = join(parts);
  EXPECT_EQ(many.node_count(), 10001u);
  const CompiledField compiled(many);
  const Vec3d at = somewhere(77777, 30);
  double nearest = 1e9;
  for (std::uint64_t i = 0; i < 5000; ++i) {
    nearest = std::min(nearest, (somewhere(i, 40) - at).norm() - 0.3);
  }
  EXPECT_NEAR(compiled.distance(at), nearest, 1e-9);
}

}  // namespace
}  // namespace photonlane
