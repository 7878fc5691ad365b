// Where samples lie and what is drawn at random: frames of an open sequence that are added up are
// the frame of all their samples, seeds give other noise and nothing else.

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

/// A court where everything that is drawn at random counts.
Scene court() {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.45f, 0.4f}},
                     {.base = {0.8f, 0.8f, 0.8f}, .roughness = 0.4f, .specular = 0.5f},
                     {.base = {0.2f, 0.5f, 0.3f}}};
  Room& room = scene.room();
  room.fog = {.color = {0.6f, 0.6f, 0.7f}, .start = 1, .end = 12};
  room.light.ambient = {0.3f, 0.3f, 0.35f};
  room.light.sun.emplace().size = 0.15;
  room.light.lamps.push_back({.place = {1, -1, 2.5}, .radius = 0.3});
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  room.add(Spheres({{{0, 0.5, 0.6}, 0.6, 1}, {{-1, -0.4, 0.3}, 0.3, 2}, {{1, 0, 0.4}, 0.4, 1}}));
  return scene;
}

Budget noisy() {
  Budget budget{.frame = {48, 32, 4}};
  budget.light.softness = Softness::sampled;
  budget.light.soft_samples = 2;
  budget.light.corners = Corners::sampled;
  budget.light.corner_samples = 4;
  budget.light.fog = FogLight::sampled;
  budget.light.fog_samples = 2;
  budget.bounces.limit = 3;
  return budget;
}

const Camera there = Camera::look_at({1.5, -3, 1.4}, {0, 0, 0.4}, 0.9);

double largest_difference(const Frame& a, const Frame& b) {
  double most = 0;
  for (int channel = 0; channel < 3; ++channel) {
    for (int y = 0; y < a.size().height; ++y) {
      for (int x = 0; x < a.size().width; ++x) {
        most = std::max(most, std::abs(static_cast<double>(a.values(Layer::color, channel)(x, y)) -
                                       b.values(Layer::color, channel)(x, y)));
      }
    }
  }
  return most;
}

void expect_frames_add_up(const Scene& scene, const Camera& camera, Budget budget) {
  const World world = compile(scene);
  budget.frame.sequence = SampleSequence::open;
  Accumulator sum;
  for (const int samples : {1, 3, 4, 8}) {
    budget.frame.samples = samples;
    sum.add(render(world, camera, budget));
    budget.frame.first += samples;
  }
  budget.frame.first = 0;
  budget.frame.samples = 16;
  const Frame whole = render(world, camera, budget);
  EXPECT_EQ(sum.samples(), 16);
  EXPECT_EQ(sum.mean().budget.frame.samples, 16);
  EXPECT_EQ(sum.mean().tally.lanes, whole.tally.lanes);
  EXPECT_LT(largest_difference(sum.mean(), whole), 2e-6);
}

TEST(Samples, FramesOfAnOpenSequenceAddUpToOneOfAllTheirSamples) {
  expect_frames_add_up(court(), there, noisy());
  Budget doubles = noisy();
  doubles.number = NumberType::float64;
  expect_frames_add_up(court(), there, doubles);
  // By columns as well.
  const Scene cells = test::drawn(test::square_room(5));
  expect_frames_add_up(cells, {.eye = {2, 2, 1.6}, .heading = 0.4}, {.frame = {64, 40, 1}});
}

TEST(Samples, OpenSequencesAreNearlyAsGoodAsLattices) {
  // Edges alone: no noise but that of the places within the pixels.
  Scene scene = court();
  scene.room().light = {};
  const World world = compile(scene);
  Budget budget{.frame = {48, 32, 256}};
  budget.bounces.limit = 0;
  const Frame truth = render(world, there, budget);
  for (const int samples : {4, 16}) {
    budget.frame.samples = samples;
    budget.frame.sequence = SampleSequence::lattice;
    const double lattice = compare(render(world, there, budget), truth).rmse;
    budget.frame.sequence = SampleSequence::open;
    const double open = compare(render(world, there, budget), truth).rmse;
    EXPECT_LT(open, 1.8 * lattice) << samples;
    // Any run of it, not only the first.
    budget.frame.first = 5 * samples;
    EXPECT_LT(compare(render(world, there, budget), truth).rmse, 1.8 * lattice) << samples;
    budget.frame.first = 0;
  }
}

