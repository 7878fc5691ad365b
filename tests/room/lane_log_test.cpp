#include "photonlane/follow/lane_log.hpp"

#include <gtest/gtest.h>

#include "support/scenes.hpp"

namespace photonlane {
namespace {

/// A mirror, a pane, a glass ball and a portal, one behind another and side by side.
Scene crowded() {
  Scene scene;
  scene.wall({.base = {0.6f, 0.5f, 0.4f}}, "floor");
  scene.wall({.base = {0.8f, 0.8f, 0.8f}, .roughness = 0, .specular = 1}, "mirror");
  scene.wall({.base = {0.2f, 0.6f, 0.3f}, .opacity = 0.4f}, "pane");
  Material glass{.base = {1, 1, 1}, .specular = 0.04};
  glass.opacity = 0;
  glass.index = 1.5;
  scene.wall(glass, "glass");
  Room& room = scene.room();
  room.name = "here";
  room.light.ambient = {0.5f, 0.5f, 0.5f};
  room.light.lamps.push_back({.place = {0, -2, 3}, .range = 12});
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  room.add(field::place({-1.5, 3, 1}, field::box({1.5, 0.1, 2})).made_of(1));
  room.add(field::place({0.2, 2, 1}, field::box({1, 0.02, 2})).made_of(2));
  room.add(field::place({1.6, 2, 0.8}, field::sphere(0.6)).made_of(3));
  Portal door;
  door.name = "door";
  door.opening = {.width = 3, .height = 2};
  door.stance = {.at = {1, 3.5, 1}, .heading = degrees(-90)};
  door.to = PortalTarget{.room = "there", .stance = {.at = {0, 0, 1}}, .scale = 2};
  room.portals.push_back(door);
  Room& there = scene.add_room("there");
  there.add(field::place({6, 0, 0}, field::box({1, 20, 9})).made_of(0));
  there.fog = {.color = {0.1f, 0.2f, 0.4f}, .start = 1, .end = 12};
  return scene;
}

const Camera eye = Camera::look_at({0.2, -3, 1.3}, {0.3, 2, 1}, degrees(55));

TEST(LaneLogs, EndWhereTheFrameDoes) {
  const World world = compile(crowded());
  for (const int samples : {1, 3}) {
    Budget budget;
    budget.frame = {80, 50, samples};
    budget.bounces.limit = 5;
    const Frame frame = render(world, eye, budget,
                               test::with_layers({Layer::color, Layer::depth, Layer::ray_distance,
                                                  Layer::ending, Layer::room, Layer::crossings}));
    int crossed = 0;
    int bounced = 0;
    for (const auto& [x, y] : std::vector<std::pair<int, int>>{
             {8, 22}, {20, 25}, {38, 20}, {44, 24}, {52, 22}, {60, 20}, {56, 32}, {40, 45}}) {
      const LaneLog log = log_lane(world, eye, budget, x, y);
      Color sum(0, 0, 0);
      for (const LaneLeg& leg : log.legs) sum += leg.added;
      for (int c = 0; c < 3; ++c) {
        EXPECT_EQ(log.color[c], frame.values(Layer::color, c)(x, y));
        EXPECT_NEAR(sum[c], log.color[c], 2e-6f) << x << "," << y;
      }
      EXPECT_EQ(log.depth, frame.values(Layer::depth)(x, y));
      EXPECT_EQ(log.room, frame.codes(Layer::room)(x, y));
      EXPECT_EQ(log.crossings, frame.codes(Layer::crossings)(x, y));
      for (const LaneLeg& leg : log.legs) {
        EXPECT_NEAR(leg.way.norm(), 1, 1e-6);
        crossed += leg.start == LegStart::portal;
        bounced += leg.start == LegStart::thrown_back;
        if (leg.from < 0) continue;
        // A leg starts where the one before met something, or beyond the portal there.
        const LaneLeg& before = log.legs[static_cast<std::size_t>(leg.from)];
        double nearest = 1e9;
        for (const LaneMeeting& met : before.meetings) {
          const Vec3d at = met.portal ? met.map.place(met.place) : met.place;
          nearest = std::min(nearest, (at - leg.place).norm());
        }
        EXPECT_LT(nearest, 0.01);
      }
    }
    EXPECT_GT(crossed, 2);
    EXPECT_GT(bounced, 0);
  }
}

TEST(LaneLogs, TellEveryStepOfMarching) {
  const World world = compile(crowded());
  Budget budget;
  budget.frame = {80, 50, 1};
  budget.field.pruning = false;
  budget.field.method = FieldMethod::sphere;
  const LaneLog plain = log_lane(world, eye, budget, 40, 45);
  const LaneLog log = log_lane(world, eye, budget, 40, 45, {.march = true});
  EXPECT_TRUE(plain.legs[0].march.empty());
  const LaneLeg& leg = log.legs[0];
  ASSERT_EQ(leg.march.size(), leg.steps);
  ASSERT_GT(leg.march.size(), 3u);
  const CompiledField solids(field::join({field::plane({0, 0, 1}, 0),
                                          field::place({-1.5, 3, 1}, field::box({1.5, 0.1, 2})),
                                          field::place({0.2, 2, 1}, field::box({1, 0.02, 2}))}));
  int asked = 0;
  for (const MarchStep& step : leg.march) {
    // What the kernel found there is what the field says; the glass is marched by itself.
    const double value = solids.distance(leg.place + step.t * leg.way);
    asked += std::abs(value - step.value) < 1e-4;
  }
  EXPECT_GE(asked, 3);
  EXPECT_LE(leg.march.back().t, 2 * leg.length + 1);
}

TEST(LaneLogs, RefusePixelsOutsideTheFrame) {
  Budget budget;
  budget.frame = {80, 50, 1};
  EXPECT_THROW(log_lane(compile(crowded()), eye, budget, 80, 0), Error);
  EXPECT_THROW(log_lane(compile(crowded()), eye, budget, 0, -1), Error);
}

}  // namespace
}  // namespace photonlane
