// Compiled fields against their trees walked node by node, by the textbook's formulas.

#include <gtest/gtest.h>

#include <Eigen/Geometry>

#include <cmath>
#include <limits>

#include "photonlane/photonlane.hpp"
#include "support/trees.hpp"

namespace photonlane {
namespace {

double outside_of(double a, double b) {
  return std::min(std::max(a, b), 0.0) + std::hypot(std::max(a, 0.0), std::max(b, 0.0));
}

double box_distance(const Vec3d& p, const Vec3d& half) {
  const Vec3d q = p.cwiseAbs() - half;
  return q.cwiseMax(0.0).norm() + std::min(q.maxCoeff(), 0.0);
}

/// The lesser of two with a seam: a parabola of their difference, or a quarter of a circle.
double seam(double a, double b, double radius, double profile) {
  if (radius == 0) return std::min(a, b);
  if (profile == 0) {
    const double h = std::max(radius - std::abs(a - b), 0.0) / radius;
    return std::min(a, b) - h * h * radius / 4;
  }
  const double near = std::hypot(std::max(radius - a, 0.0), std::max(radius - b, 0.0));
  return std::max(radius, std::min(a, b)) - near;
}

Mat3d turned(double x, double y, double z) {
  return (Eigen::AngleAxis<double>(z, Vec3d::UnitZ()) *
          Eigen::AngleAxis<double>(y, Vec3d::UnitY()) * Eigen::AngleAxis<double>(x, Vec3d::UnitX()))
      .toRotationMatrix();
}

double walk(const Field& field, const Vec3d& p);

double walk_copies(const Field& field, const Vec3d& p) {
  const std::vector<double>& n = field.numbers();
  double least = std::numeric_limits<double>::infinity();
  if (field.kind() == FieldKind::around) {
    for (int i = 0; i < static_cast<int>(n[0]); ++i) {
      const Mat3d turn = turned(0, 0, 2 * pi * i / n[0]);
      least = std::min(least, walk(field.parts().front(), turn.transpose() * p));
    }
    return least;
  }
  // Far copies are not the nearest: a few about the place do where there is no end.
  const auto copies = [&](int axis) {
    std::vector<double> at;
    const double spacing = n[axis];
    const double count = n[3 + axis];
    if (spacing == 0 || count == 1) return std::vector<double>{0};
    if (count == 0) {
      const double middle = std::round(p[axis] / spacing);
      for (int i = -3; i <= 3; ++i) at.push_back((middle + i) * spacing);
    } else {
      for (int i = 0; i < count; ++i) at.push_back((i - (count - 1) / 2) * spacing);
    }
    return at;
  };
  for (const double x : copies(0)) {
    for (const double y : copies(1)) {
      for (const double z : copies(2)) {
        least = std::min(least, walk(field.parts().front(), p - Vec3d(x, y, z)));
      }
    }
  }
  return least;
}

double walk(const Field& field, const Vec3d& p) {
  const std::vector<double>& n = field.numbers();
  const auto part = [&](std::size_t i = 0) -> const Field& { return field.parts()[i]; };
  const auto over_parts = [&](bool inside_out, bool rest_inside_out) {
    double value = walk(part(), p) * (inside_out ? -1 : 1);
    for (std::size_t i = 1; i < field.parts().size(); ++i) {
      value = seam(value, walk(part(i), p) * (rest_inside_out ? -1 : 1), n[0], n[1]);
    }
    return value * (inside_out ? -1 : 1);
  };
  switch (field.kind()) {
    case FieldKind::sphere:
      return p.norm() - n[0];
    case FieldKind::box:
      return box_distance(p, 0.5 * Vec3d(n[0], n[1], n[2]) - Vec3d::Constant(n[3])) - n[3];
    case FieldKind::plane:
      return p.dot(Vec3d(n[0], n[1], n[2]).normalized()) - n[3];
    case FieldKind::cylinder:
      return outside_of(std::hypot(p.x(), p.y()) - n[0] + n[2], std::abs(p.z()) - n[1] / 2 + n[2]) -
             n[2];
    case FieldKind::capsule: {
      const Vec3d from(n[0], n[1], n[2]);
      const Vec3d way = Vec3d(n[3], n[4], n[5]) - from;
      const double share = std::clamp((p - from).dot(way) / way.squaredNorm(), 0.0, 1.0);
      return (p - from - share * way).norm() - n[6];
    }
    case FieldKind::torus:
      return std::hypot(std::hypot(p.x(), p.y()) - n[0], p.z()) - n[1];
    case FieldKind::disc:
      return std::hypot(std::max(std::hypot(p.x(), p.y()) - n[0], 0.0), p.z()) - n[1];
    case FieldKind::rectangle:
      return outside_of(std::abs(p.x()) - n[0] / 2 + n[2], std::abs(p.y()) - n[1] / 2 + n[2]) -
             n[2];
    case FieldKind::extrude:
      return outside_of(walk(part(), {p.x(), p.y(), 0}) + n[1], std::abs(p.z()) - n[0] / 2 + n[1]) -
             n[1];
    case FieldKind::revolve:
      return walk(part(), {std::hypot(p.x(), p.y()) - n[0], p.z(), 0});
    case FieldKind::join:
      return over_parts(false, false);
    case FieldKind::meet:
      return over_parts(true, true);
    case FieldKind::carve:
      return over_parts(true, false);
    case FieldKind::invert:
      return -walk(part(), p);
    case FieldKind::offset:
      return walk(part(), p) - n[0];
    case FieldKind::shell:
      return std::abs(walk(part(), p)) - n[0] / 2;
    case FieldKind::elongate: {
      const Vec3d half = 0.5 * Vec3d(n[0], n[1], n[2]);
      return walk(part(), p - p.cwiseMax(-half).cwiseMin(half));
    }
    case FieldKind::waves: {
      const double rate = 2 * pi / n[1];
      return walk(part(), p) +
             n[0] * std::sin(rate * p.x()) * std::sin(rate * p.y()) * std::sin(rate * p.z());
    }
    case FieldKind::damp:
      return n[0] * walk(part(), p);
    case FieldKind::place: {
      const Vec3d back = turned(n[3], n[4], n[5]).transpose() * (p - Vec3d(n[0], n[1], n[2]));
      return n[6] * walk(part(), back / n[6]);
    }
    case FieldKind::mirror: {
      Vec3d q = p;
      q[static_cast<int>(n[0])] = std::abs(q[static_cast<int>(n[0])]);
      return walk(part(), q);
    }
    case FieldKind::fold: {
      const Vec3d normal = Vec3d(n[0], n[1], n[2]).normalized();
      return walk(part(), p - 2 * std::min(p.dot(normal), 0.0) * normal);
    }
    case FieldKind::repeat:
    case FieldKind::around:
      return walk_copies(field, p);
    default:
      ADD_FAILURE() << "no walk for " << name_of(field.kind());
      return 0;
  }
}

using test::Chance;
using test::some_field;

TEST(FieldTrees, AreWhatTheirTapesSay) {
  for (std::uint64_t tree = 0; tree < 120; ++tree) {
    Chance chance(tree);
    const Field field = some_field(chance, 1 + static_cast<int>(tree % 4));
    const CompiledField compiled(field);
    std::vector<Vec3d> places;
    for (int i = 0; i < 150; ++i) places.push_back(chance.point(2.5));
    const std::vector<double> values = compiled.distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      ASSERT_NEAR(values[i], walk(field, places[i]), 2e-7) << "tree " << tree << " place " << i;
    }
  }
}

TEST(FieldTrees, LargeJoinsAreTheLeastOfTheirParts) {
  Chance chance(77);
  std::vector<Field> parts{field::plane({0, 0, 1}, -0.4)};
  for (int i = 0; i < 300; ++i) {
    parts.push_back(field::place(chance.point(6), some_shape(chance), chance.point(2)));
  }
  const Field all = field::join(parts);
  const CompiledField compiled(all);
  std::vector<CompiledField> alone;
  for (const Field& part : parts) alone.emplace_back(part);
  std::vector<Vec3d> places;
  for (int cloud = 0; cloud < 30; ++cloud) {
    const Vec3d middle = chance.point(7);
    for (int i = 0; i < 40; ++i) places.push_back(middle + chance.point(0.3));
  }
  const std::vector<double> values = compiled.distances(places);
  std::vector<double> least(places.size(), std::numeric_limits<double>::infinity());
  for (const CompiledField& one : alone) {
    const std::vector<double> own = one.distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) least[i] = std::min(least[i], own[i]);
  }
  EXPECT_EQ(values, least);
}

