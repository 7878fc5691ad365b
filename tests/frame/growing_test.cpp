// Frames that get better: the same samples give the same bytes however they are taken, and what is
// said of the error that is left is true.

#include "photonlane/frame/growing_frame.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>

#include "support/effort.hpp"
#include "support/paths.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using test::hash_of;
using test::path_budget;

/// A bit of everything: cells, a field, balls, glass, a lamp, a sun, a pane, fog, a sprite.
Scene furnished() {
  Scene scene = test::drawn("#######\n#.....#\n#..A..#\n#.....#\n#.....#\n#######");
  Room& room = scene.room();
  room.light.ambient = {0, 0, 0};
  room.fog = {.color = {0.5f, 0.5f, 0.6f}, .start = 4, .end = 60};
  room.has_ceiling = false;
  room.sky = Sky{};
  room.light.sun = Sun{.heading = 1, .elevation = 0.7, .color = {1, 0.9f, 0.8f}};
  room.light.lamps.push_back(
      {.place = {2, 2, 2}, .color = {1, 0.8f, 0.5f}, .range = 5, .radius = 0.1, .power = 40});
  const auto add = [&](const Material& material) {
    return static_cast<int>(material_of(scene.wall(material, "more")));
  };
  const int glass = add({.base = {1, 1, 1}, .opacity = 0.02, .index = 1.5});
  const int brass = add({.base = {0.9f, 0.7f, 0.3f}, .roughness = 0.35, .metal = 1});
  const int glow = add({.base = {0, 0, 0}, .emission = {2, 3, 4}});
  scene.materials[1].opacity = 0.4;
  room.add(field::place({4, 1.8, 0.5}, field::sphere(0.5)).made_of(brass));
  Spheres balls({{.center = {2.8, 2.6, 0.4}, .radius = 0.4}}, glass);
  balls.spheres.push_back({.center = {4.9, 3.2, 0.3}, .radius = 0.3, .material = glow});
  room.add(balls);
  return scene;
}

Camera eye() {
  Camera camera;
  camera.eye = {1.3, 1.3, 1.5};
  camera.heading = 0.7;
  camera.pitch = -0.2;
  return camera;
}

GrowingFrame growing(const Scene& scene, const Budget& budget, int threads = 2, bool tell = false) {
  GrowingOptions options;
  options.threads = threads;
  options.tell = tell;
  return {compile(scene), eye(), budget, options};
}

/// With so many samples of its own that others can be measured against it.
GrowingFrame truth_of(const Scene& scene, Budget budget, int samples) {
  budget.frame.seed = 1000;
  GrowingFrame truth = growing(scene, budget);
  truth.take(test::little_effort(samples));
  return truth;
}

std::uint64_t bytes_of(const GrowingFrame& frame) {
  return hash_of(frame.picture({Layer::radiance}), Layer::radiance);
}

TEST(GrowingFrame, SamplesTakenInPartsAndByAnyThreadsGiveTheSameBytes) {
  const Scene scene = furnished();
  const Budget budget = path_budget(80, 48, 1, 5);
  GrowingFrame at_once = growing(scene, budget, 1);
  at_once.take(7);
  GrowingFrame in_parts = growing(scene, budget, 3);
  for (const int samples : {1, 3, 2, 1}) in_parts.take(samples);
  EXPECT_EQ(bytes_of(at_once), bytes_of(in_parts));
  EXPECT_EQ(at_once.gathered().tally, in_parts.gathered().tally);
  EXPECT_EQ(in_parts.samples(), 7);
  // By a frame of as many.
  Budget all = budget;
  all.frame.samples = 7;
  const Frame frame = test::path_frame(scene, eye(), all);
  EXPECT_EQ(hash_of(frame, Layer::radiance), bytes_of(at_once));
}

TEST(GrowingFrame, GoesOnWithTheSamplesThatOtherFramesHaveTaken) {
  const Scene scene = furnished();
  Budget budget = path_budget(40, 24, 1, 4);
  budget.frame.sequence = SampleSequence::open;
  const auto taken = [&](int first, int samples) {
    budget.frame.first = first;
    GrowingFrame frame = growing(scene, budget);
    frame.take(samples);
    return frame.picture({Layer::radiance});
  };
  const Frame all = taken(0, 8);
  const Frame one = taken(0, 4);
  const Frame two = taken(4, 4);
  for (int y = 0; y < 24; ++y) {
    for (int x = 0; x < 40; ++x) {
      const float mean =
          0.5f * (one.values(Layer::radiance, 1)(x, y) + two.values(Layer::radiance, 1)(x, y));
      ASSERT_NEAR(all.values(Layer::radiance, 1)(x, y), mean, 1e-5f + 1e-5f * mean);
    }
  }
  // Of no open sequence there are none before.
  budget.frame.sequence = SampleSequence::lattice;
  EXPECT_EQ(hash_of(taken(4, 4), Layer::radiance), hash_of(one, Layer::radiance));
}

