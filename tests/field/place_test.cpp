// Fields pruned by place: the same values as all of the field, the same hits as without, whoever
// marches with whom, in whatever order, on however many threads.

#include <gtest/gtest.h>

#include <cmath>
#include <cstring>
#include <thread>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/targets.hpp"
#include "support/trees.hpp"

namespace photonlane {
namespace {

using test::Chance;
using test::effort;
using test::garden;
using test::little_effort;

/// Bits, so that zeros of both signs and numbers that are none are told apart.
template <class Number>
bool same_bits(Number a, Number b) {
  return std::memcmp(&a, &b, sizeof(a)) == 0;
}

template <class Number>
using Batches = std::vector<LaneBatch<Number>>;
template <class Number>
using Hits = std::vector<HitBatch<Number>>;

/// Lanes that go any way from anywhere.
template <class Number>
Batches<Number> lanes_any_way(std::uint64_t seed, std::size_t count, const Vec3d& at,
                              double scale) {
  Chance chance(seed);
  Batches<Number> batches(count);
  for (LaneBatch<Number>& lanes : batches) {
    lanes.size = 128;
    lanes.far_limit = static_cast<Number>(60 * scale);
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const Vec3d from =
          at + scale * Vec3d(chance.between(-7, 7), chance.between(-7, 7), chance.between(-1, 4));
      test::aim(lanes, i, from, chance.point(1).normalized());
    }
  }
  return batches;
}

template <class Number>
Hits<Number> march(const CompiledField& field, const Batches<Number>& lanes, const Budget& budget,
                   std::size_t together) {
  Hits<Number> hits(lanes.size());
  for (std::size_t first = 0; first < lanes.size(); first += together) {
    std::vector<const LaneBatch<Number>*> from;
    std::vector<HitBatch<Number>*> to;
    for (std::size_t i = first; i < std::min(first + together, lanes.size()); ++i) {
      from.push_back(&lanes[i]);
      to.push_back(&hits[i]);
    }
    field.nearest_hits(from, budget, to);
  }
  return hits;
}

/// How many lanes differ in anything they tell.
template <class Number>
std::size_t differing(const Batches<Number>& lanes, const Hits<Number>& a, const Hits<Number>& b) {
  std::size_t count = 0;
  for (std::size_t n = 0; n < lanes.size(); ++n) {
    for (std::size_t i = 0; i < lanes[n].size; ++i) {
      bool same = same_bits(a[n].t[i], b[n].t[i]) && a[n].ending[i] == b[n].ending[i] &&
                  a[n].steps[i] == b[n].steps[i] && a[n].evaluations[i] == b[n].evaluations[i];
      if (a[n].ending[i] == Ending::hit) {
        same = same && a[n].material[i] == b[n].material[i] &&
               same_bits(a[n].normal_x[i], b[n].normal_x[i]) &&
               same_bits(a[n].normal_y[i], b[n].normal_y[i]) &&
               same_bits(a[n].normal_z[i], b[n].normal_z[i]);
      }
      count += !same;
    }
  }
  return count;
}

Budget far_budget(double scale = 1) {
  Budget budget;
  budget.far_limit = 60 * scale;
  budget.field.tolerance *= scale;
  return budget;
}

TEST(Places, GiveTheValuesOfAllOfTheField) {
  struct Where {
    Vec3d at;
    double scale;
  };
  for (const Where& where : {Where{{0, 0, 0}, 1}, Where{{3e4, -2e4, 5}, 1},
                             Where{{0.001, 0, 0}, 1e-4}, Where{{0, 0, 0}, 1e4}}) {
    for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(little_effort(16)); ++seed) {
      const CompiledField field(garden(seed, where.at, where.scale));
      Chance chance(seed + 100);
      std::vector<Vec3d> places;
      for (int i = 0; i < 1000; ++i) {
        // Some far out, some on the very sides of cubes.
        const double reach = i % 10 == 0 ? 300 : 8;
        Vec3d place = chance.point(reach);
        if (i % 7 == 0) place = (place * 4).array().round() / 4;
        places.push_back(where.at + where.scale * place);
      }
      const std::vector<double> by_place = field.distances(places);
      // Derivatives are carried through all of the field.
      const std::vector<FieldSlope> whole = field.slopes(places);
      for (std::size_t i = 0; i < places.size(); ++i) {
        ASSERT_TRUE(same_bits(by_place[i], whole[i].value))
            << "seed " << seed << " at " << places[i].transpose();
        if (i % 50 != 0) continue;
        ASSERT_TRUE(same_bits(field.distance(places[i]), whole[i].value));
      }
    }
  }
}

