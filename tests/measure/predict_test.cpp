// What a frame will cost, by a few percent of it. Tests assert no times: what blocks are made of is
// looked at, and that what is told is in proportion.

#include <gmock/gmock.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "photonlane/io.hpp"
#include "photonlane/measure/profile.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"

namespace photonlane {
namespace {

Scene hills() {
  Scene scene;
  scene.materials.push_back({.base = {0.5f, 0.5f, 0.4f}});
  Room& room = scene.room();
  room.light.sun.emplace();
  room.sky.emplace();
  room.add(field::waves(0.1, 1.5, field::plane({0, 0, 1}, 0)));
  for (int i = 0; i < 12; ++i) {
    room.add(
        field::place({std::cos(i * 0.9) * (1 + 0.3 * i), std::sin(i * 0.9) * (1 + 0.3 * i), 0.4},
                     field::sphere(0.4)));
  }
  return scene;
}
const Camera over = Camera::look_at({4, -7, 3}, {0, 0, 0.2}, 0.9);

TEST(Predict, GrowsWithThePixelsAndMakesFewOfThem) {
  const World world = compile(hills());
  const auto told = [&](int width, int height, int samples) {
    Budget budget{.frame = {width, height, samples}};
    budget.field.pruning = false;  // dear enough not to be made whole
    // The middle one of three, since other work may fall on one.
    std::vector<Prediction> all;
    for (int i = 0; i < 3; ++i) all.push_back(predict(world, over, budget, {.threads = 1}));
    std::sort(all.begin(), all.end(),
              [](const Prediction& a, const Prediction& b) { return a.ms < b.ms; });
    return all[1];
  };
  const Prediction small = told(640, 400, 2);
  const Prediction large = told(1280, 800, 2);
  const Prediction samples = told(640, 400, 8);
  for (const Prediction* one : {&small, &large, &samples}) {
    EXPECT_GT(one->ms, 0);
    EXPECT_LT(one->likely.low, one->ms);
    EXPECT_GT(one->likely.high, one->ms);
    EXPECT_LT(one->share, 0.055);
  }
  // Generous, since machines have moods: four times the work.
  EXPECT_GT(large.ms / small.ms, 2);
  EXPECT_LT(large.ms / small.ms, 8);
  EXPECT_GT(samples.ms / small.ms, 2);
  EXPECT_LT(samples.ms / small.ms, 8);
  EXPECT_GE(large.memory_bytes, 1280u * 800u * 4u);
}

TEST(Predict, TellsWhatIsQuickByMakingIt) {
  Scene scene;
  scene.materials.push_back({.base = {0.5f, 0.5f, 0.4f}});
  scene.room().add(field::sphere(1));
  const World world = compile(scene);
  const Prediction all = predict(world, Camera::look_at({0, -4, 0}, {0, 0, 0}, 0.9),
                                 {.frame = {40, 30, 1}}, {.threads = 1});
  EXPECT_GE(all.share, 1);
  EXPECT_LT(all.ms, 1000);
}

TEST(Predict, WorksForEveryKindOfFrame) {
  for (const char* name : {"evening", "wings", "window", "flowers", "plan"}) {
    io::SceneFile file =
        io::read_scene(std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-" + name + ".yaml");
    file.budget.frame.width = test::effort(203);
    file.budget.frame.height = test::effort(131);
    const World world = compile(file.scene);
    const Camera camera = file.views.empty() ? file.camera : file.views.front().camera;
    const Prediction one = predict(world, camera, file.budget, {.threads = 2});
    EXPECT_GT(one.ms, 0) << name;
    EXPECT_TRUE(std::isfinite(one.likely.high)) << name;
  }
}

TEST(Predict, CanBeStopped) {
  const World world = compile(hills());
  PredictOptions options;
  options.progress = [](double) { return false; };
  try {
    predict(world, over, {.frame = {640, 400, 4}}, options);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::cancelled);
  }
}

TEST(FrameProfiles, NameTheDearRegionAndTheKnobsThatMatter) {
  // From above, without a horizon: a mirror at the right of a plain floor.
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.5f, 0.4f}}, {.base = {0.9f, 0.9f, 0.9f}, .specular = 0.9f}};
  Room& room = scene.room();
  room.light.sun.emplace();
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  // Whoever asks this ball waits.
  FieldFunction slow;
  slow.bounds = {Vec3d(2.5, -0.5, 0), Vec3d(3.5, 0.5, 1)};
  slow.values = [](const SourceBatch<double>& batch) {
    const auto until = std::chrono::steady_clock::now() + std::chrono::microseconds(4);
    while (std::chrono::steady_clock::now() < until) {
    }
    for (std::size_t i = 0; i < batch.count; ++i) {
      batch.value[i] = std::hypot(batch.x[i] - 3, batch.y[i], batch.z[i] - 0.5) - 0.5;
    }
  };
  room.add(field::function(slow).made_of(1));
  const World world = compile(scene);
  const Camera camera = Camera::look_at({0, -2, 8}, {0, 0, 0}, 1.2);
  const Budget budget{.frame = {test::effort(96), test::effort(60), 1}};
  const FrameProfile profile =
      profile_frame(world, camera, budget, {.threads = 1, .errors = false});
  ASSERT_FALSE(profile.regions.empty());
  const DearRegion& first = profile.regions.front();
  // Of the few pixels that the sanitizers look at none costs much more than the others.
  if (test::effort(8) == 8) {
    EXPECT_GT(first.share, 2 * first.pixels);
    EXPECT_GT(first.part.x, budget.frame.width / 2);
  }
  EXPECT_FALSE(first.why.empty());
  const auto find = [&](const std::string& knob, bool finer) {
    return std::find_if(profile.knobs.begin(), profile.knobs.end(), [&](const KnobWorth& one) {
      return one.knob == knob && one.finer == finer;
    });
  };
  ASSERT_NE(find("frame.samples", true), profile.knobs.end());
  EXPECT_LT(find("frame.samples", true)->saved_ms, 0);
  ASSERT_NE(find("light.sun_shadows", false), profile.knobs.end());
  EXPECT_GT(find("light.sun_shadows", false)->saved_ms, 0);
  EXPECT_GT(find("light.sun_shadows", false)->change, 0);
  EXPECT_NE(std::find(profile.idle.begin(), profile.idle.end(), "crossings.limit"),
            profile.idle.end());
  EXPECT_EQ(profile.frame_ms.size(), 3u);
  EXPECT_GT(profile.cost.stages.total_ms(), 0);
}

