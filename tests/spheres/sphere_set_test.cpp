// Sets of spheres of any size: every hit against every sphere looked at in doubles, whichever way a
// set is held, made and asked.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cmath>
#include <limits>
#include <numbers>
#include <set>

#include "photonlane/base/random.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/files.hpp"
#include "support/lanes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

double chance(std::uint64_t i, std::uint32_t dimension, std::uint64_t seed = 11) {
  return static_cast<double>(random_uniform({.seed = seed, .pixel = i}, dimension));
}
Vec3d chances(std::uint64_t i, std::uint32_t first, std::uint64_t seed = 11) {
  return {chance(i, first, seed), chance(i, first + 1, seed), chance(i, first + 2, seed)};
}
Vec3d direction(std::uint64_t i, std::uint32_t first) {
  const double z = 2 * chance(i, first) - 1;
  const double angle = 2 * std::numbers::pi * chance(i, first + 1);
  const double across = std::sqrt(1 - z * z);
  return {across * std::cos(angle), across * std::sin(angle), z};
}

/// Ways in which spheres lie, named in messages.
struct Lie {
  const char* name;
  Sphere (*place)(std::uint64_t i);
};
const Lie lies[] = {
    {"spread evenly",
     [](std::uint64_t i) -> Sphere {
       return {10 * (chances(i, 0) - Vec3d::Constant(0.5)), 0.1, -1};
     }},
    {"clusters of clusters",
     [](std::uint64_t i) -> Sphere {
       Vec3d at = Vec3d::Zero();
       double size = 10;
       for (std::uint32_t depth = 0; depth < 5; ++depth, size *= 0.12) {
         at += size * (chances(i >> (2 * (4 - depth)), 3 * depth, 5) - Vec3d::Constant(0.5));
       }
       return {at, 0.02 * chance(i, 17) + 1e-4, -1};
     }},
    {"a shell",
     [](std::uint64_t i) -> Sphere {
       return {5 * direction(i, 0), 0.03 + 0.05 * chance(i, 5), -1};
     }},
    {"radii over six decades",
     [](std::uint64_t i) -> Sphere {
       return {10 * chances(i, 0), std::pow(10.0, -6 * chance(i, 4)) * 0.9, -1};
     }},
    {"one place for many",
     [](std::uint64_t i) -> Sphere {
       return {Vec3d(static_cast<double>(i % 7), 0, 0), 0.05 * static_cast<double>(1 + i % 11), -1};
     }},
    {"far from the origin",
     [](std::uint64_t i) -> Sphere {
       return {Vec3d(9e5, -9e5, 8e5) + 10 * chances(i, 0), 0.2 * chance(i, 6) + 0.01, -1};
     }},
    {"a line",
     [](std::uint64_t i) -> Sphere {
       return {Vec3d(0, 0, 0.1 * static_cast<double>(i)), 0.04, -1};
     }},
    {"tiny",
     [](std::uint64_t i) -> Sphere {
       return {1e-5 * chances(i, 0), 1e-7, -1};
     }},
    {"huge",
     [](std::uint64_t i) -> Sphere {
       return {9e5 * chances(i, 0), 5e4 * chance(i, 3), -1};
     }},
};

std::vector<Sphere> placed(const Lie& lie, std::uint64_t count) {
  std::vector<Sphere> all;
  for (std::uint64_t i = 0; i < count; ++i) all.push_back(lie.place(i));
  return all;
}

/// Where a lane meets a sphere, in long doubles; `sure` unless it grazes it.
struct Root {
  double t = std::numeric_limits<double>::infinity();
  bool sure = true;
};
Root root_of(const Sphere& sphere, const Vec3d& from, const Vec3d& way, double start,
             double limit) {
  using Wide = Eigen::Matrix<long double, 3, 1>;
  const Wide along = way.cast<long double>();
  const Wide off = sphere.center.cast<long double>() - from.cast<long double>();
  const long double square = along.squaredNorm();
  const long double middle = off.dot(along) / square;
  const long double beside = (off - middle * along).norm();
  const long double radius = sphere.radius;
  const long double unsure = 1e-13L * (off.norm() + radius);
  Root root;
  if (std::abs(beside - radius) < unsure) root.sure = false;
  if (beside > radius) return root;
  const long double half = std::sqrt((radius - beside) * (radius + beside) / square);
  for (const long double t : {middle - half, middle + half}) {
    // What is told is a float: a hair beyond the start or before the limit may round onto it.
    const long double close = 1e-6L * std::abs(t) + 1e-12L * (off.norm() + radius);
    if (std::abs(t - start) < close || std::abs(t - limit) < close) root.sure = false;
    if (!(t > start && t < limit)) continue;
    root.t = static_cast<double>(t);
    return root;
  }
  return root;
}