template <class Number>
void expect_hits_as_without_pruning(const Vec3d& at, double scale, double slack) {
  std::size_t hits = 0;
  std::size_t other = 0;
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(little_effort(8)); ++seed) {
    const CompiledField field(garden(seed, at, scale));
    const Batches<Number> lanes = lanes_any_way<Number>(seed, 8, at, scale);
    Budget budget = far_budget(scale);
    const Hits<Number> pruned = march(field, lanes, budget, 8);
    budget.field.pruning = false;
    budget.field.cones = false;
    const Hits<Number> plain = march(field, lanes, budget, 1);
    for (std::size_t n = 0; n < lanes.size(); ++n) {
      for (std::size_t i = 0; i < lanes[n].size; ++i) {
        hits += plain[n].ending[i] == Ending::hit;
        if (pruned[n].ending[i] != plain[n].ending[i]) {
          ++other;
          continue;
        }
        if (plain[n].ending[i] != Ending::hit) continue;
        // Where it is not the same place both are on a surface: lanes that graze.
        const double apart = std::abs(double(pruned[n].t[i]) - double(plain[n].t[i]));
        other += apart > slack * scale;
      }
    }
  }
  EXPECT_GT(hits, static_cast<std::size_t>(little_effort(8)) * 300);
  EXPECT_LE(other, hits / 2000) << "of " << hits;
}

TEST(Places, LanesHitWhatTheyHitWithoutPruning) {
  expect_hits_as_without_pruning<float>({0, 0, 0}, 1, 4e-3);
  expect_hits_as_without_pruning<double>({0, 0, 0}, 1, 4e-3);
  expect_hits_as_without_pruning<double>({3e4, -2e4, 5}, 1, 4e-3);
  expect_hits_as_without_pruning<float>({0, 0, 0}, 1e-3, 4e-3);
  expect_hits_as_without_pruning<float>({0, 0, 0}, 1e3, 4e-3);
}

TEST(Places, WhatALaneMeetsDoesNotDependOnItsCompany) {
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(little_effort(6)); ++seed) {
    const Field garden_of = garden(seed);
    const Batches<float> lanes = lanes_any_way<float>(seed, 20, {0, 0, 0}, 1);
    const CompiledField field(garden_of);
    const Hits<float> together = march(field, lanes, far_budget(), 20);
    // One batch after the other, by what was found out before, and by nothing.
    EXPECT_EQ(differing(lanes, together, march(field, lanes, far_budget(), 1)), 0u) << seed;
    EXPECT_EQ(differing(lanes, together, march(CompiledField(garden_of), lanes, far_budget(), 3)),
              0u)
        << seed;
    // Alone.
    const CompiledField fresh(garden_of);
    for (std::size_t i = 0; i < 128; i += 9) {
      LaneBatch<float> one = lanes[5];
      one.size = 0;
      one.take(lanes[5], i);
      const HitBatch<float> hit = fresh.nearest_hit(one, far_budget());
      EXPECT_TRUE(same_bits(hit.t[0], together[5].t[i])) << seed << " lane " << i;
      EXPECT_EQ(hit.steps[0], together[5].steps[i]);
    }
  }
}

TEST(Places, ThreadsThatFindOutAtOnceFindTheSame) {
  for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(little_effort(8)); ++seed) {
    const Field garden_of = garden(seed);
    const Batches<float> lanes = lanes_any_way<float>(seed, 16, {0, 0, 0}, 1);
    const Hits<float> alone = march(CompiledField(garden_of), lanes, far_budget(), 16);
    const CompiledField shared(garden_of);
    std::vector<Hits<float>> found(4);
    std::vector<std::thread> threads;
    for (std::size_t i = 0; i < found.size(); ++i) {
      threads.emplace_back([&, i] { found[i] = march(shared, lanes, far_budget(), 1 + i * 5); });
    }
    for (std::thread& thread : threads) thread.join();
    for (const Hits<float>& hits : found) EXPECT_EQ(differing(lanes, alone, hits), 0u) << seed;
  }
}

