#include "photonlane/measure/sweep.hpp"

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/measure/check.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::Contains;
using ::testing::ElementsAre;
using ::testing::HasSubstr;
using ::testing::IsEmpty;

std::string refusal(std::string_view text) {
  try {
    parse_vary(text);
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TEST(Vary, ListsAndRanges) {
  EXPECT_THAT(parse_vary("cells.method=leap,boundary").values, ElementsAre("leap", "boundary"));
  EXPECT_THAT(parse_vary("cells.increment=0.1..0.5/5").values,
              ElementsAre("0.1", "0.2", "0.3", "0.4", "0.5"));
  EXPECT_THAT(parse_vary("cells.steps=8..512//7").values,
              ElementsAre("8", "16", "32", "64", "128", "256", "512"));
  EXPECT_THAT(parse_vary("far_limit=100..1/3").values, ElementsAre("100", "50.5", "1"));
  EXPECT_THAT(parse_vary("frame.samples=1..3/9").values, ElementsAre("1", "2", "3"))
      << "rounded integers are named once";
}

TEST(Vary, RefusesWhatIsNoRange) {
  EXPECT_THAT(refusal("cells.stepz=1,2"), HasSubstr("did you mean cells.steps"));
  EXPECT_THAT(refusal("cells.steps"), HasSubstr("expected KNOB=VALUES"));
  EXPECT_THAT(refusal("cells.steps="), HasSubstr("expected KNOB=VALUES"));
  EXPECT_THAT(refusal("cells.steps=1,,2"), HasSubstr("found ''"));
  EXPECT_THAT(refusal("cells.steps=1,many"), HasSubstr("found 'many'"));
  for (const char* bad : {"far_limit=1..2/1", "far_limit=1..2/x", "far_limit=0..2//4",
                          "far_limit=1..nan/3", "far_limit=../3", "far_limit=1..2/2000"}) {
    EXPECT_THAT(refusal(bad), HasSubstr("expected FROM..TO/COUNT")) << bad;
  }
  EXPECT_THAT(refusal("cells.increment=-1..1/3"), HasSubstr("expected number, more than 0"));
}

struct Glass {
  World world =
      compile(test::drawn("##########\n#........#\n#.A...A..#\n#........#\n#....A...#\n"
                          "#........#\n##########"));
  Camera camera{.eye = {1.3, 1.2, 1.4}, .heading = degrees(30)};
  Budget budget{.frame = {120, 80, 1}};
  SweepOptions options{.repeats = 3, .warm_up = 1, .threads = 1, .progress = {}};
};

TEST(Sweep, OneByOneTurnsEachKnobBesideTheBase) {
  Glass glass;
  glass.budget.number = NumberType::float64;
  glass.options.one_by_one = true;
  const Sweep result = sweep(glass.world, glass.camera, glass.budget,
                             {parse_vary("cells.method=increment,leap"),
                              parse_vary("number=float,double"), parse_vary("frame.samples=1,4")},
                             glass.options);
  ASSERT_EQ(result.settings.size(), 4u) << "the base counts once";
  EXPECT_THAT(result.settings[0].values, ElementsAre("leap", "double", "1"));
  EXPECT_THAT(result.settings[1].values, ElementsAre("increment", "double", "1"));
  EXPECT_THAT(result.settings[2].values, ElementsAre("leap", "float", "1"));
  EXPECT_THAT(result.settings[3].values, ElementsAre("leap", "double", "4"));
  EXPECT_EQ(result.settings[1].budget.number, NumberType::float64);
  EXPECT_EQ(result.settings[2].budget.cells.method, CellMethod::leap);
  EXPECT_GT(result.settings[1].error.share_other, result.settings[0].error.share_other);
}

TEST(Sweep, EveryCombinationOnceWithErrorsThatFallWithTheStep) {
  const Glass glass;
  const Sweep result = sweep(glass.world, glass.camera, glass.budget,
                             {parse_vary("cells.method=leap,boundary,increment"),
                              parse_vary("cells.increment=0.8,0.2,0.02")},
                             glass.options);
  ASSERT_EQ(result.settings.size(), 5u) << "the increment counts beside its own method only";
  EXPECT_THAT(result.settings[0].values, ElementsAre("leap", "-"));
  EXPECT_THAT(result.settings[1].values, ElementsAre("boundary", "-"));
  EXPECT_THAT(result.settings[2].values, ElementsAre("increment", "0.8"));
  for (std::size_t i = 0; i < 2; ++i) {
    EXPECT_LT(result.settings[i].error.rmse, 1e-6);
    EXPECT_EQ(result.settings[i].error.share_other, 0);
  }
  EXPECT_GT(result.settings[2].error.rmse, result.settings[3].error.rmse);
  EXPECT_GT(result.settings[3].error.rmse, result.settings[4].error.rmse);
  EXPECT_LT(result.settings[0].tally.steps, result.settings[1].tally.steps);
  EXPECT_EQ(result.reference.number, NumberType::float32) << "does not vary";
  EXPECT_EQ(result.reference.cells.method, CellMethod::boundary);
  for (const Setting& setting : result.settings) {
    EXPECT_GT(setting.total_ms.median, 0);
    EXPECT_EQ(setting.tally.lanes, 120u);
  }
}

TEST(Sweep, VariedSamplesAreMeasuredAgainstMore) {
  const Glass glass;
  const Sweep result = sweep(glass.world, glass.camera, glass.budget,
                             {parse_vary("frame.samples=1,4,16")}, glass.options);
  EXPECT_EQ(result.reference.frame.samples, 64);
  EXPECT_GT(result.settings[0].error.rmse, result.settings[1].error.rmse);
  EXPECT_GT(result.settings[1].error.rmse, result.settings[2].error.rmse);
}

/// The knobs of which two budgets have other values.
std::vector<std::string> other_knobs(const Budget& a, const Budget& b) {
  std::vector<std::string> others;
  for (const Knob<Budget>& entry : budget_knobs()) {
    if (knob_text(entry, a) != knob_text(entry, b)) others.emplace_back(entry.info.name);
  }
  return others;
}

TEST(Sweep, OnlyWhatVariesIsBetterInTheReference) {
  Budget base{.frame = {60, 40, 1}};
  base.light.corners = Corners::neighbors;
  base.cells.method = CellMethod::increment;
  base.field.method = FieldMethod::relaxed;
  const auto varied = [&](const char* text) {
    return other_knobs(base, reference_of(base, {}, {parse_vary(text)}, ReferenceKind::varied));
  };
  EXPECT_THAT(varied("field.tolerance=1e-2,1e-3"), ElementsAre("field.tolerance"));
  EXPECT_THAT(varied("number=float,double"), ElementsAre("number"));
  // With what it only matters with.
  EXPECT_THAT(varied("cells.increment=0.1,0.01"), ElementsAre("cells.method"));
  EXPECT_THAT(varied("field.relaxation=1.1,1.5"), ElementsAre("field.method"));
  // And what only matters with it.
  EXPECT_THAT(varied("light.corners=none,sampled"),
              ElementsAre("light.corners", "light.corner_samples"));
  EXPECT_THAT(varied("camera.heading=0,1"), IsEmpty());
  EXPECT_EQ(other_knobs(base.reference(),
                        reference_of(base, {}, {parse_vary("number=float")}, ReferenceKind::best)),
            std::vector<std::string>());
}

TEST(Sweep, ErrorsTellOfWhatVaries) {
  // Walls by coarse steps are wrong by far more than what samples smooth.
  Glass glass;
  glass.budget.cells.method = CellMethod::increment;
  glass.budget.cells.increment = 0.3;
  const std::vector<Vary> vary{parse_vary("frame.samples=1,4,16")};
  const Sweep of_it = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  glass.options.reference = ReferenceKind::best;
  const Sweep of_all = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  EXPECT_GT(of_it.settings[0].error.rmse, 2 * of_it.settings[2].error.rmse);
  for (std::size_t i = 0; i < 3; ++i) {
    EXPECT_EQ(of_it.settings[i].error.share_other, 0);
    EXPECT_GT(of_all.settings[i].error.share_other, 0.01) << "walls stand elsewhere";
    EXPECT_GT(of_all.settings[i].error.rmse, of_it.settings[i].error.rmse);
  }
  EXPECT_EQ(of_all.reference.number, NumberType::float64);
}

TEST(Sweep, TakesAFrameThatWasMadeBefore) {
  Glass glass;
  const std::vector<Vary> vary{parse_vary("cells.increment=0.3,0.03")};
  glass.budget.cells.method = CellMethod::increment;
  const Sweep made = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  RenderOptions all;
  all.layers = LayerSet::measurable();
  int announced = 0;
  glass.options.announce = [&](const ReferencePlan&) { ++announced; };
  glass.options.given = std::make_shared<const Frame>(
      render(glass.world, glass.camera, made.reference, std::move(all)));
  const Sweep given = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  EXPECT_EQ(given.reference_kind, ReferenceKind::given);
  EXPECT_EQ(announced, 0) << "none is made";
  for (std::size_t i = 0; i < 2; ++i) {
    EXPECT_EQ(given.settings[i].error.rmse, made.settings[i].error.rmse);
    EXPECT_EQ(given.settings[i].error.share_other, made.settings[i].error.share_other);
  }
  EXPECT_THROW(sweep(glass.world, glass.camera, glass.budget, {parse_vary("camera.heading=0,9")},
                     glass.options),
               Error);
  // Without it the reference is told of before it is made, once for all views.
  glass.options.given = nullptr;
  glass.options.announce = [&](const ReferencePlan& plan) {
    ++announced;
    EXPECT_EQ(plan.views, 3u);
    EXPECT_GT(plan.guess_ms, 0);
  };
  sweep(glass.world, glass.camera, glass.budget, {parse_vary("camera.heading=0,30,60")},
        glass.options);
  EXPECT_EQ(announced, 1);
}

TEST(Sweep, VariedSizesAreResampledToTheLargest) {
  const Glass glass;
  const Sweep result =
      sweep(glass.world, glass.camera, glass.budget,
            {parse_vary("frame.width=30,60,120"), parse_vary("frame.height=80")}, glass.options);
  EXPECT_EQ(result.reference.frame.width, 120);
  EXPECT_GT(result.settings[0].error.rmse, result.settings[1].error.rmse);
  EXPECT_LT(result.settings[2].error.rmse, 1e-6);
}

TEST(Sweep, NamesTheMostAccurateThatIsQuickEnough) {
  Sweep made;
  made.metric = "ssim";
  const auto add = [&](double ms, double ssim, double rmse) {
    Setting& setting = made.settings.emplace_back();
    setting.total_ms.median = ms;
    setting.error.ssim = ssim;
    setting.error.rmse = rmse;
  };
  add(4, 0.7, 0.2);
  add(9, 0.9, 0.1);
  add(8, 0.9, 0.1);
  add(30, 0.99, 0.01);
  const auto index = [&](const Setting* setting) {
    return setting == nullptr ? -1 : static_cast<int>(setting - made.settings.data());
  };
  EXPECT_EQ(index(best_within(made, 10, {})), 2) << "the cheaper of two alike";
  EXPECT_EQ(index(best_within(made, 30, {})), 3);
  EXPECT_EQ(index(best_within(made, 5, {})), 0);
  EXPECT_EQ(index(best_within(made, 3.9, {})), -1);
  EXPECT_EQ(index(best_within(made, 10, {parse_limit("rmse=0.05")})), -1);
  EXPECT_EQ(index(best_within(made, 100, {parse_limit("rmse=0.05")})), 3);
}

TEST(Sweep, CanBeStopped) {
  Glass glass;
  int calls = 0;
  glass.options.progress = [&](double) { return ++calls < 3; };
  EXPECT_THROW(sweep(glass.world, glass.camera, glass.budget, {parse_vary("frame.samples=1,2")},
                     glass.options),
               Error);
  EXPECT_EQ(calls, 3);
}

TEST(Sweep, RefusesTooManySettings) {
  const Glass glass;
  EXPECT_THROW(sweep(glass.world, glass.camera, glass.budget,
                     {parse_vary("far_limit=1..2/500"), parse_vary("cells.steps=1..900/500")},
                     glass.options),
               Error);
}

Setting setting(double time, double error) {
  Setting one;
  one.total_ms.median = time;
  one.error.rmse = error;
  if (error > 0) one.error.psnr = -20 * std::log10(error);
  return one;
}

TEST(Front, MarksWhatNothingBeatsInBoth) {
  std::vector<Setting> settings{setting(1, 0.5), setting(2, 0.2), setting(3, 0.3), setting(4, 0),
                                setting(5, 0),   setting(2, 0.2), setting(9, 0.6)};
  const std::vector<bool> expected{true, true, false, true, false, true, false};
  for (const char* metric : {"rmse", "psnr"}) {
    mark_front(settings, *parse_limit(std::string(metric) + "=0").metric);
    for (std::size_t i = 0; i < settings.size(); ++i) {
      EXPECT_EQ(settings[i].on_front, expected[i]) << metric << " " << i;
    }
  }
}

TEST(Front, TheCheapestThatIsGoodEnough) {
  Sweep result;
  result.settings = {setting(1, 0.5), setting(2, 0.2), setting(1.5, 0.19), setting(4, 0)};
  EXPECT_EQ(cheapest_within(result, {parse_limit("rmse=0.2")}), &result.settings[2]);
  EXPECT_EQ(cheapest_within(result, {parse_limit("rmse=0.001")}), &result.settings[3]);
  EXPECT_EQ(cheapest_within(result, {parse_limit("rmse=0.001"), parse_limit("ssim=2")}), nullptr);
}

TEST(Check, DescribesASoundScene) {
  const Scene scene = test::drawn("####\n#.A#\n#...\n####");
  const SceneReport report = check(scene, Camera{.eye = {1.5, 1.5, 1.6}}, Budget{});
  EXPECT_EQ(report.map_width, 4);
  EXPECT_EQ(report.map_height, 4);
  EXPECT_DOUBLE_EQ(report.wall_share, 12.0 / 16);
  EXPECT_EQ(report.openings, 1);
  EXPECT_DOUBLE_EQ(report.reachable_share, 1);
  EXPECT_GE(report.memory_bytes, 16u * 3u);
  EXPECT_THAT(report.warnings, IsEmpty());
}

TEST(Check, WarnsOfWhatWouldLookWrong) {
  const Scene scene = test::drawn("#.##\n####\n#..#\n####");
  const auto warnings = [](const Scene& any, Camera camera, const Budget& budget = {}) {
    return check(any, camera, budget).warnings;
  };
  const Camera inside{.eye = {1.5, 1.5, 1.6}};
  EXPECT_THAT(warnings(scene, inside), Contains(HasSubstr("1 openings in the map's edge cannot be "
                                                          "reached from the eye, the first at "
                                                          "column 1, row 3 from the south")));
  EXPECT_THAT(warnings(scene, inside), Contains(HasSubstr("nothing is made of material other")));
  EXPECT_THAT(warnings(scene, {.eye = {0.5, 0.5, 1.6}}), Contains(HasSubstr("inside a wall")));
  EXPECT_THAT(warnings(scene, {.eye = {-2, 0.5, 1.6}}), Contains(HasSubstr("outside the map")));
  EXPECT_THAT(warnings(scene, {.eye = {1.5, 1.5, 7}}), Contains(HasSubstr("camera.eye: height 7")));
  EXPECT_THAT(warnings(test::drawn("..\n.."), {.eye = {1, 1, 1}}),
              Contains(HasSubstr("no walls: every lane escapes")));
  Budget careless;
  careless.cells.method = CellMethod::increment;
  careless.cells.increment = 2;
  EXPECT_THAT(warnings(scene, inside, careless), Contains(HasSubstr("longer than a cell")));
  Scene round = test::drawn(".#\n#.");
  round.room().cell_map().repeat = true;
  EXPECT_THAT(warnings(round, {.eye = {-1.5, 2.5, 1}}), Contains(HasSubstr("material other")));
  EXPECT_THAT(warnings(round, {.eye = {-1.5, 2.5, 1}}), Contains(HasSubstr("inside a wall")));
}

TEST(Sweeps, EachViewHasATruthOfItsOwn) {
  const Scene scene = test::drawn(test::square_room(6));
  const Camera camera{.eye = {4, 4, 1.6}};
  const Budget budget{.frame = {48, 30, 1}};
  const Sweep result =
      sweep(compile(scene), camera, budget,
            {parse_vary("camera.heading=0,30,75"), parse_vary("number=float,double")},
            {.repeats = 1, .warm_up = 0, .progress = {}});
  ASSERT_EQ(result.settings.size(), 6u);
  EXPECT_THAT(result.knobs, ElementsAre("camera.heading", "number"));
  for (const Setting& setting : result.settings) {
    // In double by exact stepping a view is its own reference.
    if (setting.values[1] == "double") {
      EXPECT_EQ(setting.error.rmse, 0) << setting.values[0];
    }
    EXPECT_LT(setting.error.rmse, 0.05) << setting.values[0];
  }
  EXPECT_NEAR(result.settings[2].camera.heading, degrees(30), 1e-12);
  EXPECT_THAT(refusal("camera.nose=1,2"), HasSubstr("no such knob"));
  EXPECT_THAT(refusal("heading=1,2"), HasSubstr("did you mean camera.heading"));
  EXPECT_THAT(parse_vary("window.width=1e-1..1e-3//3").values, ElementsAre("0.1", "0.01", "0.001"));
}

TEST(Sweeps, VaryTheSizeAsOneKnob) {
  const Vary vary = parse_vary("frame.size=32x20,64x40,128x80");
  EXPECT_EQ(vary.values, (std::vector<std::string>{"32x20", "64x40", "128x80"}));
  Scene scene;
  scene.materials.push_back({.base = {0.5f, 0.4f, 0.3f}});
  scene.room().add(field::sphere(1));
  const World world = compile(scene);
  const Camera camera = Camera::look_at({0, -4, 0}, {0, 0, 0}, 0.9);
  SweepOptions options;
  options.repeats = 1;
  options.warm_up = 0;
  const Sweep result = sweep(world, camera, {.frame = {16, 10, 1}}, {vary}, options);
  ASSERT_EQ(result.settings.size(), 3u);
  EXPECT_EQ(result.settings[1].budget.frame.size(), (Size{64, 40}));
  EXPECT_EQ(result.reference.frame.size(), (Size{128, 80}));
  EXPECT_EQ(result.settings[2].error.rmse, 0);
  EXPECT_GT(result.settings[0].error.rmse, result.settings[1].error.rmse);
  for (const char* bad :
       {"frame.size=32", "frame.size=0x4", "frame.size=axb", "frame.size=4x4x4"}) {
    EXPECT_THROW(parse_vary(bad), Error) << bad;
  }
}

TEST(Sweeps, FitHowTimesGrow) {
  Sweep result;
  result.knobs = {"frame.size", "bounces.limit"};
  for (const int width : {100, 200, 400, 800}) {
    for (const char* bounces : {"1", "2"}) {
      Setting& setting = result.settings.emplace_back();
      setting.values = {std::to_string(width) + "x100", bounces};
      setting.budget.frame = {width, 100, 1};
      setting.total_ms.median = (bounces[0] == '1' ? 2e-3 : 9e-3) * std::pow(100.0 * width, 0.9);
    }
  }
  const std::optional<Growth> fit = growth(result, false);
  ASSERT_TRUE(fit.has_value());
  EXPECT_NEAR(fit->power, 0.9, 1e-9);
  EXPECT_NEAR(fit->constant, 2e-3, 1e-9);
  EXPECT_NEAR(fit->off, 0, 1e-9);
  result.settings[2].total_ms.median *= 1.5;
  EXPECT_GT(growth(result, false)->off, 0.1);
  EXPECT_FALSE(growth(result, true).has_value());
  result.settings.resize(4);
  EXPECT_FALSE(growth(result, false).has_value());
}

TEST(Sweeps, EndWhenTheyAreExactEnough) {
  Scene scene;
  scene.room().add(field::sphere(1));
  const World world = compile(scene);
  SweepOptions options;
  options.repeats = 40;
  options.warm_up = 0;
  options.precision = 1000;  // any five frames are
  std::size_t timed = 0;
  options.measured = [&](std::size_t, const SweepPart& part) { timed += part.timed; };
  sweep(world, Camera::look_at({0, -4, 0}, {0, 0, 0}, 0.9), {.frame = {16, 10, 1}},
        {parse_vary("frame.samples=1,2")}, options);
  EXPECT_EQ(timed, 10u);
}

TEST(Sweeps, OfSeveralViewsAreTheirMeans) {
  Glass glass;
  Camera other = glass.camera;
  other.heading = degrees(200);
  const std::vector<Vary> vary{parse_vary("frame.samples=1,2")};
  glass.options.views = {glass.camera, other};
  std::vector<std::size_t> made;
  glass.options.made = [&](std::size_t setting, Frame& frame) {
    EXPECT_TRUE(frame.has(Layer::color));
    made.push_back(setting);
  };
  const Sweep both = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  EXPECT_EQ(both.views, 2u);
  EXPECT_THAT(made, ElementsAre(0, 1));
  glass.options.views.clear();
  glass.options.made = {};
  const Sweep one = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  const Sweep two = sweep(glass.world, other, glass.budget, vary, glass.options);
  for (std::size_t i = 0; i < 2; ++i) {
    const Setting& setting = both.settings[i];
    const double squares =
        std::pow(one.settings[i].error.rmse, 2) + std::pow(two.settings[i].error.rmse, 2);
    EXPECT_NEAR(setting.error.rmse, std::sqrt(squares / 2), 1e-12);
    EXPECT_EQ(setting.tally.steps, one.settings[i].tally.steps + two.settings[i].tally.steps);
    EXPECT_GE(setting.p95_ms, setting.total_ms.median * 0.5);
    EXPECT_LT(setting.slowest_view, 2u);
  }
  // Of one view as of the camera itself.
  glass.options.views = {other};
  EXPECT_EQ(
      sweep(glass.world, glass.camera, glass.budget, vary, glass.options).settings[1].error.rmse,
      two.settings[1].error.rmse);
  // The camera cannot vary as well.
  EXPECT_THROW(sweep(glass.world, glass.camera, glass.budget, {parse_vary("camera.heading=0,10")},
                     glass.options),
               Error);
}

TEST(Sweeps, ByWorkReadNoClock) {
  Glass glass;
  const std::vector<Vary> vary{parse_vary("frame.samples=1,2,4")};
  glass.options.by = RankBy::work;
  const Sweep once = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  const Sweep again = sweep(glass.world, glass.camera, glass.budget, vary, glass.options);
  for (std::size_t i = 0; i < 3; ++i) {
    EXPECT_EQ(once.settings[i].total_ms.median, again.settings[i].total_ms.median);
    EXPECT_EQ(once.settings[i].on_front, again.settings[i].on_front);
    // A frame as it is shown: as many lanes as samples.
    EXPECT_EQ(once.settings[i].tally.lanes, 120u << i);
  }
  const std::optional<Growth> grown = growth(once, true);
  ASSERT_TRUE(grown.has_value());
  EXPECT_NEAR(grown->power, 1, 0.02);
}

TEST(Sweeps, ByThreadsCountTheirWorkAlone) {
  Glass glass;
  glass.options.by = RankBy::cpu;
  glass.options.threads = 2;
  const Sweep result = sweep(glass.world, glass.camera, glass.budget,
                             {parse_vary("frame.samples=1,4")}, glass.options);
  for (const Setting& setting : result.settings) EXPECT_GT(setting.total_ms.median, 0);
}

TEST(Front, IsSharedByWhatNoiseCannotTellApart) {
  std::vector<Setting> settings(3);
  const auto put = [&](std::size_t i, double low, double median, double high, double rmse) {
    settings[i].total_ms.median = median;
    settings[i].total_likely = {low, high};
    settings[i].error.rmse = rmse;
  };
  put(0, 9, 10, 12, 0.1);
  put(1, 10, 11, 13, 0.1);
  put(2, 20, 21, 22, 0.1);
  mark_front(settings, *parse_limit("rmse=0").metric);
  EXPECT_TRUE(settings[0].on_front);
  EXPECT_TRUE(settings[1].on_front);
  EXPECT_FALSE(settings[2].on_front);
}

}  // namespace
}  // namespace photonlane
