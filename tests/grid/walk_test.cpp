#include <gtest/gtest.h>

#include <bit>
#include <cmath>

#include "photonlane/grid/cell_solid.hpp"
#include "support/plain_walk.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using test::one_lane;
using test::with_method;

/// The first lane of a batch.
template <class Number>
struct Met {
  Number t;
  Ending ending;
  Face face;
  std::uint32_t item;
  std::uint32_t steps;
};

template <class Number>
Met<Number> trace(const CellSolid& solid, const LaneBatch<Number>& lanes, const Budget& budget,
                  std::size_t i = 0) {
  const HitBatch<Number> hits = solid.nearest_hit(lanes, budget);
  return {hits.t[i], hits.ending[i], hits.face[i], hits.item[i], hits.steps[i]};
}

CellSolid room_of(int inside) {
  return CellSolid(test::drawn(test::square_room(inside)).room().cell_map());
}

const CellMethod exact_methods[] = {CellMethod::boundary, CellMethod::leap};

TEST(Walk, DistanceToTheWallsOfARoomAtEveryAngle) {
  const CellSolid room = room_of(20);  // inside from 1 to 21
  const double x = 7.3;
  const double y = 12.8;
  for (const CellMethod method : exact_methods) {
    for (int i = 0; i < 3600; ++i) {
      const double angle = degrees(0.1 * i + 0.03);
      const double dx = std::cos(angle);
      const double dy = std::sin(angle);
      const double across_x = ((dx > 0 ? 21 : 1) - x) / dx;
      const double across_y = ((dy > 0 ? 21 : 1) - y) / dy;
      const auto met = trace(room, one_lane<double>(x, y, dx, dy), with_method(method));
      ASSERT_EQ(met.ending, Ending::hit);
      EXPECT_NEAR(met.t, std::min(across_x, across_y), 1e-12);
      const Face face = across_x < across_y ? (dx > 0 ? Face::west : Face::east)
                                            : (dy > 0 ? Face::south : Face::north);
      EXPECT_EQ(met.face, face);
      const auto single = trace(room, one_lane<float>(x, y, dx, dy), with_method(method));
      EXPECT_NEAR(single.t, met.t, 1e-5);
    }
  }
}

TEST(Walk, LanesAlongTheAxes) {
  const CellSolid room = room_of(8);
  const struct {
    double dx, dy, t;
    Face face;
  } cases[] = {{1, 0, 5.75, Face::west},
               {-1, 0, 2.25, Face::east},
               {0, 1, 4.5, Face::south},
               {0, -1, 3.5, Face::north}};
  for (const CellMethod method : exact_methods) {
    for (const auto& one : cases) {
      for (const double zero : {0.0, -0.0}) {
        const auto met = trace(
            room,
            one_lane<float>(3.25, 4.5, one.dx == 0 ? zero : one.dx, one.dy == 0 ? zero : one.dy),
            with_method(method));
        EXPECT_EQ(met.t, static_cast<float>(one.t));
        EXPECT_EQ(met.face, one.face);
      }
    }
  }
}

TEST(Walk, LanesThatStartOnABoundary) {
  const CellSolid room = room_of(8);
  for (const CellMethod method : exact_methods) {
    const Budget budget = with_method(method);
    // On the boundary between two cells, either way, and along it.
    EXPECT_EQ(trace(room, one_lane<float>(4, 4.5, 1, 0), budget).t, 5);
    EXPECT_EQ(trace(room, one_lane<float>(4, 4.5, -1, 0), budget).t, 3);
    EXPECT_EQ(trace(room, one_lane<float>(4, 4.5, 0, 1), budget).t, 4.5f);
    EXPECT_EQ(trace(room, one_lane<float>(4, 4, 0, -1), budget).t, 3);
    // On a wall's own face: away from it the room is open, into it the wall is met at once.
    const auto into = trace(room, one_lane<float>(1, 4.5, -1, 0), budget);
    EXPECT_EQ(into.t, 0);
    EXPECT_EQ(into.face, Face::east);
    EXPECT_EQ(trace(room, one_lane<float>(1, 4.5, 1, 0), budget).t, 8);
    // At 9 the cell to the east is the wall itself.
    EXPECT_EQ(trace(room, one_lane<float>(9, 4.5, 1, 0), budget).face, Face::inside);
  }
}

