// What tune finds: as cheap as the best of all combinations, by a tenth of the frames; and that it
// keeps what it was asked to keep.

#include <gmock/gmock.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"

namespace photonlane {
namespace {

using ::testing::Contains;
using ::testing::HasSubstr;

Scene yard() {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.45f, 0.4f}},
                     {.base = {0.8f, 0.8f, 0.8f}, .specular = 0.6f},
                     {.base = {0.3f, 0.5f, 0.3f}, .opacity = 0.4f}};
  Room& room = scene.room();
  room.light.ambient = {0.3f, 0.3f, 0.35f};
  room.light.sun.emplace();
  room.light.lamps.push_back({.place = {1, -1, 2.5}});
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  room.add(field::place({0, 0, 0.5}, field::sphere(0.5)).made_of(1));
  room.add(field::place({-1, 0, 0.4}, field::box({0.8, 0.8, 0.8}, 0.1)).made_of(2));
  room.add(field::place({0.9, -0.5, 0.3}, field::torus(0.3, 0.1)).made_of(1));
  return scene;
}
const Camera there = Camera::look_at({1.5, -3, 1.4}, {0, 0, 0.4}, 0.9);

/// All combinations of some values, measured as tune measures: what each costs and how wrong it is.
struct Tried {
  double cost, rmse;
};
std::vector<Tried> exhaust(const World& world, const Camera& camera, const Budget& base,
                           const std::vector<Vary>& vary, const Budget& reference) {
  const LayerSet layers = measurable_layers(world);
  const Frame right = render(world, camera, reference, {.layers = layers});
  std::vector<Tried> all;
  std::size_t count = 1;
  for (const Vary& one : vary) count *= one.values.size();
  for (std::size_t i = 0; i < count; ++i) {
    Settings settings{base, camera};
    std::size_t rest = i;
    for (const Vary& one : vary) {
      set_by_name(settings, one.knob, one.values[rest % one.values.size()]);
      rest /= one.values.size();
    }
    const Frame frame = render(world, camera, settings.budget, {.layers = layers});
    all.push_back({1e-6 * counted_cost(frame.tally), compare(frame, right).rmse});
  }
  return all;
}

void expect_near_best(const Scene& scene, const Camera& camera, const Budget& base,
                      const std::vector<std::string>& knobs, const std::vector<double>& limits) {
  const World world = compile(scene);
  TuneOptions options;
  for (const std::string& knob : knobs) options.vary.push_back(parse_vary(knob));
  options.by = TuneCost::work;
  std::vector<Tried> all;
  for (const double rmse : limits) {
    SCOPED_TRACE(rmse);
    options.goal.limits = {parse_limit("rmse=" + std::to_string(rmse))};
    const Tuned tuned = tune(world, camera, base, options);
    if (all.empty()) all = exhaust(world, camera, base, options.vary, tuned.reference);
    double cheapest = INFINITY;
    for (const Tried& one : all) {
      if (one.rmse <= rmse) cheapest = std::min(cheapest, one.cost);
    }
    ASSERT_TRUE(std::isfinite(cheapest));
    ASSERT_TRUE(tuned.kept());
    EXPECT_LE(tuned.best().error.rmse, rmse);
    EXPECT_LE(tuned.best().cost, 1.05 * cheapest) << ::testing::PrintToString(tuned.best().values);
    EXPECT_LE(tuned.frames, 0.1 * static_cast<double>(all.size()));
  }
}

TEST(Tune, IsNearTheBestOfAllCombinations) {
  if (test::effort(8) < 8) GTEST_SKIP() << "how good it is, is no matter of the sanitizers";
  Budget base{.frame = {64, 40, 2}};
  base.against.samples = 8;
  expect_near_best(
      yard(), there, base,
      {"frame.samples=1,2,4,8", "bounces.limit=0,1,2,4", "field.tolerance=0.0002,0.001,0.004,0.016",
       "light.corners=none,neighbors,sampled", "passes.limit=0,1,2"},
      {0.07, 0.06, 0.05, 0.04, 0.03, 0.025});
}