TEST(GrowingFrame, StoppedAndGoneOnWithGivesTheSameBytes) {
  const Scene scene = furnished();
  for (const bool adaptive : {false, true}) {
    Budget budget = path_budget(80, 48, 1, 4);
    budget.frame.adaptive = adaptive;
    GrowingFrame whole = growing(scene, budget);
    whole.take(21);
    GrowingFrame first = growing(scene, budget);
    first.take(10);
    GrowingFrame second = growing(scene, budget, 1);
    second.go_on_from(first.gathered());
    second.take(11);
    EXPECT_EQ(bytes_of(whole), bytes_of(second)) << adaptive;
    EXPECT_NEAR(whole.samples(), 21, adaptive ? 1.5 : 0);
  }
}

TEST(GrowingFrame, TimeBoundedSamplesGoOnWhereTheyStopped) {
  const Scene scene = furnished();
  const Budget budget = path_budget(160, 96, 1, 4);
  GrowingFrame frame = growing(scene, budget);
  frame.take_for(0);
  EXPECT_GE(frame.samples(), 1);
  for (int k = 0; k < 4; ++k) frame.take_for(5);
  // Whatever was reached: up to the next full sample it is the frame of as many.
  const int samples = static_cast<int>(frame.samples()) + 1;
  frame.take(1);
  GrowingFrame other = growing(scene, budget);
  other.take(samples);
  EXPECT_EQ(bytes_of(frame), bytes_of(other));
}

TEST(GrowingFrame, EveryVectorWidthGivesTheSameBytes) {
  const Scene scene = furnished();
  const Budget budget = path_budget(48, 32, 2, 5);
  std::optional<std::uint64_t> first;
  test::for_each_target([&](const char* target) {
    const std::uint64_t hash = hash_of(test::path_frame(scene, eye(), budget), Layer::radiance);
    EXPECT_EQ(hash, first.value_or(hash)) << target;
    first = hash;
  });
}

TEST(GrowingFrame, APartIsWhatTheWholeHasThere) {
  const Scene scene = furnished();
  const Budget budget = path_budget(150, 70, 2, 4);
  const World world = compile(scene);
  RenderOptions options;
  options.layers = {Layer::color, Layer::display, Layer::depth, Layer::radiance, Layer::light_1};
  const LayerSet layers = options.layers;
  const Frame whole = render(world, eye(), budget, std::move(options));
  RenderOptions some;
  some.layers = layers;
  some.part = PixelPart{70, 30, {40, 25}};
  const Frame part = render(world, eye(), budget, std::move(some));
  ASSERT_EQ(part.size(), (Size{40, 25}));
  for (int y = 0; y < 25; ++y) {
    for (int x = 0; x < 40; ++x) {
      ASSERT_EQ(part.codes(Layer::display)(x, y), whole.codes(Layer::display)(70 + x, 30 + y));
      ASSERT_EQ(part.values(Layer::depth)(x, y), whole.values(Layer::depth)(70 + x, 30 + y));
      ASSERT_EQ(part.values(Layer::light_1, 2)(x, y),
                whole.values(Layer::light_1, 2)(70 + x, 30 + y));
    }
  }
}

TEST(GrowingFrame, LightByBouncesAddsUpToAll) {
  const Scene scene = furnished();
  GrowingFrame frame = growing(scene, path_budget(48, 32, 1, 7), 2, true);
  frame.take(8);
  LayerSet layers{Layer::radiance, Layer::light_0, Layer::light_1,  Layer::light_2,
                  Layer::light_3,  Layer::light_4, Layer::light_5,  Layer::light_6,
                  Layer::light_7,  Layer::albedo,  Layer::emission, Layer::samples};
  const Frame picture = frame.picture(layers);
  for (int y = 0; y < 32; ++y) {
    for (int x = 0; x < 48; ++x) {
      double sum = 0;
      for (int k = 0; k < 8; ++k) {
        const auto layer = static_cast<Layer>(static_cast<int>(Layer::light_0) + k);
        sum += static_cast<double>(picture.values(layer, 1)(x, y));
      }
      const double all = static_cast<double>(picture.values(Layer::radiance, 1)(x, y));
      ASSERT_NEAR(sum, all, 1e-5 + 1e-5 * all);
      EXPECT_EQ(picture.values(Layer::samples)(x, y), 8);
      EXPECT_LE(picture.values(Layer::albedo, 0)(x, y), 1.0001f);
    }
  }
}