TEST(Walk, LanesThroughCornersMeetWallsOnEitherSide) {
  const double half = std::sqrt(0.5);
  for (const CellMethod method : exact_methods) {
    const Budget budget = with_method(method);
    // Two walls that touch at a corner let nothing through between them.
    const CellSolid crack(test::drawn("....\n.#..\n..#.\n....").room().cell_map());
    const auto met = trace(crack, one_lane<float>(1.5, 1.5, half, half), budget);
    EXPECT_EQ(met.ending, Ending::hit);
    EXPECT_NEAR(met.t, half, 1e-6);
    const auto back = trace(crack, one_lane<float>(2.5, 2.5, -half, -half), budget);
    EXPECT_EQ(back.ending, Ending::hit);
    // Down the diagonal of an open map no cell stands in the way, and the far corner is met.
    const auto far = trace(room_of(8), one_lane<float>(1.5, 1.5, half, half), budget);
    EXPECT_NEAR(far.t, 7.5 / half, 1e-5);
  }
}

TEST(Walk, AgreesWithASlowMethodOverThousandsOfRandomMaps) {
  int near_corners = 0;
  int compared = 0;
  for (std::uint64_t seed = 0; seed < 3000; ++seed) {
    const RandomKey key{.seed = 11, .pixel = seed};
    const int width = 1 + static_cast<int>(random_below(key, 0, 60));
    const int height = 1 + static_cast<int>(random_below(key, 1, 60));
    CellMap map = test::random_map(width, height, 0.12 * random_uniform(key, 2), seed, false);
    map.repeat = seed % 3 == 0;
    map.cell_size = seed % 2 == 0 ? 1 : 0.5 + random_uniform(key, 3);
    const CellSolid solid(map);
    for (std::uint32_t i = 0; i < 4; ++i) {
      const RandomKey ray{.seed = 12, .pixel = seed, .sample = i};
      // Some start outside the map.
      const double x = (1.6 * random_uniform(ray, 0) - 0.3) * width * map.cell_size;
      const double y = (1.6 * random_uniform(ray, 1) - 0.3) * height * map.cell_size;
      const double angle = 2 * pi * random_uniform(ray, 2);
      const double dx = std::cos(angle);
      const double dy = std::sin(angle);
      const test::PlainHit truth = test::plain_walk(map, x, y, dx, dy, 120);
      for (const CellMethod method : exact_methods) {
        const auto met = trace(solid, one_lane<double>(x, y, dx, dy, 120), with_method(method));
        ASSERT_EQ(met.ending == Ending::hit, truth.hit) << seed << " " << i;
        ASSERT_NEAR(met.t, truth.t, 1e-9) << seed << " " << i;
        if (truth.hit) {
          ASSERT_EQ(met.item, static_cast<std::uint32_t>(truth.y * width + truth.x));
        }
        // In float a lane that passes within rounding of a corner may take its other side.
        if (truth.margin < 1e-3) {
          ++near_corners;
          continue;
        }
        ++compared;
        const auto single = trace(solid, one_lane<float>(x, y, dx, dy, 120), with_method(method));
        ASSERT_EQ(single.ending == Ending::hit, truth.hit) << seed << " " << i;
        ASSERT_NEAR(single.t, truth.t, 2e-3) << seed << " " << i;
      }
    }
  }
  EXPECT_GT(compared, 10 * near_corners);
}

