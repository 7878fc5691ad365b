// Where a frame's time goes: stages add up to what threads took, and what is slowed down on purpose
// is the one that grows.

#include <gmock/gmock.h>

#include <chrono>
#include <cmath>
#include <thread>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

/// A floor, a ball and a wet wall of cells, under a sun and a lamp.
Scene yard(const Field& extra) {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.45f, 0.4f}}, {.base = {0.8f, 0.8f, 0.8f}, .specular = 0.6f}};
  Room& room = scene.room();
  room.light.ambient = {0.3f, 0.3f, 0.35f};
  room.light.sun.emplace();
  room.light.lamps.push_back({.place = {1, -1, 2.5}});
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  room.add(field::place({0, 0, 0.5}, field::sphere(0.5)).made_of(1));
  room.add(extra);
  return scene;
}

const Camera there = Camera::look_at({1.5, -3, 1.4}, {0, 0, 0.4}, 0.9);
const Budget small{.frame = {160, 96, 1}};

double wall_ms(const std::function<void()>& work) {
  const auto from = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - from).count();
}

TEST(Stages, AddUpToTheTimeOfTheThread) {
  const World world = compile(yard(field::place({-1, 0, 0.3}, field::box({0.3, 0.3, 0.3}))));
  Budget budget = small;
  budget.light.corners = Corners::sampled;
  for (const Rays rays : {Rays::automatic, Rays::pixels}) {
    budget.rays = rays;
    Frame frame;
    double least_rest = 1;
    double most_told = 0;
    // Where the machine is busy with other things any moment may be a long one: the best counts.
    for (int turn = 0; turn < 5; ++turn) {
      const double wall = wall_ms([&] {
        frame =
            render(world, there, budget, {.layers = {Layer::color, Layer::depth}, .threads = 1});
      });
      const double told = frame.cost.stages.total_ms() + frame.cost.waiting_ms;
      EXPECT_LE(told, 1.02 * wall);
      most_told = std::max(most_told, told / wall);
      least_rest = std::min(least_rest, frame.cost.stages.ms_of(Work::rest) / told);
    }
    EXPECT_GE(most_told, 0.8);
    EXPECT_LT(least_rest, 0.05);
    double sum = 0;
    for (const Stage& stage : frame.cost.stages.list()) sum += stage.ms;
    EXPECT_NEAR(sum, frame.cost.stages.total_ms(), 1e-9 * sum);
    EXPECT_EQ(frame.cost.threads, 1);
  }
}

TEST(Stages, CountTheLanesTheyAreFor) {
  const World world = compile(yard(field::place({-1, 0, 0.3}, field::box({0.3, 0.3, 0.3}))));
  const Frame frame = render(world, there, small, {.layers = {Layer::color}, .threads = 2});
  const StageTimes& stages = frame.cost.stages;
  EXPECT_EQ(stages.at(LaneKind::eye, Work::march).count, frame.tally.lanes);
  EXPECT_EQ(stages.at(LaneKind::bounces, Work::march).count, frame.tally.bounces);
  EXPECT_EQ(
      stages.at(LaneKind::sun, Work::march).count + stages.at(LaneKind::lamps, Work::march).count,
      frame.tally.shadow_lanes);
  EXPECT_EQ(stages.at(LaneKind::eye, Work::cells).count, 0u);
  EXPECT_GT(stages.at(LaneKind::corners, Work::march).count, 0u);
}

/// A ball that takes its time whenever it is asked.
Field slow_ball(std::chrono::microseconds wait) {
  FieldFunction ball;
  ball.bounds = {Vec3d(-1.4, -0.4, 0), Vec3d(-0.6, 0.4, 0.8)};
  ball.values = [wait](const SourceBatch<double>& batch) {
    const auto until = std::chrono::steady_clock::now() + wait;
    while (std::chrono::steady_clock::now() < until) {
    }
    for (std::size_t i = 0; i < batch.count; ++i) {
      batch.value[i] = std::hypot(batch.x[i] + 1, batch.y[i], batch.z[i] - 0.4) - 0.4;
    }
  };
  return field::function(ball);
}

TEST(Stages, TellWhatIsSlow) {
  const auto stages = [](std::chrono::microseconds wait) {
    return render(compile(yard(slow_ball(wait))), there, {.frame = {64, 40, 1}},
                  {.layers = {Layer::color}, .threads = 1})
        .cost.stages;
  };
  const StageTimes quick = stages(std::chrono::microseconds(0));
  const StageTimes slow = stages(std::chrono::microseconds(100));
  const double grown = slow.total_ms() - quick.total_ms();
  const auto of_fields = [](const StageTimes& all) {
    return all.ms_of(Work::march) + all.ms_of(Work::prune) + all.ms_of(Work::refine) +
           all.ms_of(Work::normals);
  };
  EXPECT_GT(of_fields(slow) - of_fields(quick), 0.9 * grown);
  EXPECT_GT(of_fields(slow), 0.8 * slow.total_ms());
}