/// Lanes toward the spheres from all over the place, from their surfaces and from inside, all
/// against each sphere of the set as it says it is.
template <class Number>
void compare_with_all(const SphereSet& set, const Solid& solid, int batches,
                      const std::string& what) {
  std::vector<std::pair<std::uint64_t, Sphere>> all;
  for (std::uint64_t item = 0; item < set.items(); ++item) {
    if (set.is_item(item)) all.emplace_back(item, set.sphere(item));
  }
  ASSERT_EQ(all.size(), set.size()) << what;
  const Bounds bounds = set.bounds();
  const Vec3d middle = 0.5 * (bounds.low + bounds.high);
  const double size = (bounds.high - bounds.low).norm();
  std::size_t met = 0;
  std::size_t sure = 0;
  for (int batch = 0; batch < batches; ++batch) {
    LaneBatch<Number> lanes;
    lanes.size = static_cast<std::size_t>(batch % 3 == 2 ? 37 : test::effort(128));
    lanes.far_limit = static_cast<Number>(4 * size);
    lanes.any_start = batch % 2 == 1;
    lanes.any_limit = batch % 2 == 1;
    lanes.together = batch % 4 < 2;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const std::uint64_t draw = static_cast<std::uint64_t>(batch) * 1000 + i;
      const Sphere& aim = all[random_bits({.seed = 3, .pixel = draw}, 0) % all.size()].second;
      Vec3d from = middle + size * (chances(draw, 30) - Vec3d::Constant(0.5));
      if (i % 4 == 1) from = aim.center + aim.radius * direction(draw, 40);
      // As from an eye.
      if (batch % 4 == 0) from = middle + 0.7 * size * Vec3d(0.5, -0.8, 0.3);
      const Vec3d to = aim.center + 1.2 * aim.radius * direction(draw, 50) * chance(draw, 52);
      Vec3d way = i % 4 == 1 ? direction(draw, 53) : (to - from).normalized();
      if (!way.allFinite()) way = Vec3d(1, 0, 0);
      if (i % 16 == 7) way = Vec3d(0, 0, -1);
      test::aim(lanes, i, from, way);
      lanes.start[i] = static_cast<Number>(i % 4 == 1 ? 1e-3 * aim.radius : 0);
      lanes.limit[i] = static_cast<Number>(size * 2 * chance(draw, 54));
    }
    const HitBatch<Number> hits = solid.nearest_hit(lanes, Budget{});
    bool hidden[LaneBatch<float>::capacity] = {};
    if constexpr (std::is_same_v<Number, float>) solid.hide(lanes, Budget{}, hidden);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const Vec3d from(lanes.x[i], lanes.y[i], lanes.z[i]);
      const Vec3d way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
      const double start = lanes.any_start ? static_cast<double>(lanes.start[i]) : 0;
      const double limit = static_cast<double>(
          lanes.any_limit ? std::min(lanes.limit[i], lanes.far_limit) : lanes.far_limit);
      Root nearest;
      std::set<std::uint64_t> as_good;
      for (const auto& [item, sphere] : all) {
        const Root root = root_of(sphere, from, way, start, limit);
        nearest.sure = nearest.sure && root.sure;
        if (!(root.t < limit)) continue;
        const double alike = 1e-13 * ((sphere.center - from).norm() + sphere.radius);
        if (root.t < nearest.t - alike) as_good.clear();
        if (root.t <= nearest.t + alike) as_good.insert(item);
        nearest.t = std::min(nearest.t, root.t);
      }
      if (!nearest.sure) continue;
      ++sure;
      const std::string where = fmt::format("{}, batch {}, lane {}", what, batch, i);
      ASSERT_EQ(hits.ending[i] == Ending::hit, nearest.t < limit) << where << " at " << nearest.t;
      if constexpr (std::is_same_v<Number, float>) {
        ASSERT_EQ(hidden[i], nearest.t < limit) << where;
      }
      if (!(nearest.t < limit)) continue;
      ++met;
      ASSERT_TRUE(as_good.contains(hits.item[i])) << where << ": " << hits.item[i];
      const double error = std::is_same_v<Number, float> ? 1.3e-7 : 1e-11;
      ASSERT_NEAR(static_cast<double>(hits.t[i]), nearest.t, error * (nearest.t + size)) << where;
    }
  }
  EXPECT_GT(met * 10, sure) << what;
}

std::shared_ptr<const SphereSet> set_of(const std::vector<Sphere>& all, SphereKeeping keeping) {
  return SphereSet::make(all, {.keeping = keeping, .working_file = {}, .progress = {}});
}
std::shared_ptr<const Solid> solid_of(const std::shared_ptr<const SphereSet>& set) {
  return Spheres(set).compile({.materials = 3, .plain = 7});
}

TEST(SphereSets, AreMetAsEverySphereSays) {
  for (const Lie& lie : lies) {
    for (const int count : {1, 8, 9, 64, 65, 513, test::effort(4100)}) {
      const auto all = placed(lie, static_cast<std::uint64_t>(count));
      for (const SphereKeeping keeping : {SphereKeeping::exact, SphereKeeping::compact}) {
        const auto set = set_of(all, keeping);
        const auto solid = solid_of(set);
        const std::string what = fmt::format("{}, {}, {}", lie.name, count, name_of(keeping));
        compare_with_all<float>(*set, *solid, test::little_effort(4), what);
        compare_with_all<double>(*set, *solid, test::little_effort(4), what);
        if (HasFatalFailure()) return;
      }
    }
  }
}

TEST(SphereSets, ExactOnesAreTheSpheresThatWereGiven) {
  for (const Lie& lie : lies) {
    const auto all = placed(lie, 3000);
    const auto set = set_of(all, SphereKeeping::exact);
    ASSERT_EQ(set->items(), all.size());
    EXPECT_EQ(set->moved(), 0);
    for (std::size_t i = 0; i < all.size(); ++i) {
      ASSERT_EQ(set->sphere(i).center, all[i].center) << lie.name << " " << i;
      ASSERT_EQ(set->sphere(i).radius, all[i].radius) << lie.name << " " << i;
    }
  }
}