TEST(Statistics, IntervalsHoldTheMedian) {
  std::vector<double> values;
  for (int i = 0; i < 41; ++i) {
    values.push_back(10 + static_cast<double>(random_uniform({.seed = 5, .pixel = 1ull * i}, 0)));
  }
  const Interval interval = interval_of_median(values);
  EXPECT_LT(interval.low, quantile(values, 0.5));
  EXPECT_GT(interval.high, quantile(values, 0.5));
  EXPECT_LT(interval.wide(), 0.7);
  EXPECT_EQ(interval_of_median({3}).low, 3);
  EXPECT_EQ(interval_of_median({3, 5}).high, 5);
  EXPECT_EQ(interval_of_median({}).wide(), 0);
  // How often the interval of 9 values drawn evenly from 0 to 1 holds 0.5.
  int holds = 0;
  for (std::uint64_t k = 0; k < 400; ++k) {
    std::vector<double> drawn;
    for (std::uint32_t i = 0; i < 9; ++i) {
      drawn.push_back(static_cast<double>(random_uniform({.seed = 9, .pixel = k}, i)));
    }
    const Interval one = interval_of_median(drawn);
    holds += one.low <= 0.5 && one.high >= 0.5;
  }
  EXPECT_GT(holds, 320);
  EXPECT_LT(holds, 396);
}

TEST(Statistics, RatiosOfValuesInTurns) {
  // The machine is twice as slow from one turn to the next: the ratio does not see it.
  std::vector<double> one, two;
  for (int i = 0; i < 15; ++i) {
    const double mood = i % 2 == 0 ? 1 : 2;
    one.push_back(1.2 * mood);
    two.push_back(mood);
  }
  const Interval ratio = interval_of_ratio(one, two);
  EXPECT_NEAR(ratio.low, 1.2, 1e-9);
  EXPECT_NEAR(ratio.high, 1.2, 1e-9);
  EXPECT_TRUE(ratio.apart({0.9, 1.1}));
  EXPECT_FALSE(ratio.apart({1.1, 1.3}));
}

TEST(FrameProfiles, NameTheKnobThatTheErrorComesFrom) {
  // A mirror that reflects nothing yet.
  Scene scene;
  scene.materials = {{.base = {0.6f, 0.2f, 0.1f}}, {.base = {0.9f, 0.9f, 0.9f}, .specular = 0.9f}};
  Room& room = scene.room();
  room.sky.emplace();
  room.light.sun.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  room.add(field::place({0, 0, 1}, field::sphere(1)).made_of(1));
  const World world = compile(scene);
  const Camera near = Camera::look_at({0, -4, 1.5}, {0, 0, 1}, 1.0);
  Budget budget{.frame = {test::effort(64), test::effort(40), 4}};
  budget.bounces.limit = 0;
  budget.against.samples = 4;
  ProfileOptions options{.threads = 2, .repeats = 1, .knobs = false};
  const FrameProfile profile = profile_frame(world, near, budget, options);
  EXPECT_TRUE(profile.knobs.empty());
  EXPECT_GT(profile.error, 0.02);
  ASSERT_FALSE(profile.errors.empty());
  const KnobError& most = profile.errors.front();
  EXPECT_EQ(most.knob, "bounces.limit");
  EXPECT_EQ(most.from, "0");
  EXPECT_LT(most.left, 0.3 * profile.error);
  for (const KnobError& one : profile.errors) EXPECT_LT(one.left, profile.error) << one.knob;
  // What it says is what sweeps find: with the knob turned nothing is left to gain by it.
  budget.bounces.limit = 24;
  const FrameProfile turned = profile_frame(world, near, budget, options);
  EXPECT_NEAR(turned.error, most.left, 1e-9);
  for (const KnobError& one : turned.errors) EXPECT_NE(one.knob, "bounces.limit");
}

TEST(FrameProfiles, OfViewsAreOfTheSlowest) {
  const World world = compile(hills());
  const Camera sky = Camera::look_at({0, 0, 50}, {0, 1, 90}, 0.5);
  ProfileOptions options{.threads = 1, .repeats = 3, .knobs = false, .errors = false};
  options.views = {sky, over, sky};
  const FrameProfile profile =
      profile_frame(world, sky, {.frame = {test::effort(160), test::effort(100), 1}}, options);
  ASSERT_EQ(profile.views.size(), 3u);
  EXPECT_EQ(profile.views.front().view, 1u);
  EXPECT_GT(profile.views.front().ms, profile.views.back().ms);
  EXPECT_GT(profile.tally.hits, 0u);
}

}  // namespace
}  // namespace photonlane