TEST(Tune, IsNearTheBestInTheWings) {
  if (test::effort(8) < 8) GTEST_SKIP() << "as in the other scene, and slow";
  const io::SceneFile file =
      io::read_scene(std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-wings.yaml");
  Budget base = file.budget;
  base.frame = {64, 40, 1};
  base.against.samples = 4;
  expect_near_best(file.scene, file.camera, base,
                   {"frame.samples=1,2,4", "bounces.limit=0,1,2,3", "crossings.limit=1,2,4,8",
                    "light.crossings=0,1,2", "light.corners=none,neighbors"},
                   {0.12, 0.09, 0.06});
}

TEST(Tune, FindsTheMostAccurateThatIsQuick) {
  const World world = compile(yard());
  const Budget base{.frame = {test::effort(128), test::effort(80), 2}};
  TuneOptions options;
  options.vary = {parse_vary("frame.samples=1,2,4,8,16"), parse_vary("bounces.limit=0,1,2,4")};
  options.goal.most_ms = 1e6;
  options.threads = 1;
  options.repeats = 2;
  const Tuned all = tune(world, there, base, options);
  ASSERT_TRUE(all.kept());
  for (const Trial& trial : all.trials) EXPECT_GE(trial.error.rmse, all.best().error.rmse);
  // So little time that only the cheapest may do, if any.
  options.goal.most_ms = 1e-6;
  const Tuned none = tune(world, there, base, options);
  EXPECT_FALSE(none.kept());
  for (const Trial& trial : none.trials) EXPECT_GE(trial.cost, 0.9 * none.best().cost);
}

TEST(Tune, MayScaleColors) {
  const World world = compile(yard());
  TuneOptions options;
  options.goal.limits = {parse_limit("rmse=0.08")};
  options.by = TuneCost::work;
  options.vary = {parse_vary("frame.scale=0.5,1"), parse_vary("frame.upscale=guided,nearest"),
                  parse_vary("frame.samples=1,2")};
  const Tuned tuned =
      tune(world, there, {.frame = {test::effort(96), test::effort(60), 2}}, options);
  ASSERT_TRUE(tuned.kept());
  bool woken = false;
  for (const Trial& trial : tuned.trials) {
    woken =
        woken || (trial.budget.frame.scale != 1 && trial.budget.frame.upscale == Upscale::nearest);
  }
  EXPECT_EQ(woken, tuned.best().budget.frame.scale != 1);
  // A scene that scales already can be tuned, profiled and foretold as well.
  Budget half{.frame = {test::effort(320), test::effort(200), 1}};
  half.frame.scale = 0.5;
  EXPECT_GT(predict(world, there, half).ms, 0);
  EXPECT_FALSE(profile_frame(world, there, half, {.threads = 2, .repeats = 1, .errors = false})
                   .knobs.empty());
}

TEST(Tune, SaysWhatHasNoEffect) {
  const World world = compile(yard());
  TuneOptions options;
  options.goal.limits = {parse_limit("rmse=0.05")};
  options.by = TuneCost::work;
  const Tuned tuned =
      tune(world, there, {.frame = {test::effort(96), test::effort(64), 1}}, options);
  ASSERT_TRUE(tuned.kept());
  EXPECT_THAT(tuned.without_effect, Contains("crossings.limit"));
  EXPECT_THAT(tuned.without_effect, Contains("light.wet_floor"));
  for (const std::string& knob : tuned.knobs) {
    EXPECT_FALSE(knob.starts_with("plane.")) << knob;
  }
  EXPECT_LT(tuned.best().cost, tuned.trials.front().cost);
}

TEST(Tune, HoldsWhereItDidNotLook) {
  if (test::effort(8) < 8) GTEST_SKIP() << "only of large frames is a part looked at";
  const World world = compile(yard());
  TuneOptions options;
  options.goal.limits = {parse_limit("rmse=0.03")};
  options.by = TuneCost::work;
  options.vary = {parse_vary("frame.samples=1,2,4"), parse_vary("bounces.limit=0,1,2,4"),
                  parse_vary("light.corners=none,neighbors,sampled")};
  const Budget base{.frame = {512, 320, 2}};
  const Tuned tuned = tune(world, there, base, options);
  ASSERT_TRUE(tuned.kept());
  EXPECT_LT(tuned.pixels, 0.25);
  ASSERT_TRUE(tuned.held_out.has_value());
  const LayerSet layers = measurable_layers(world);
  const Frame right = render(world, there, tuned.reference, {.layers = layers});
  const Frame frame = render(world, there, tuned.best().budget, {.layers = layers});
  EXPECT_LE(compare(frame, right).rmse, 1.15 * 0.03);
}

TEST(Tune, ByWorkFindsTheSameEachTime) {
  if (test::effort(8) < 8) GTEST_SKIP() << "only of large frames is a part looked at";
  const World world = compile(yard());
  TuneOptions options;
  options.goal.limits = {parse_limit("rmse=0.05")};
  options.by = TuneCost::work;
  options.vary = {parse_vary("frame.samples=1,2"), parse_vary("bounces.limit=0,1,2")};
  Budget base{.frame = {512, 320, 2}};
  base.against.samples = 4;
  const Tuned one = tune(world, there, base, options);
  options.threads = 1;
  const Tuned two = tune(world, there, base, options);
  ASSERT_EQ(one.trials.size(), two.trials.size());
  for (std::size_t i = 0; i < one.trials.size(); ++i) {
    EXPECT_EQ(one.trials[i].values, two.trials[i].values);
    EXPECT_EQ(one.trials[i].cost, two.trials[i].cost);
    EXPECT_EQ(one.trials[i].error.rmse, two.trials[i].error.rmse);
  }
}

TEST(Tune, GoesOnWhereItWasStopped) {
  const World world = compile(yard());
  TuneOptions options;
  options.goal.limits = {parse_limit("rmse=0.05")};
  options.by = TuneCost::work;
  options.vary = {parse_vary("frame.samples=1,2,4"), parse_vary("bounces.limit=0,1,2,4")};
  const Budget base{.frame = {test::effort(96), test::effort(64), 2}};
  std::map<std::size_t, TrialPart> kept;
  options.measured = [&](std::size_t number, const TrialPart& part) { kept[number] = part; };
  const Tuned whole = tune(world, there, base, options);
  options.known = [&](std::size_t number) -> std::optional<TrialPart> {
    if (!kept.contains(number)) return std::nullopt;
    return kept[number];
  };
  const std::size_t all = kept.size();
  kept.erase(std::next(kept.begin(), static_cast<std::ptrdiff_t>(all / 2)), kept.end());
  const Tuned again = tune(world, there, base, options);
  EXPECT_EQ(kept.size(), all);
  ASSERT_EQ(again.trials.size(), whole.trials.size());
  for (std::size_t i = 0; i < all; ++i) {
    EXPECT_EQ(again.trials[i].values, whole.trials[i].values);
    EXPECT_EQ(again.trials[i].cost, whole.trials[i].cost);
  }
  EXPECT_EQ(again.chosen, whole.chosen);
}

TEST(Tune, RefusesWhatCannotBe) {
  const World world = compile(yard());
  const auto message = [&](const TuneOptions& options) -> std::string {
    try {
      tune(world, there, {.frame = {32, 20, 1}}, options);
    } catch (const Error& error) {
      return error.what();
    }
    return "";
  };
  EXPECT_THAT(message({}), HasSubstr("nothing to tune for"));
  TuneOptions options;
  options.goal.limits = {parse_limit("rmse=0.05")};
  options.vary = {parse_vary("frame.width=10,20")};
  EXPECT_THAT(message(options), HasSubstr("frame.width cannot be tuned"));
  options.vary = {parse_vary("camera.heading=10,20")};
  EXPECT_THAT(message(options), HasSubstr("camera.heading cannot be tuned"));
  options.vary.clear();
  options.by = TuneCost::work;
  options.goal.most_ms = 3;
  EXPECT_THAT(message(options), HasSubstr("cannot be kept by counted work"));
}

}  // namespace
}  // namespace photonlane