TEST(Places, EveryVectorWidthGivesTheSame) {
  const Field garden_of = garden(3);
  const Batches<float> lanes = lanes_any_way<float>(3, 16, {0, 0, 0}, 1);
  const Batches<double> fine = lanes_any_way<double>(3, 4, {0, 0, 0}, 1);
  std::optional<Hits<float>> first;
  std::optional<Hits<double>> first_fine;
  test::for_each_target([&](const char* target) {
    const CompiledField field(garden_of);
    const Hits<float> hits = march(field, lanes, far_budget(), 16);
    const Hits<double> fine_hits = march(field, fine, far_budget(), 4);
    if (!first) {
      first = hits;
      first_fine = fine_hits;
    }
    EXPECT_EQ(differing(lanes, *first, hits), 0u) << target;
    EXPECT_EQ(differing(fine, *first_fine, fine_hits), 0u) << target;
  });
}

TEST(Places, MemoryIsKeptToItsLimitAndChangesNothing) {
  const Field garden_of = garden(5);
  const Batches<float> lanes =
      lanes_any_way<float>(5, 2 * static_cast<std::size_t>(effort(30)), {0, 0, 0}, 1);
  Budget budget = far_budget();
  const CompiledField roomy(garden_of);
  const std::size_t empty = roomy.memory_bytes();
  const Hits<float> expected = march(roomy, lanes, budget, 2);
  const std::size_t used = roomy.memory_bytes() - empty;
  ASSERT_GT(used, 250'000u);

  const CompiledField tight(garden_of);
  budget.field.place_memory = 0.1;
  std::size_t most = 0;
  for (std::size_t n = 0; n < lanes.size(); n += 2) {
    const Batches<float> some(lanes.begin() + static_cast<std::ptrdiff_t>(n),
                              lanes.begin() + static_cast<std::ptrdiff_t>(n) + 2);
    const Hits<float> hits = march(tight, some, budget, 2);
    most = std::max(most, tight.memory_bytes() - empty);
    const Hits<float> same(expected.begin() + static_cast<std::ptrdiff_t>(n),
                           expected.begin() + static_cast<std::ptrdiff_t>(n) + 2);
    EXPECT_EQ(differing(some, hits, same), 0u) << n;
  }
  // What one call finds out may come on top.
  EXPECT_LT(most, used);

  budget.field.place_memory = 0;
  const CompiledField none(garden_of);
  march(none, lanes, budget, 2);
  // Light that is guessed by distances keeps to the frame's limit as well.
  const LaneBatch<float>& some = lanes.front();
  std::vector<float> without(some.size);
  std::vector<float> whole(some.size);
  std::vector<float> with(some.size);
  none.distances(some.x, some.y, some.z, some.size, without.data(), budget.field);
  budget.field.pruning = false;
  budget.field.place_memory = 64;
  none.distances(some.x, some.y, some.z, some.size, whole.data(), budget.field);
  EXPECT_EQ(none.memory_bytes(), empty);
  none.distances(some.x, some.y, some.z, some.size, with.data(), FieldBudget{});
  EXPECT_GT(none.memory_bytes(), empty);
  for (std::size_t i = 0; i < some.size; ++i) {
    EXPECT_TRUE(same_bits(with[i], without[i]) && same_bits(with[i], whole[i])) << i;
  }
}

TEST(Places, LanesThatStartOnSurfacesLeaveThem) {
  // From what was met on to what is behind, until nothing is: as without pruning.
  const CompiledField field(garden(7));
  Batches<float> lanes = lanes_any_way<float>(7, 8, {0, 0, 0}, 1);
  std::size_t met = 0;
  std::size_t other = 0;
  for (int pass = 0; pass < 4; ++pass) {
    Budget budget = far_budget();
    const Hits<float> hits = march(field, lanes, budget, 8);
    budget.field.pruning = false;
    const Hits<float> plain = march(field, lanes, budget, 1);
    for (std::size_t n = 0; n < lanes.size(); ++n) {
      LaneBatch<float> next = lanes[n];
      next.size = 0;
      next.any_start = true;
      for (std::size_t i = 0; i < lanes[n].size; ++i) {
        if (plain[n].ending[i] != Ending::hit) continue;
        ++met;
        other += hits[n].ending[i] != Ending::hit ||
                 std::abs(hits[n].t[i] - plain[n].t[i]) > 6e-3f * (1 + 0.1f * plain[n].t[i]);
        next.take(lanes[n], i);
        next.start[next.size - 1] = plain[n].t[i];
      }
      lanes[n] = next;
    }
  }
  EXPECT_GT(met, 400u);
  EXPECT_LE(other, met / 100);
}

}  // namespace
}  // namespace photonlane