/// The true error of pictures lies in the interval that is told nine times out of ten.
TEST(GrowingFrame, TellsHowFarItIsFromTheTruth) {
  Scene scene = furnished();
  // Without what glass throws together, of which no truth can be had in a test's time.
  scene.materials[2] = {.base = {0.5f, 0.6f, 0.7f}};
  Budget budget = path_budget(48, 32, 1, 4);
  const GrowingFrame truth = truth_of(scene, budget, 2048);
  const Frame right = truth.picture();
  const double left = truth.error().rmse;
  int within = 0;
  constexpr int runs = test::little_effort(50);
  for (int run = 0; run < runs; ++run) {
    budget.frame.seed = run;
    GrowingFrame frame = growing(scene, budget);
    frame.take(16);
    const GrowingError told = frame.error();
    const Difference off = compare(frame.picture(), right);
    // The truth is a little off itself.
    const double rmse = std::sqrt(std::max(0.0, off.rmse * off.rmse - left * left));
    within += rmse >= told.low && rmse <= told.high ? 1 : 0;
  }
  EXPECT_GE(within, runs * 42 / 50 - (runs < 50 ? 1 : 0));
}

TEST(GrowingFrame, AdaptiveSamplesLowerTheErrorAndChangeNoMean) {
  // Most of the picture is calm; a lamp behind a pillar makes the rest noisy.
  const Scene scene = furnished();
  Budget budget = path_budget(48, 40, 1, 4);
  const Frame right = truth_of(scene, budget, 2048).picture({Layer::color, Layer::radiance});
  double even_error = 0;
  double adaptive_error = 0;
  double mean = 0;
  constexpr int runs = test::effort(6);
  for (int run = 0; run < runs; ++run) {
    for (const bool adaptive : {false, true}) {
      budget.frame.seed = run;
      budget.frame.adaptive = adaptive;
      GrowingFrame frame = growing(scene, budget);
      frame.take(60);
      const Frame picture = frame.picture({Layer::color, Layer::radiance});
      (adaptive ? adaptive_error : even_error) += compare(picture, right).rmse / runs;
      if (adaptive) mean += test::mean_radiance(picture).value / runs;
      EXPECT_NEAR(frame.samples(), 60, 6);
    }
  }
  // Where the truth has to be had quickly it is hardly better than they are.
  if (test::effort(4) == 4) {
    EXPECT_LT(adaptive_error, 0.97 * even_error);
  }
  const double expected = test::mean_radiance(right).value;
  EXPECT_NEAR(mean, expected, (test::effort(4) == 4 ? 0.01 : 0.02) * expected);
}

TEST(GrowingFrame, TheFilterLowersTheErrorAndKeepsEdges) {
  const Scene scene = furnished();
  Budget budget = path_budget(64, 40, 1, 4);
  const Frame right = truth_of(scene, budget, 1024).picture({Layer::color, Layer::material});
  budget.frame.samples = 4;
  const Difference noisy = compare(test::path_frame(scene, eye(), budget, {Layer::color}), right);
  budget.frame.denoise = 4;
  const Difference filtered =
      compare(test::path_frame(scene, eye(), budget, {Layer::color}), right);
  EXPECT_LT(filtered.rmse, 0.6 * noisy.rmse);
  // Where one material ends at another nothing is smeared over.
  double before = 0;
  double after = 0;
  int edges = 0;
  for (int y = 0; y < 40; ++y) {
    for (int x = 1; x < 64; ++x) {
      const auto material = right.codes(Layer::material);
      if (material(x, y) == material(x - 1, y)) continue;
      const auto at = static_cast<std::size_t>(64 * y + x);
      before += static_cast<double>(noisy.errors[at]);
      after += static_cast<double>(filtered.errors[at]);
      ++edges;
    }
  }
  EXPECT_GT(edges, 50);
  EXPECT_LT(after, 0.9 * before);
}

TEST(GrowingFrame, ClampTellsWhatItTakes) {
  const Scene scene = furnished();
  Budget budget = path_budget(48, 32, 16, 4);
  const LayerSet layers{Layer::radiance, Layer::light_0};
  const Frame plain = test::path_frame(scene, eye(), budget, layers);
  budget.frame.clamp = 0.5;
  const Frame clamped = test::path_frame(scene, eye(), budget, layers);
  ASSERT_TRUE(clamped.path_report && plain.path_report);
  EXPECT_EQ(plain.path_report->clamped, 0);
  double before = 0;
  double after = 0;
  for (int channel = 0; channel < 3; ++channel) {
    double straight = 0;
    for (int y = 0; y < 32; ++y) {
      for (const float value : plain.values(Layer::light_0, channel).row(y)) {
        straight += static_cast<double>(value) / (48 * 32);
      }
    }
    // What is seen straight stays as bright as it is.
    before += test::mean_radiance(plain, channel).value - straight;
    after += test::mean_radiance(clamped, channel).value - straight;
  }
  EXPECT_NEAR(clamped.path_report->clamped, 1 - after / before, 1e-3);
  EXPECT_GT(clamped.path_report->clamped, 0.001);
}