TEST(Samples, SeedsGiveOtherNoiseOfTheSameMean) {
  const World world = compile(court());
  Budget budget = noisy();
  const Frame one = render(world, there, budget);
  EXPECT_EQ(test::hash_of(one, Layer::color),
            test::hash_of(render(world, there, budget), Layer::color));
  budget.frame.seed = 7;
  const Frame other = render(world, there, budget);
  EXPECT_GT(largest_difference(one, other), 0.01);
  // The means over the whole frame agree far better than its pixels.
  double mean[2] = {};
  for (int y = 0; y < 32; ++y) {
    for (int x = 0; x < 48; ++x) {
      mean[0] += one.values(Layer::color, 1)(x, y) / (48.0 * 32);
      mean[1] += other.values(Layer::color, 1)(x, y) / (48.0 * 32);
    }
  }
  EXPECT_NEAR(mean[0], mean[1], 0.004);
}

TEST(Samples, OtherLayersSitAtTheCenterWhateverTheSequence) {
  const LayerSet layers{Layer::color, Layer::depth, Layer::steps, Layer::normal};
  const auto data_of = [&](const Scene& scene, const Camera& camera, SampleSequence sequence,
                           int first) {
    Budget budget{.frame = {48, 32, 1}};
    budget.frame.sequence = sequence;
    budget.frame.first = first;
    const Frame frame = render(compile(scene), camera, budget, test::with_layers(layers));
    return std::pair(test::hash_of(frame, Layer::depth), test::hash_of(frame, Layer::steps));
  };
  const Scene cells = test::drawn(test::square_room(5));
  const Camera inside{.eye = {2, 2, 1.6}, .heading = 0.4};
  for (const int first : {0, 1, 6}) {
    EXPECT_EQ(data_of(court(), there, SampleSequence::open, first),
              data_of(court(), there, SampleSequence::lattice, 0));
    EXPECT_EQ(data_of(cells, inside, SampleSequence::open, first),
              data_of(cells, inside, SampleSequence::lattice, 0));
  }
}

TEST(Samples, KnobsSayWhenTheyMatter) {
  Budget budget;
  set_knob(budget_knobs(), budget, "frame.sequence", "open");
  set_knob(budget_knobs(), budget, "frame.first", "64");
  set_knob(budget_knobs(), budget, "frame.seed", "12345678901");
  EXPECT_EQ(budget.frame.first, 64);
  EXPECT_EQ(budget.frame.seed, 12345678901);
  EXPECT_THROW(set_knob(budget_knobs(), budget, "frame.first", "-1"), Error);
  EXPECT_TRUE(knob_applies(budget_knobs(), *find_knob(budget_knobs(), "frame.first"), budget));
  budget.frame.sequence = SampleSequence::lattice;
  EXPECT_FALSE(knob_applies(budget_knobs(), *find_knob(budget_knobs(), "frame.first"), budget));
}

TEST(Accumulator, RefusesWhatDoesNotAddUp) {
  Accumulator sum;
  EXPECT_THROW(sum.mean(), Error);
  sum.add(Frame({4, 3}, {Layer::color}));
  EXPECT_THROW(sum.add(Frame({3, 4}, {Layer::color})), Error);
  EXPECT_THROW(sum.add(Frame({4, 3}, {Layer::depth})), Error);
  sum.clear();
  EXPECT_NO_THROW(sum.add(Frame({3, 4}, {Layer::color})));
}

}  // namespace
}  // namespace photonlane