TEST(SphereSets, CompactOnesAreMovedByNoMoreThanTheySay) {
  for (const Lie& lie : lies) {
    const auto all = placed(lie, 3000);
    // Their colors say which they are.
    std::vector<double> places;
    std::vector<float> radii;
    std::vector<std::uint32_t> names;
    for (const Sphere& sphere : all) {
      for (int axis = 0; axis < 3; ++axis) places.push_back(sphere.center[axis]);
      radii.push_back(static_cast<float>(sphere.radius));
      names.push_back(static_cast<std::uint32_t>(names.size()));
    }
    StridedSpheres source;
    source.count = all.size();
    source.center_wide = places.data();
    source.radii = radii.data();
    source.colors = names.data();
    const auto set = SphereSet::make(
        source, {.keeping = SphereKeeping::compact, .working_file = {}, .progress = {}});
    std::set<std::uint32_t> seen;
    double most = 0;
    for (std::uint64_t item = 0; item < set->items(); ++item) {
      if (!set->is_item(item)) continue;
      const std::uint32_t name = set->color(item);
      ASSERT_TRUE(name < all.size() && seen.insert(name).second) << lie.name;
      const Sphere sphere = set->sphere(item);
      const double moved = (sphere.center - all[name].center).norm();
      most = std::max(most, moved);
      ASSERT_LE(moved, set->moved() * (1 + 1e-9)) << lie.name << " " << name;
      const auto radius = static_cast<double>(radii[name]);
      ASSERT_LE(sphere.radius, radius) << lie.name;
      ASSERT_GE(sphere.radius, radius * (1 - 0x1p-11) - set->largest() * 0x1p-30) << lie.name;
    }
    EXPECT_EQ(seen.size(), all.size());
    EXPECT_GT(most, 0.2 * set->moved()) << lie.name << ": not far from what is said";
    EXPECT_LT(set->moved(), 1e-4 * (set->bounds().high - set->bounds().low).norm()) << lie.name;
  }
}

/// A source of several stretches.
class Pieces final : public SphereSource {
 public:
  Pieces(std::uint64_t count, std::size_t stretches, bool own)
      : count_(count), stretches_(stretches), own_(own) {}
  std::size_t stretches() const override { return stretches_; }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    const std::uint64_t first = count_ * stretch / stretches_;
    const std::uint64_t last = count_ * (stretch + 1) / stretches_;
    SphereRun run;
    run.count = 0;
    for (std::uint64_t i = first; i < last; ++i) {
      const Vec3d at = 20 * chances(i, 0, 77);
      run.x[run.count] = at.x();
      run.y[run.count] = at.y();
      run.z[run.count] = at.z() * 0.2;
      run.radius[run.count] = own_ ? 0.02 + 0.03 * chance(i, 3, 77) : 0.03;
      run.material[run.count] = static_cast<std::uint32_t>(i % 3);
      run.color[run.count] = static_cast<std::uint32_t>(i * 7919 % 0x1000000);
      if (++run.count < SphereRun::capacity && i + 1 < last) continue;
      take(run);
      run.count = 0;
    }
  }
  bool has_materials() const override { return own_; }
  bool has_colors() const override { return own_; }

 private:
  std::uint64_t count_;
  std::size_t stretches_;
  bool own_;
};

std::string told(const Solid& solid, bool together = true) {
  LaneBatch<float> lanes;
  std::string text;
  for (std::uint64_t batch = 0; batch < 6; ++batch) {
    lanes.size = lanes.capacity;
    lanes.far_limit = 100;
    lanes.together = together;
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const Vec3d eye = batch % 2 == 0 ? Vec3d(-5, -4, 6) : Vec3d(20 * chances(i, 3, 9));
      const Vec3d to = 20 * chances(batch * 128 + i, 0, 8).cwiseProduct(Vec3d(1, 1, 0.2));
      test::aim(lanes, i, eye, (to - eye).normalized());
    }
    const HitBatch<float> hits = solid.nearest_hit(lanes, Budget{});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      text += fmt::format("{} {} {};", hits.t[i], hits.item[i], hits.steps[i]);
      if (hits.ending[i] == Ending::hit) {
        text += fmt::format("{} {} {};", hits.normal_x[i], hits.material[i], hits.other[i]);
      }
    }
  }
  return text;
}

TEST(SphereSets, OfSeveralPartsAreMetAsEverySphereSays) {
  // More than a part holds, so that parts are shared out, and nodes stand above them.
  const auto set =
      SphereSet::make(Pieces(test::effort(600000), 5, true),
                      {.keeping = SphereKeeping::compact, .working_file = {}, .progress = {}});
  compare_with_all<float>(*set, *Spheres(set).compile({.materials = 3, .plain = 0}), 1, "parts");
}