/// Every lane of a batch around a point, the same bits by both methods.
void expect_leap_equals_boundary(const CellMap& map, double x, double y, double far_limit) {
  const CellSolid solid(map);
  LaneBatch<float> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = static_cast<float>(far_limit);
  for (int turn = 0; turn < 8; ++turn) {
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const double angle = 2 * pi * (turn * 128.0 + static_cast<double>(i)) / 1024;
      lanes.x[i] = static_cast<float>(x);
      lanes.y[i] = static_cast<float>(y);
      lanes.direction_x[i] = static_cast<float>(std::cos(angle));
      lanes.direction_y[i] = static_cast<float>(std::sin(angle));
    }
    const HitBatch<float> slow = solid.nearest_hit(lanes, with_method(CellMethod::boundary));
    const HitBatch<float> fast = solid.nearest_hit(lanes, with_method(CellMethod::leap));
    for (std::size_t i = 0; i < lanes.size; ++i) {
      ASSERT_EQ(std::bit_cast<std::uint32_t>(slow.t[i]), std::bit_cast<std::uint32_t>(fast.t[i]));
      ASSERT_EQ(slow.item[i], fast.item[i]);
      ASSERT_EQ(slow.face[i], fast.face[i]);
      ASSERT_EQ(slow.ending[i], fast.ending[i]);
      ASSERT_EQ(slow.material[i], fast.material[i]);
      ASSERT_LE(fast.steps[i], slow.steps[i]);
    }
  }
}

TEST(Walk, LeapGivesTheHitsOfBoundaryBitForBit) {
  for (std::uint64_t seed = 0; seed < 160; ++seed) {
    const RandomKey key{.seed = 21, .pixel = seed};
    const int width = 1 + static_cast<int>(random_below(key, 0, 300));
    const int height = 1 + static_cast<int>(random_below(key, 1, 300));
    const double share = std::pow(10, -1 - 3 * random_uniform(key, 2));
    CellMap map = test::random_map(width, height, share, seed, seed % 2 == 0);
    map.repeat = seed % 4 == 3;
    expect_leap_equals_boundary(map, (1.4 * random_uniform(key, 3) - 0.2) * width,
                                (1.4 * random_uniform(key, 4) - 0.2) * height, 2000);
  }
}

TEST(Walk, LeapEqualsBoundaryFromWholeNumbersAndOnLargeMaps) {
  CellMap map = test::random_map(2048, 1500, 2e-5, 5, true);
  map.at(1024, 750) = empty_cell;
  expect_leap_equals_boundary(map, 1024, 750, 5000);
  expect_leap_equals_boundary(map, 1024.5, 750, 5000);
  expect_leap_equals_boundary(map, -3000.25, 4000.5, 20000);
}

TEST(Walk, EveryVectorWidthGivesTheSameBits) {
  CellMap map = test::random_map(200, 160, 0.004, 9, false);
  for (const bool repeat : {false, true}) {
    map.repeat = repeat;
    const CellSolid solid(map);
    for (const CellMethod method :
         {CellMethod::boundary, CellMethod::leap, CellMethod::increment}) {
      std::vector<std::uint64_t> hashes;
      test::for_each_target([&](const char*) {
        std::uint64_t hash = 0;
        LaneBatch<float> lanes;
        LaneBatch<double> wide;
        lanes.size = wide.size = 101;  // no multiple of any vector's width
        lanes.far_limit = 700;
        wide.far_limit = 700;
        for (std::size_t i = 0; i < lanes.size; ++i) {
          const double angle = 2 * pi * static_cast<double>(i) / 101;
          wide.x[i] = lanes.x[i] = 100.37f;
          wide.y[i] = lanes.y[i] = 80.11f;
          wide.direction_x[i] = lanes.direction_x[i] = static_cast<float>(std::cos(angle));
          wide.direction_y[i] = lanes.direction_y[i] = static_cast<float>(std::sin(angle));
        }
        Budget budget = with_method(method);
        budget.cells.increment = 0.13;
        const auto hits = solid.nearest_hit(lanes, budget);
        const auto wide_hits = solid.nearest_hit(wide, budget);
        for (std::size_t i = 0; i < lanes.size; ++i) {
          hash = mix(hash ^ std::bit_cast<std::uint32_t>(hits.t[i]));
          hash = mix(hash ^ std::bit_cast<std::uint64_t>(wide_hits.t[i]));
          hash = mix(hash ^ hits.item[i] ^ (std::uint64_t{hits.steps[i]} << 32));
          hash = mix(hash ^ wide_hits.item[i] ^ (std::uint64_t{wide_hits.steps[i]} << 32));
          hash = mix(hash ^ static_cast<std::uint32_t>(hits.face[i]) ^
                     (std::uint64_t{static_cast<std::uint32_t>(wide_hits.ending[i])} << 32));
        }
        hashes.push_back(hash);
      });
      EXPECT_GE(hashes.size(), 2u);
      for (const std::uint64_t hash : hashes) EXPECT_EQ(hash, hashes.front());
    }
  }
}