TEST(Stages, OfCellsAloneTellOfAllGroups) {
  Scene scene;
  scene.materials.push_back({.base = {0.5f, 0.4f, 0.3f}});
  const CellMap map = test::random_map(16, 16, 0.1, 7, true);
  scene.room().add(map);
  Budget budget{.frame = {512, 256, 1}};
  budget.rays = Rays::pixels;
  const Camera camera{.eye = {8.5, 8.5, 1.6}};
  Frame frame;
  const double wall = wall_ms([&] {
    frame = render(compile(scene), camera, budget, {.layers = {Layer::color}, .threads = 1});
  });
  EXPECT_LE(frame.cost.stages.total_ms(), 1.02 * wall);
  EXPECT_NEAR(static_cast<double>(frame.cost.stages.at(LaneKind::eye, Work::cells).count),
              static_cast<double>(frame.tally.lanes), 0.3 * static_cast<double>(frame.tally.lanes));
}

TEST(Stages, CostOfPixelsIsThatOfTheirLanes) {
  const World world = compile(yard(slow_ball(std::chrono::microseconds(20))));
  for (const bool colors : {true, false}) {
    LayerSet layers{Layer::cost};
    if (colors) layers.add(Layer::color);
    const Frame frame = render(world, there, small, {.layers = layers, .threads = 1});
    double sum = 0;
    double sky = 0;
    for (int y = 0; y < frame.size().height; ++y) {
      for (int x = 0; x < frame.size().width; ++x) {
        const double cost = static_cast<double>(frame.values(Layer::cost)(x, y));
        ASSERT_GE(cost, 0);
        sum += cost;
        // Lanes past everything do not meet the slow ball's surroundings.
        if (y < frame.size().height / 8) sky += cost;
      }
    }
    EXPECT_LE(sum * 1e-6, 1.01 * frame.cost.stages.total_ms());
    EXPECT_GE(sum * 1e-6, 0.8 * frame.cost.stages.total_ms());
    EXPECT_LT(sky, 0.06 * sum);
  }
}

TEST(Stages, WorkOfPixelsIsTheSameEachTime) {
  const World world = compile(yard(field::place({-1, 0, 0.3}, field::box({0.3, 0.3, 0.3}))));
  for (const Rays rays : {Rays::automatic, Rays::pixels}) {
    Budget budget = small;
    budget.rays = rays;
    const auto work = [&](int threads, LayerSet layers) {
      layers.add(Layer::work);
      return render(world, there, budget, {.layers = layers, .threads = threads});
    };
    const Frame one = work(1, {});
    EXPECT_EQ(test::hash_of(one, Layer::work), test::hash_of(work(1, {}), Layer::work));
    EXPECT_EQ(test::hash_of(one, Layer::work), test::hash_of(work(2, {Layer::color}), Layer::work));
    // The mirror, in the middle, takes more than the sky.
    EXPECT_GT(one.values(Layer::work)(80, 40), 3 * one.values(Layer::work)(80, 2));
  }
  // A part has the work of the whole there.
  const Frame whole = render(world, there, small, {.layers = {Layer::work}});
  const Frame part =
      render(world, there, small, {.layers = {Layer::work}, .part = PixelPart{30, 20, {50, 40}}});
  for (int y = 0; y < 40; ++y) {
    for (int x = 0; x < 50; ++x) {
      ASSERT_EQ(part.values(Layer::work)(x, y), whole.values(Layer::work)(30 + x, 20 + y));
    }
  }
}

TEST(Stages, PlanesHaveNoCostOfPixels) {
  Scene scene;
  scene.plane.emplace();
  const World world = compile(scene);
  const Frame frame = render(world, {}, {.frame = {64, 48}}, {.threads = 1});
  EXPECT_GT(frame.cost.stages.at(LaneKind::eye, Work::iterate).ms, 0);
  EXPECT_EQ(frame.cost.stages.at(LaneKind::eye, Work::iterate).count, 64u * 48u);
  EXPECT_THROW(render(world, {}, {.frame = {64, 48}}, {.layers = {Layer::cost}}), Error);
}

}  // namespace
}  // namespace photonlane