TEST(SphereSets, AreTheSameWithAnyNumberOfThreads) {
  for (const bool own : {false, true}) {
    std::string first;
    for (const int threads : {1, 2, 3}) {
      const auto set =
          SphereSet::make(Pieces(static_cast<std::uint64_t>(test::effort(400000)), 7, own),
                          {.keeping = SphereKeeping::compact,
                           .threads = threads,
                           .working_file = {},
                           .progress = {}});
      const std::string now = told(*Spheres(set).compile({.materials = 3, .plain = 0}));
      if (first.empty()) first = now;
      EXPECT_EQ(now == first, true) << threads;
    }
  }
}

/// Nearly all in one place, so that samples cannot share them out: a cell gets several parts.
class Heap final : public SphereSource {
 public:
  explicit Heap(std::uint64_t count) : count_(count) {}
  void read(std::size_t, const std::function<void(const SphereRun&)>& take) const override {
    SphereRun run;
    run.count = 0;
    for (std::uint64_t i = 0; i < count_; ++i) {
      const double far = i % 1000 == 0 ? 100 : 1e-7;
      const Vec3d at = far * (chances(i, 0, 33) - Vec3d::Constant(0.5));
      run.x[run.count] = i % 3 == 0 ? 0 : at.x();
      run.y[run.count] = i % 3 == 0 ? 0 : at.y();
      run.z[run.count] = i % 3 == 0 ? 0 : at.z();
      run.radius[run.count] = 0.01 + 1e-9 * static_cast<double>(i);
      if (++run.count < SphereRun::capacity && i + 1 < count_) continue;
      take(run);
      run.count = 0;
    }
  }

 private:
  std::uint64_t count_;
};

TEST(SphereSets, HoldAsManyAtOnePlaceAsThereAre) {
  for (const SphereKeeping keeping : {SphereKeeping::exact, SphereKeeping::compact}) {
    const auto count = static_cast<std::uint64_t>(test::effort(2800000));
    const auto set =
        SphereSet::make(Heap(count), {.keeping = keeping, .working_file = {}, .progress = {}});
    ASSERT_EQ(set->size(), count);
    std::uint64_t there = 0;
    for (std::uint64_t item = 0; item < set->items(); ++item) there += set->is_item(item) ? 1 : 0;
    EXPECT_EQ(there, count);
    // Compact ones are moved, by a quarter of a radius at the most.
    if (keeping == SphereKeeping::exact) {
      EXPECT_EQ(set->moved(), 0);
    } else {
      EXPECT_LE(set->moved(), 0.25 * 0.013);
    }
    // The largest of the heap is the one that a lane comes to first.
    const auto solid = Spheres(set).compile({.materials = 1});
    LaneBatch<double> lanes;
    lanes.size = 1;
    lanes.far_limit = 1000;
    test::aim(lanes, 0, {0, 0, -1}, Vec3d(0, 0, 1));
    const HitBatch<double> hits = solid->nearest_hit(lanes, Budget{});
    ASSERT_EQ(hits.ending[0], Ending::hit);
    const double largest = 0.01 + 1e-9 * static_cast<double>(count - 1);
    EXPECT_NEAR(hits.t[0], 1 - largest, set->moved() + 1e-7);
  }
}

TEST(SphereSets, AnswerAlikeOnEveryTargetAndInAnyCompany) {
  const auto set = set_of(placed(lies[1], 5000), SphereKeeping::compact);
  const auto solid = solid_of(set);
  const std::string plain = told(*solid);
  EXPECT_EQ(told(*solid, false), plain);
  test::for_each_target([&](const char* name) { EXPECT_EQ(told(*solid), plain) << name; });
  // One lane at a time, and the same lane among others.
  LaneBatch<float> one;
  one.size = 1;
  one.far_limit = 100;
  LaneBatch<float> many = one;
  many.size = many.capacity;
  many.together = true;
  for (std::size_t i = 0; i < many.size; ++i) {
    const Vec3d to = 4 * (chances(i, 60) - Vec3d::Constant(0.5));
    test::aim(many, i, {-9, 1, 2}, (to - Vec3d(-9, 1, 2)).normalized());
  }
  const HitBatch<float> together = solid->nearest_hit(many, Budget{});
  for (std::size_t i = 0; i < many.size; ++i) {
    one.size = 0;
    one.take(many, i);
    const HitBatch<float> alone = solid->nearest_hit(one, Budget{});
    ASSERT_EQ(alone.t[0], together.t[i]) << i;
    ASSERT_EQ(alone.steps[0], together.steps[i]) << i;
  }
}