TEST(Walk, IncrementsConvergeToTheBoundary) {
  CellMap map = test::random_map(40, 40, 0.08, 4, true);
  map.at(20, 19) = empty_cell;
  const CellSolid solid(map);
  double last_share = 1;
  for (const double increment : {0.5, 0.05, 0.005}) {
    int other = 0;
    for (int i = 0; i < 720; ++i) {
      const double angle = degrees(0.5 * i + 0.1);
      const auto lane = one_lane<double>(20.3, 19.6, std::cos(angle), std::sin(angle));
      Budget budget = with_method(CellMethod::increment);
      budget.cells.increment = increment;
      const auto steps = trace(solid, lane, budget);
      const auto exact = trace(solid, lane, with_method(CellMethod::boundary));
      // A step never stops short of a wall, and where it met the right one it is less than a step
      // inside.
      EXPECT_GE(steps.t, exact.t - 1e-9);
      if (steps.item == exact.item) {
        EXPECT_LE(steps.t, exact.t + increment + 1e-9);
        EXPECT_EQ(steps.steps, static_cast<std::uint32_t>(std::ceil(exact.t / increment - 1e-9)));
      } else {
        ++other;
      }
    }
    const double share = other / 720.0;
    EXPECT_LT(share, last_share);
    last_share = share;
  }
  EXPECT_LT(last_share, 0.01);
}

TEST(Walk, IncrementsTunnelThroughThinWallsAndSayNothing) {
  const CellMap wall = test::drawn(".....#...").room().cell_map();
  Budget careless = with_method(CellMethod::increment);
  careless.cells.increment = 3.1;
  EXPECT_EQ(trace(CellSolid(wall), one_lane<float>(0.5, 0.5, 1, 0), careless).ending,
            Ending::escaped);
  EXPECT_EQ(
      trace(CellSolid(wall), one_lane<float>(0.5, 0.5, 1, 0), with_method(CellMethod::boundary)).t,
      4.5f);
}

TEST(Walk, LanesThatMeetNothingEscapeAtTheFarLimit) {
  CellMap open = test::drawn("...\n...\n...").room().cell_map();
  for (const CellMethod method : {CellMethod::boundary, CellMethod::leap, CellMethod::increment}) {
    for (const bool repeat : {false, true}) {
      open.repeat = repeat;
      const CellSolid solid(open);
      const auto met = trace(solid, one_lane<float>(1.5, 1.5, 0.6, 0.8, 250), with_method(method));
      EXPECT_EQ(met.ending, Ending::escaped) << name_of(method) << repeat;
      EXPECT_EQ(met.t, 250);
      EXPECT_EQ(met.face, Face::none);
      EXPECT_EQ(met.item, no_item);
    }
  }
  // A map that does not repeat is left after a few steps, however far the limit is.
  open.repeat = false;
  EXPECT_LE(trace(CellSolid(open), one_lane<float>(1.5, 1.5, 0.6, 0.8, 1e6),
                  with_method(CellMethod::boundary))
                .steps,
            4u);
}