/// Many parts in a turned and scaled place, some of which hold as many again, and the same places
/// within places as before them: groups are asked in any order.
Field crowd_of_crowds(Chance& chance) {
  using namespace field;
  const Vec3d turn(0.3, -0.7, 1.1);
  std::vector<Field> parts{place({0, 0, -3}, plane({0.1, 0.2, 1}, -1), turn)};
  for (int i = 0; i < 60; ++i) {
    const Field small = place(chance.point(0.3), some_shape(chance), chance.point(2), 0.4);
    parts.push_back(place(chance.point(5), place({0, 0, -3}, small, turn), chance.point(2)));
  }
  std::vector<Field> within;
  for (int i = 0; i < 30; ++i) {
    within.push_back(place(chance.point(1.5), some_shape(chance), chance.point(2), 0.3));
  }
  parts.push_back(place({1, -2, 0.5}, join(std::move(within)), {0.2, 0.5, -0.4}, 0.8));
  return place({0.4, 0.1, -0.2}, join(std::move(parts)), {-0.4, 0.9, 0.2}, 1.3);
}

TEST(FieldTrees, GroupsOfLargeJoinsMayBeAskedInAnyOrder) {
  for (std::uint64_t seed = 200; seed < 206; ++seed) {
    Chance chance(seed);
    const Field field = crowd_of_crowds(chance);
    const CompiledField compiled(field);
    std::vector<Vec3d> places;
    for (int cloud = 0; cloud < 60; ++cloud) {
      const Vec3d middle = chance.point(7);
      const double size = chance.between(0.02, 0.5);
      for (int i = 0; i < 16; ++i) places.push_back(middle + chance.point(size));
    }
    const std::vector<double> values = compiled.distances(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      ASSERT_EQ(values[i], compiled.distance(places[i])) << "seed " << seed << " place " << i;
      if (i % 16 == 0) {
        ASSERT_NEAR(values[i], walk(field, places[i]), 2e-7);
      }
    }
  }
}