TEST(MovingSpheres, AreMetWhereTheyAreNow) {
  for (const int count : {5, 64, test::effort(3000)}) {
    std::vector<Sphere> all = placed(lies[0], static_cast<std::uint64_t>(count));
    MovingSpheres moving(all);
    std::set<SphereUpdateKind> kinds;
    for (int frame = 0; frame < 8; ++frame) {
      std::vector<Vec3d> centers;
      for (std::size_t i = 0; i < all.size(); ++i) {
        // A little, then each somewhere else, then far off.
        const double far = frame < 2 ? 0.01 : frame < 5 ? 3 : 100;
        all[i].center += far * (chances(1000 * static_cast<std::uint64_t>(frame) + i, 80) -
                                Vec3d::Constant(0.5));
        centers.push_back(all[i].center);
      }
      SphereUpdate update;
      if (frame % 3 == 2) {
        // Some of them, one of them twice.
        std::vector<std::uint32_t> which;
        std::vector<Vec3d> to;
        for (std::uint32_t i = 0; i < all.size(); i += 2) {
          which.push_back(i);
          to.push_back(centers[i]);
        }
        which.push_back(0);
        to.push_back(centers[0]);
        for (std::size_t i = 1; i < all.size(); i += 2)
          all[i].center = moving.set()->sphere(i).center;
        update = moving.move(which, to);
      } else {
        update = moving.move(centers);
      }
      kinds.insert(update.kind);
      EXPECT_GE(update.grown, 1);
      const auto set = moving.set();
      for (std::size_t i = 0; i < all.size(); ++i) {
        ASSERT_EQ(set->sphere(i).center, all[i].center) << count << " " << frame << " " << i;
      }
      const auto solid = solid_of(set);
      compare_with_all<float>(*set, *solid, 2, fmt::format("{} moved, frame {}", count, frame));
      if (HasFatalFailure()) return;
      // As a set that is made anew of them, but for how many steps that takes.
      const auto again = solid_of(set_of(all, SphereKeeping::exact));
      LaneBatch<float> lanes;
      lanes.size = lanes.capacity;
      lanes.far_limit = 10000;
      for (std::size_t i = 0; i < lanes.size; ++i) {
        const Vec3d eye = 60 * direction(i, 90);
        test::aim(lanes, i, eye, (all[i % all.size()].center - eye).normalized());
      }
      const HitBatch<float> one = solid->nearest_hit(lanes, Budget{});
      const HitBatch<float> two = again->nearest_hit(lanes, Budget{});
      for (std::size_t i = 0; i < lanes.size; ++i) {
        ASSERT_EQ(one.t[i], two.t[i]) << i;
        ASSERT_EQ(one.item[i], two.item[i]) << i;
      }
    }
    if (count > 64) {
      EXPECT_TRUE(kinds.contains(SphereUpdateKind::refit));
      EXPECT_TRUE(kinds.contains(SphereUpdateKind::parts));
    }
  }
}

TEST(MovingSpheres, OfSeveralPartsAreSharedOutAnew) {
  const auto count = static_cast<std::size_t>(test::effort(700000));
  std::vector<Sphere> all = placed(lies[0], count);
  MovingSpheres moving(all);
  std::vector<Vec3d> centers;
  // As if shuffled: parts come to lie in one another.
  for (std::size_t i = 0; i < count; ++i) centers.push_back(all[(i * 7919 + 13) % count].center);
  const SphereUpdate update = moving.move(centers);
  EXPECT_EQ(update.kind, count > 262144 ? SphereUpdateKind::whole : SphereUpdateKind::parts);
  for (std::size_t i = 0; i < count; i += 997) {
    ASSERT_EQ(moving.set()->sphere(i).center, centers[i]);
  }
  const SphereUpdate still = moving.move(centers);
  EXPECT_EQ(still.kind, SphereUpdateKind::refit);
  EXPECT_LT(still.grown, 1.1);
}

TEST(MovingSpheres, ThatMoveOneByOneAreLookedAtInTheEnd) {
  std::vector<Sphere> all = placed(lies[0], 2000);
  MovingSpheres moving(all);
  bool anew = false;
  for (std::uint32_t i = 0; i < all.size(); ++i) {
    const std::uint32_t which[] = {i};
    const Vec3d to[] = {100 * chances(i, 3, 17)};
    anew = anew || moving.move(which, to).kind != SphereUpdateKind::refit;
  }
  EXPECT_TRUE(anew) << "boxes grow without end";
}

TEST(MovingSpheres, RefuseWhatCannotBeAndMoveNone) {
  std::vector<Sphere> all = placed(lies[0], 20);
  MovingSpheres moving(all);
  std::vector<Vec3d> centers(20, Vec3d(1, 2, 3));
  centers[7].y() = std::nan("");
  EXPECT_THROW(moving.move(centers), Error);
  EXPECT_EQ(moving.set()->sphere(0).center, all[0].center);
  centers.pop_back();
  EXPECT_THROW(moving.move(centers), Error);
  const std::uint32_t none[] = {20};
  EXPECT_THROW(moving.move(none, std::span(centers).first(1)), Error);
  EXPECT_THROW(moving.move(none, std::span(centers).first(2)), Error);
}

TEST(MovingSpheres, AreSeenInTheNextWorld) {
  Scene scene;
  auto part = std::make_shared<Spheres>();
  MovingSpheres moving({{{3, 0, 0}, 0.5, -1}, {{6, 3, 0}, 0.5, -1}});
  part->set = moving.set();
  scene.room().parts.push_back(part);
  World world = compile(scene);
  const Camera camera = Camera::look_at({0, 0, 0}, {1, 0, 0}, degrees(60));
  Budget budget;
  budget.frame.width = 33;
  budget.frame.height = 21;
  const auto middle = [&] {
    const Frame frame = render(world, camera, budget, {.layers = {Layer::ray_distance}});
    return static_cast<double>(frame.values(Layer::ray_distance)(16, 10));
  };
  EXPECT_NEAR(middle(), 2.5, 0.01);
  const std::uint32_t which[] = {0};
  const Vec3d to[] = {{30, 0, 0}};
  moving.move(which, to);
  auto moved = std::make_shared<Spheres>(*part);
  moved->set = moving.set();
  scene.room().parts[0] = moved;
  world = compile(scene, world);
  EXPECT_NEAR(middle(), 29.5, 0.01);
}