TEST(GrowingFrame, ExposesByStopsAndByThePicture) {
  const Scene scene = test::glowing_room(0, 0.02f);
  const Camera camera = test::in_room();
  Budget budget = path_budget(16, 8, 1, 1);
  const auto shown = [&] {
    return test::path_frame(scene, camera, budget, {Layer::color}).values(Layer::color)(3, 3);
  };
  EXPECT_NEAR(shown(), 0.02f, 1e-6f);
  budget.light.exposure = 3;
  EXPECT_NEAR(shown(), 0.16f, 1e-5f);
  budget.light.exposure = 0;
  budget.light.metering = Metering::picture;
  EXPECT_NEAR(shown(), 0.18f, 1e-4f);
  budget.light.exposure = 10;
  EXPECT_NEAR(shown(), 1, 1e-3f);
}

TEST(GrowingFrame, TheToneCurveRisesSmoothlyAndNeverPastWhite) {
  EXPECT_EQ(tone(0.3f), 0.3f);
  EXPECT_EQ(tone(-1), 0);
  float before = 0;
  for (float radiance = 0; radiance < 50; radiance = radiance * 1.02f + 0.001f) {
    const float now = tone(radiance);
    EXPECT_GE(now, before);
    EXPECT_LE(now - before, radiance * 0.02f + 0.00101f);
    EXPECT_LE(now, 1);
    before = now;
  }
  EXPECT_NEAR(tone(0.6001f) - tone(0.5999f), 2e-4f, 1e-6f);
}

std::string message_of(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "";
}

TEST(GrowingFrame, SaysWhatCannotBe) {
  Scene scene = furnished();
  Budget budget = path_budget(16, 8, 1, 2);
  scene.room().light.lamps[0].radius = 0;
  EXPECT_THAT(message_of([&] { test::path_frame(scene, eye(), budget); }),
              testing::HasSubstr("lamp 1 of room 1: radius 0"));
  scene = furnished();
  Budget direct = budget;
  direct.light.transport = Transport::direct;
  EXPECT_THAT(message_of([&] { growing(scene, direct); }),
              testing::HasSubstr("expected light.transport=paths"));
  Budget scaled = budget;
  scaled.frame.scale = 0.5;
  EXPECT_THAT(message_of([&] { growing(scene, scaled); }),
              testing::HasSubstr("expected frame.scale=1"));
  EXPECT_THAT(message_of([&] { test::path_frame(scene, eye(), direct, {Layer::radiance}); }),
              testing::HasSubstr("layer radiance is of path-traced light"));
  GrowingFrame frame = growing(scene, budget);
  EXPECT_THAT(message_of([&] { frame.picture(); }), testing::HasSubstr("of no samples"));
  EXPECT_THAT(message_of([&] { frame.take(0); }), testing::HasSubstr("expected 1 at least"));
  frame.take(1);
  EXPECT_THAT(message_of([&] { frame.picture({Layer::albedo}); }),
              testing::HasSubstr("not told of this frame"));
  Budget small = path_budget(24, 8, 1, 2);
  GrowingFrame other = growing(scene, small);
  EXPECT_THAT(message_of([&] { other.go_on_from(frame.gathered()); }),
              testing::HasSubstr("expected 24x8"));
  EXPECT_THAT(message_of([&] { log_lane(compile(scene), eye(), budget, 3, 3); }),
              testing::HasSubstr("expected light.transport=direct"));
  Accumulator sum;
  const Frame of_paths = test::path_frame(scene, eye(), budget, {Layer::color});
  EXPECT_THAT(message_of([&] { sum.add(of_paths); }), testing::HasSubstr("GrowingFrame"));
}

TEST(GrowingFrame, StopsWhenToldToAndKeepsWhatItHas) {
  const Scene scene = furnished();
  GrowingFrame frame = growing(scene, path_budget(200, 120, 1, 3), 1);
  frame.take(1);
  int told = 0;
  EXPECT_THROW(frame.take(50,
                          [&](double share) {
                            EXPECT_GE(share, 0);
                            EXPECT_LE(share, 1);
                            return ++told < 3;
                          }),
               Error);
  EXPECT_GE(frame.samples(), 1);
  EXPECT_LT(frame.samples(), 3);
  EXPECT_NO_THROW(frame.picture());
}

}  // namespace
}  // namespace photonlane