TEST(FieldTrees, ManyPartsWithoutEndAreNoCrowd) {
  std::vector<Field> parts;
  for (int i = 0; i < 40; ++i) parts.push_back(field::plane({std::cos(i), std::sin(i), 0.2}, -9));
  const CompiledField compiled(field::join(parts));
  std::vector<Vec3d> places(200, Vec3d(0.5, 0.2, 0.1));
  EXPECT_EQ(compiled.distances(places), std::vector<double>(200, compiled.distance(places[0])));
  EXPECT_NEAR(compiled.distance(places[0]), walk(field::join(parts), places[0]), 1e-12);
}

TEST(FieldTrees, WhatStandsTwiceIsWorkedOutOnce) {
  using namespace field;
  const Field urn = place({1, 2, 3}, join(0.1, {sphere(0.5), cylinder(0.2, 1.6)}), {0.1, 0.2, 0.3});
  const std::size_t once = CompiledField(urn).instruction_count();
  const Field twice = join({carve({urn, sphere(0.2)}), offset(0.1, urn)});
  EXPECT_LE(CompiledField(twice).instruction_count(), once + 4);
  const Vec3d place(0.7, 1.4, 2.9);
  EXPECT_NEAR(CompiledField(twice).distance(place), walk(twice, place), 1e-12);
}

TEST(FieldTrees, AreRefusedWhereTheyCannotBe) {
  using namespace field;
  EXPECT_THROW(disc(0, 0.1), Error);
  EXPECT_THROW(disc(1, -0.1), Error);
  EXPECT_THROW(prism(2, 1, 1), Error);
  EXPECT_THROW(pyramid(1, 0), Error);
  EXPECT_THROW(fold({0, 0, 0}, sphere(1)), Error);
  EXPECT_THROW(noise(0.1, 0, 2, sphere(1)), Error);
  EXPECT_THROW(noise(0.1, 1, 9, sphere(1)), Error);
  EXPECT_THROW(damp(1.5, sphere(1)), Error);
  EXPECT_THROW(damp(0, sphere(1)), Error);
}

}  // namespace
}  // namespace photonlane