TEST(SphereSets, FarOffLookTheSameWhereOneStandsForMany) {
  // What a pixel sees of many spheres that are smaller, on average; and that it costs less. Spread
  // evenly, as is assumed of those in a small box.
  std::vector<float> places;
  for (std::uint64_t i = 0; i < static_cast<std::uint64_t>(test::effort(400000)); ++i) {
    const Vec3d at = 8 * (chances(i, 0, 31) - Vec3d::Constant(0.5));
    for (int axis = 0; axis < 3; ++axis) places.push_back(static_cast<float>(at[axis]));
  }
  StridedSpheres spread;
  spread.count = places.size() / 3;
  spread.center = places.data();
  // Half of the lanes across meet one.
  spread.radius = std::sqrt(0.7 * 64 / (std::numbers::pi * static_cast<double>(spread.count)));
  Scene scene;
  Material gold;
  gold.base = Color(0.8f, 0.6f, 0.2f);
  scene.materials.push_back(gold);
  scene.room().add(
      Spheres(SphereSet::make(spread, {.keeping = SphereKeeping::compact, .progress = {}}), 0));
  scene.room().light.sun = Sun{};
  scene.room().fog = {.color = {0, 0, 0}, .start = 1e5, .end = 2e5};
  const World world = compile(scene);
  const Camera camera = Camera::look_at({-60, -40, 20}, {0, 0, 0}, degrees(10));
  Budget budget;
  budget.frame.width = 40;
  budget.frame.height = 25;
  budget.frame.samples = 64;
  budget.light.sun_shadows = SunShadows::none;
  const auto shot = [&](double detail) {
    Budget own = budget;
    own.spheres.detail = detail;
    return render(world, camera, own, {.layers = {Layer::color}});
  };
  const auto difference = [](const Frame& one, const Frame& two) {
    double sum = 0;
    double bias = 0;
    double light = 0;
    for (int y = 0; y < 25; ++y) {
      for (int i = 0; i < 3 * 40; ++i) {
        const double a = static_cast<double>(one.values(Layer::color, i % 3)(i / 3, y));
        const double b = static_cast<double>(two.values(Layer::color, i % 3)(i / 3, y));
        sum += (a - b) * (a - b);
        bias += b - a;
        light += a;
      }
    }
    return std::tuple(std::sqrt(sum / 3000), bias / light, light / 3000);
  };
  const Frame exact = shot(0);
  const auto [rms_one, bias_one, light] = difference(exact, shot(1));
  EXPECT_GT(light, 0.02);
  // By chance alone it may be off by about a hundredth.
  EXPECT_LT(std::abs(bias_one), 0.03);
  // As much as chance throws 64 lanes of a pixel about.
  EXPECT_LT(rms_one, 0.5 / 8);
  const auto [rms_none, bias_none, same] = difference(exact, shot(1e-9));
  EXPECT_EQ(rms_none, 0);
  const auto steps = [](const Frame& frame) { return frame.tally.steps; };
  EXPECT_LT(steps(shot(2)), steps(exact));
}

TEST(SphereSets, KnowTheNearestOfAll) {
  for (const Lie& lie : lies) {
    for (const SphereKeeping keeping : {SphereKeeping::exact, SphereKeeping::compact}) {
      const auto set = set_of(placed(lie, 700), keeping);
      const auto solid = solid_of(set);
      std::vector<Sphere> all;
      for (std::uint64_t item = 0; item < set->items(); ++item) {
        if (set->is_item(item)) all.push_back(set->sphere(item));
      }
      const Bounds bounds = set->bounds();
      for (std::uint64_t i = 0; i < 200; ++i) {
        Vec3d place =
            bounds.low +
            (bounds.high - bounds.low).cwiseProduct(1.4 * chances(i, 70) - Vec3d::Constant(0.2));
        if (i % 3 == 0) place = all[i % all.size()].center;
        double value = 0;
        DistanceBatch batch{
            .count = 1, .x = &place.x(), .y = &place.y(), .z = &place.z(), .value = &value};
        solid->measure(batch);
        double least = std::numeric_limits<double>::infinity();
        for (const Sphere& sphere : all) {
          least = std::min(least, (place - sphere.center).norm() - sphere.radius);
        }
        ASSERT_NEAR(value, least, 1e-15 * (place - all[0].center).norm() + 4e-16 * set->largest())
            << lie.name << " " << i;
      }
    }
  }
}

TEST(SphereSets, OfPollenAreTheSameEachTimeAndStayInTheHall) {
  PollenRecipe recipe;
  recipe.count = 20000;
  const auto one = SphereSet::make(PollenSource(recipe));
  const auto two =
      SphereSet::make(PollenSource(recipe), {.threads = 1, .working_file = {}, .progress = {}});
  for (std::uint64_t item = 0; item < one->items(); ++item) {
    ASSERT_EQ(one->sphere(item).center, two->sphere(item).center);
    ASSERT_EQ(one->color(item), two->color(item));
  }
  const double radius = one->largest();
  EXPECT_GE(one->bounds().low.z(), -radius);
  EXPECT_LE(one->bounds().high.x(), 0.5 * recipe.hall.x() + radius);
  // More of them are smaller: as much of a lane's way is covered.
  recipe.count = 80000;
  EXPECT_NEAR(SphereSet::make(PollenSource(recipe))->largest(), radius / 2, 0.01 * radius);
  recipe.seed = 2;
  recipe.count = 20000;
  EXPECT_NE(SphereSet::make(PollenSource(recipe))->sphere(0).center, one->sphere(0).center);
  recipe.swirl = 0.8;
  EXPECT_THROW(PollenSource{recipe}, Error);
}