TEST(Walk, LanesThatRunOutOfStepsAreSpent) {
  CellMap open = test::drawn("...\n...\n...").room().cell_map();
  open.repeat = true;
  for (const CellMethod method : {CellMethod::boundary, CellMethod::leap, CellMethod::increment}) {
    Budget budget = with_method(method);
    budget.cells.steps = 7;
    budget.cells.increment = 0.25;
    const auto met = trace(CellSolid(open), one_lane<float>(1.5, 1.5, 1, 0, 1e5), budget);
    EXPECT_EQ(met.ending, Ending::spent) << name_of(method);
    EXPECT_EQ(met.steps, 7u);
    EXPECT_GT(met.t, 0);
    EXPECT_LT(met.t, 25);
  }
  // Exactly as many steps as it takes are enough; one less is not.
  const CellSolid room = room_of(8);
  Budget budget = with_method(CellMethod::boundary);
  budget.cells.steps = 6;
  EXPECT_EQ(trace(room, one_lane<float>(3.5, 4.5, 1, 0), budget).ending, Ending::hit);
  budget.cells.steps = 5;
  EXPECT_EQ(trace(room, one_lane<float>(3.5, 4.5, 1, 0), budget).ending, Ending::spent);
}

TEST(Walk, AnEyeInsideAWallMeetsItAtOnce) {
  const CellSolid room = room_of(4);
  for (const CellMethod method : {CellMethod::boundary, CellMethod::leap, CellMethod::increment}) {
    const auto met = trace(room, one_lane<float>(0.4, 2.5, 1, 0), with_method(method));
    EXPECT_EQ(met.ending, Ending::hit);
    EXPECT_EQ(met.t, 0);
    EXPECT_EQ(met.face, Face::inside);
    EXPECT_EQ(met.item, 2u * 6u);
  }
}

TEST(Walk, LanesFromOutsideEnterTheMap) {
  const CellSolid solid(test::drawn(".....\n..#..\n.....").room().cell_map());
  for (const CellMethod method : exact_methods) {
    const Budget budget = with_method(method);
    const auto met = trace(solid, one_lane<float>(-100.5, 1.5, 1, 0), budget);
    EXPECT_EQ(met.t, 102.5f);
    EXPECT_EQ(met.face, Face::west);
    EXPECT_LE(met.steps, 4u) << "the way to the map is one step";
    EXPECT_EQ(trace(solid, one_lane<float>(2.5, 50, 0, -1), budget).t, 48);
    // Away from it, beside it, and ending before it.
    EXPECT_EQ(trace(solid, one_lane<float>(-100.5, 1.5, -1, 0), budget).ending, Ending::escaped);
    EXPECT_EQ(trace(solid, one_lane<float>(-100.5, 7.5, 1, 0), budget).ending, Ending::escaped);
    EXPECT_EQ(trace(solid, one_lane<float>(-100.5, 1.5, 0, 1), budget).ending, Ending::escaped);
    EXPECT_EQ(trace(solid, one_lane<float>(-100.5, 1.5, 1, 0, 50), budget).ending, Ending::escaped);
  }
  Budget steps = with_method(CellMethod::increment);
  steps.cells.increment = 0.25;
  const auto met = trace(solid, one_lane<float>(-100.5, 1.5, 1, 0), steps);
  EXPECT_EQ(met.ending, Ending::hit);
  EXPECT_NEAR(met.t, 102.5, 0.26);
  EXPECT_EQ(trace(solid, one_lane<float>(-100.5, 1.5, 0, 1), steps).ending, Ending::escaped);
}

TEST(Walk, RepeatedMapsGoOnWithoutEnd) {
  // One wall in every 7x5 cells; far along a lane, a copy of it is met.
  CellMap map = test::drawn(".......\n.......\n...#...\n.......\n.......").room().cell_map();
  map.repeat = true;
  const CellSolid solid(map);
  for (const CellMethod method : exact_methods) {
    for (int copy = -3; copy <= 3; ++copy) {
      const auto met =
          trace(solid, one_lane<float>(0.5 + 7 * copy, 2.5 - 5 * copy, 1, 0), with_method(method));
      EXPECT_EQ(met.t, 2.5f);
      EXPECT_EQ(met.item, 2u * 7u + 3u);
    }
  }
}

}  // namespace
}  // namespace photonlane