TEST(SphereSets, DoAllThatListsOfSpheresDo) {
  // The same spheres as a list, as a set, and as one that was written and mapped: shadows, mirrors,
  // glass, fog, portals and paths see the same bytes, bodies are stopped at the same place.
  std::vector<Sphere> all;
  for (std::uint64_t i = 0; i < 150; ++i) {
    const Vec3d at = Vec3d(8, 8, 2).cwiseProduct(chances(i, 0, 91)) - Vec3d(4, -1, 0);
    all.push_back({at, 0.1 + 0.25 * chance(i, 3, 91), static_cast<int>(i % 3)});
  }
  const auto set = set_of(all, SphereKeeping::exact);
  const test::TemporaryFolder folder;
  io::write_spheres(folder.path() + "/s.spheres", *set);
  const auto scene_of = [&](const Spheres& spheres) {
    Scene scene;
    scene.materials = {{.base = {0.7f, 0.3f, 0.2f}},
                       {.base = {0.9f, 0.9f, 0.9f}, .specular = 0.8f, .metal = 1},
                       {.base = {1, 1, 1}, .opacity = 0.02, .specular = 0.04f, .index = 1.5}};
    scene.room().add(spheres);
    scene.room().add(field::plane({0, 0, 1}, -0.3).made_of(0));
    scene.room().light.sun = Sun{};
    scene.room().light.lamps.push_back({.place = {0, 3, 4}, .radius = 0.1, .power = 30});
    scene.room().sky = Sky{};
    scene.room().fog.end = 40;
    return scene;
  };
  const auto seen = [&](const Spheres& spheres, Transport transport) {
    const World world = compile(scene_of(spheres));
    Budget budget;
    budget.frame = {.width = 48, .height = 30, .samples = 2};
    budget.light.transport = transport;
    budget.light.fog = FogLight::sampled;
    budget.light.softness = Softness::sampled;
    const Frame frame = render(world, Camera::look_at({0, -2, 1.5}, {0, 5, 1}, degrees(60)), budget,
                               {.layers = {Layer::color, Layer::cell, Layer::normal}});
    std::string bytes;
    for (const Layer layer : {Layer::color, Layer::normal}) {
      for (int channel = 0; channel < 3; ++channel) {
        for (int y = 0; y < 30; ++y) {
          const auto row = frame.values(layer, channel).row(y);
          bytes.append(reinterpret_cast<const char*>(row.data()), row.size_bytes());
        }
      }
    }
    for (int y = 0; y < 30; ++y) {
      const auto row = frame.codes(Layer::cell).row(y);
      bytes.append(reinterpret_cast<const char*>(row.data()), row.size_bytes());
    }
    return bytes;
  };
  const auto mapped = io::map_spheres(folder.path() + "/s.spheres");
  for (const Transport transport : {Transport::direct, Transport::paths}) {
    const std::string listed = seen(Spheres(all), transport);
    EXPECT_EQ(seen(Spheres(set), transport) == listed, true) << name_of(transport);
    EXPECT_EQ(seen(Spheres(mapped), transport) == listed, true) << name_of(transport);
  }
  // Light that is sought: as many emitters, wherever they are kept.
  const auto list = Spheres(all).compile({.materials = 3});
  const auto kept = Spheres(mapped).compile({.materials = 3});
  const std::vector<Emitter> one = list->emitters({false, true, false});
  const std::vector<Emitter> two = kept->emitters({false, true, false});
  ASSERT_EQ(one.size(), 50u);
  ASSERT_EQ(two.size(), 50u);
  for (std::size_t i = 0; i < one.size(); ++i) {
    EXPECT_EQ(one[i].item, two[i].item);
    EXPECT_EQ(one[i].place, two[i].place);
  }
  for (std::uint64_t i = 0; i < 100; ++i) {
    const Vec3d place = 9 * chances(i, 5, 92) - Vec3d(4, 0, 0);
    const auto near = list->closest(place);
    const auto also = kept->closest(place);
    ASSERT_TRUE(near && also);
    EXPECT_EQ(near->place, also->place);
    EXPECT_EQ(near->least, also->least);
  }
}

TEST(SphereSets, RefuseWhatIsNone) {
  const auto refusal = [](const Sphere& bad) -> std::string {
    std::vector<Sphere> all(100);
    for (std::size_t i = 0; i < all.size(); ++i) all[i].center.x() = static_cast<double>(i);
    all[57] = bad;
    try {
      SphereSet::make(all);
    } catch (const Error& error) {
      return error.what();
    }
    return "accepted";
  };
  EXPECT_EQ(refusal({{1, 2, 3}, 0, -1}), "accepted") << "of radius 0: never met";
  EXPECT_THAT(refusal({{std::nan(""), 2, 3}, 1, -1}), HasSubstr("sphere 57: x is nan"));
  EXPECT_THAT(refusal({{1, 2, -INFINITY}, 1, -1}), HasSubstr("sphere 57: z is -inf"));
  EXPECT_THAT(refusal({{1, 2e6, 3}, 1, -1}),
              HasSubstr("sphere 57: y is 2000000, expected -1e6 to 1e6"));
  EXPECT_THAT(refusal({{1, 2, 3}, -1, -1}), HasSubstr("sphere 57: a radius of -1"));
  EXPECT_THAT(refusal({{1, 2, 3}, std::nan(""), -1}), HasSubstr("sphere 57: a radius of nan"));
  EXPECT_THROW(SphereSet::make(std::vector<Sphere>{}), Error);
  try {
    SphereSet::make(Pieces(100000, 1, false),
                    {.memory_limit = 100000, .working_file = {}, .progress = {}});
    FAIL() << "accepted";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::memory);
  }
  try {
    SphereSet::make(Pieces(100000, 4, false),
                    {.working_file = {}, .progress = [](double) { return false; }});
    FAIL() << "accepted";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::cancelled);
  }
  // A number of a material that is not there.
  StridedSpheres two;
  const float places[6] = {0, 0, 0, 5, 0, 0};
  const std::uint16_t materials[2] = {0, 9};
  two.count = 2;
  two.center = places;
  two.materials = materials;
  EXPECT_THROW(Spheres(SphereSet::make(two)).compile({.materials = 3}), Error);
}

TEST(SphereSets, AreChecked) {
  const auto warnings = [](const std::vector<Sphere>& all, SphereKeeping keeping) {
    Scene scene;
    scene.room().add(Spheres(set_of(all, keeping)));
    Camera camera;
    camera.eye = Vec3d(-50, 0, 0);
    Budget budget;
    budget.far_limit = 200;
    std::string text;
    const SceneReport report = check(scene, camera, budget);
    for (const std::string& warning : report.warnings) text += warning + "\n";
    const bool within = report.solids.at(0).find("within another") != std::string::npos;
    return text + (within ? "within another" : "");
  };
  std::vector<Sphere> all;
  for (int i = 0; i < 100; ++i) all.push_back({Vec3d(i, 0, 0), 0.3, -1});
  for (const SphereKeeping keeping : {SphereKeeping::exact, SphereKeeping::compact}) {
    EXPECT_EQ(warnings(all, keeping), "");
    std::vector<Sphere> bad = all;
    bad[3].radius = 0;
    bad[4].radius = 0;
    bad.push_back({Vec3d(400, 0, 0), 0.3, -1});
    EXPECT_THAT(warnings(bad, keeping), HasSubstr("2 of 101 spheres have a radius of 0"));
    EXPECT_THAT(warnings(bad, keeping),
                HasSubstr("1 of 101 spheres lie farther from the eye than far_limit"));
  }
  std::vector<Sphere> bad = all;
  bad[10] = bad[11];
  EXPECT_THAT(warnings(bad, SphereKeeping::exact),
              HasSubstr("2 % of 100 spheres that were looked at are there twice"));
  for (Sphere& sphere : bad) sphere.radius = 0.8;
  EXPECT_THAT(warnings(bad, SphereKeeping::exact), HasSubstr("within another"));
}

TEST(SphereSets, GiveEachItsMaterialAndColor) {
  struct Grain {
    double place[3];
    float radius;
    int unused;
  };
  std::vector<Grain> grains;
  std::vector<std::uint32_t> colors;
  std::vector<std::uint16_t> materials;
  for (std::uint64_t i = 0; i < 2000; ++i) {
    const Vec3d at = 30 * chances(i, 0, 4);
    grains.push_back({{at.x(), at.y(), at.z()}, 0.05f + 0.0001f * static_cast<float>(i), 7});
    colors.push_back(static_cast<std::uint32_t>(mix(i) & 0xffffff));
    materials.push_back(static_cast<std::uint16_t>(i % 5));
  }
  StridedSpheres source;
  source.count = grains.size();
  source.center_wide = grains[0].place;
  source.stride = sizeof(Grain);
  source.radii = &grains[0].radius;
  source.radius_stride = sizeof(Grain);
  source.colors = colors.data();
  source.materials = materials.data();
  const auto set = SphereSet::make(source);
  Spheres part(set);
  part.materials = {4, 3, 2, 1, 0};
  const auto solid = part.compile({.materials = 5, .plain = 0});
  for (std::size_t i = 0; i < grains.size(); ++i) {
    ASSERT_EQ(set->color(i), colors[i]);
    ASSERT_EQ(set->sphere(i).material, static_cast<int>(materials[i]));
    ASSERT_EQ(set->sphere(i).radius, static_cast<double>(grains[i].radius));
  }
  LaneBatch<double> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = 100;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Vec3d at(grains[9 * i].place);
    test::aim(lanes, i, at, Vec3d(0, 0, 1));
  }
  const HitBatch<double> hits = solid->nearest_hit(lanes, Budget{});
  for (std::size_t i = 0; i < lanes.size; ++i) {
    ASSERT_EQ(hits.ending[i], Ending::hit) << "from inside";
    const std::uint32_t item = hits.item[i];
    EXPECT_EQ(hits.material[i], 4u - item % 5);
    EXPECT_EQ(hits.share[i], own_color);
    EXPECT_EQ(hits.other[i], colors[item]);
  }
}

}  // namespace
}  // namespace photonlane
