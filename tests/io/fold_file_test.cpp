#include <gmock/gmock.h>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"

namespace photonlane::io {
namespace {

using ::testing::HasSubstr;

std::string scene_of(const std::string& field, const std::string& before = "") {
  return before +
         "camera: {eye: [0, -4, 1], look_at: [0, 0, 0]}\nmaterials:\n  leaf: {}\n  stem: {}\n"
         "room:\n  solids:\n    - field: " +
         field + "\n";
}
std::string refusal(const std::string& text) {
  try {
    parse_scene(text, "f.yaml");
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

const std::string shrub =
    "{iterate: {times: 4, keep: all, steps: [{mirror: {axis: y}}, {wedge: {count: 5}}, "
    "{place: {at: [0, 0, 1], turn: [0, 30, 0], scale: 0.5}}, {fold: {normal: [1, 2, 0]}}], "
    "of: {sphere: {radius: 0.3}}}, tint: {by: depth, over: [stem, leaf]}}";

TEST(FoldFile, ReadsStepsAndTints) {
  const SceneFile file = parse_scene(scene_of(shrub), "f.yaml");
  const Field& made = file.scene.room().fields.front();
  ASSERT_EQ(made.kind(), FieldKind::iterate);
  const std::vector<FoldStep> all = fold_steps(made.numbers());
  ASSERT_EQ(all.size(), 4u);
  EXPECT_EQ(all[1].kind, FoldKind::wedge);
  EXPECT_EQ(all[1].numbers[0], 5);
  EXPECT_NEAR(all[2].numbers[4], degrees(30), 1e-12);
  EXPECT_EQ(all[2].numbers[6], 0.5);
  EXPECT_EQ(made.tint().by, TintBy::depth);
  EXPECT_EQ(made.tint().materials, (std::vector<int>{1, 0}));
}

TEST(FoldFile, ComesBackFromItsOwnText) {
  for (const std::string& field :
       {shrub,
        std::string("{sponge: {size: 2, times: 3, cut: ball}, tint: {by: fold, over: [leaf, "
                    "stem, leaf]}}"),
        std::string("{bulb: {power: 5, derivative: jacobian, safety: 1.5}, material: leaf}"),
        std::string("{julia: {c: [-0.1, 0.5, 0.2], last: 0.1}}")}) {
    const SceneFile file = parse_scene(scene_of(field), "f.yaml");
    const std::string text = scene_text(file);
    const SceneFile again = parse_scene(text, "again.yaml");
    EXPECT_EQ(scene_text(again), text);
    const auto picture = [](const SceneFile& one) {
      Budget budget = one.budget;
      budget.frame = {48, 30, 1};
      return test::hash_of(render(compile(one.scene), one.camera, budget), Layer::color);
    };
    EXPECT_EQ(picture(again), picture(file)) << field;
  }
}

TEST(FoldFile, RefusesWithPlaces) {
  EXPECT_THAT(refusal(scene_of("{iterate: {steps: [{mirrror: {}}], of: {sphere: }}}")),
              HasSubstr("f.yaml:7:34: no such kind of step 'mirrror'; did you mean mirror?"));
  EXPECT_THAT(refusal(scene_of("{iterate: {steps: [{fold: {height: a}}], of: {sphere: }}}")),
              HasSubstr("f.yaml:7:49"));
  EXPECT_THAT(refusal(scene_of("{iterate: {steps: [{place: {sale: 2}}], of: {sphere: }}}")),
              HasSubstr("no such key 'sale'; did you mean scale?"));
  EXPECT_THAT(refusal(scene_of("{iterate: {steps: [{start: }], of: {sphere: }}}")),
              HasSubstr("expected `reach`"));
  EXPECT_THAT(refusal(scene_of("{sphere: , tint: {by: trap, over: [leaf, stem]}}")),
              HasSubstr("sphere of several materials"));
  EXPECT_THAT(refusal(scene_of("{bulb: , tint: {by: trap, over: [leaf, steam]}}")),
              HasSubstr("no such material 'steam'; did you mean stem?"));
}

TEST(SceneNumbers, StandWhereverTheyAreNamed) {
  const std::string text = scene_of(
      "{iterate: {times: $deep, steps: [{mirror: }, {place: {at: [$way, 0, 1], turn: [0, "
      "$lean, 0], scale: 0.5}}], of: {sphere: }}}",
      "numbers: {deep: 3, lean: 20, way: 0.25}\n");
  const SceneFile file = parse_scene(text, "f.yaml");
  const auto numbers = [](const Scene& scene) { return scene.room().fields.front().numbers(); };
  EXPECT_EQ(numbers(file.scene)[0], 3);
  EXPECT_NEAR(fold_steps(numbers(file.scene))[1].numbers[4], degrees(20), 1e-12);
  EXPECT_EQ(file.numbers.at("way"), "0.25");
  const Scene other = scene_with(file, {{"deep", "5"}});
  EXPECT_EQ(numbers(other)[0], 5);
  EXPECT_EQ(fold_steps(numbers(other))[1].numbers[0], 0.25);
  SceneFile set = file;
  set_by_name(set, "scene.lean", "35");
  EXPECT_NEAR(fold_steps(numbers(set.scene))[1].numbers[4], degrees(35), 1e-12);

  EXPECT_THAT(refusal(scene_of("{sphere: {radius: $wide}}", "numbers: {wade: 2}\n")),
              HasSubstr("no such number 'wide'; did you mean wade?"));
  EXPECT_THAT(refusal(scene_of("{sphere: {radius: $wide}}")), HasSubstr("key 'numbers'"));
  EXPECT_THAT(refusal(scene_of("{sphere: }", "numbers: {wide: much}\n")), HasSubstr("f.yaml:1:17"));
  EXPECT_THAT(refusal(scene_of("{sponge: {times: $deep}}", "numbers: {deep: 2.5}\n")),
              HasSubstr("integer"));
}

TEST(SceneNumbers, LeaveDoorsOpen) {
  SceneFile file = parse_scene(
      "numbers: {bright: 0.4}\nmaterials:\n  oak: {base: [$bright, 0.3, 0.2]}\nroom:\n  solids:\n"
      "    - cells:\n        legend: {\"#\": oak, D: {material: oak, shape: sliding}}\n"
      "        map: |\n          #####\n          #.D.#\n          #####\n",
      "d.yaml");
  open_door_by_text(file, "2,1=0.5");
  const Scene other = scene_with(file, {{"bright", "0.8"}});
  EXPECT_FLOAT_EQ(other.materials[0].base[0], 0.8f);
  EXPECT_EQ(other.room().cell_map().form(2, 1)->opening, 0.5);
  // The numbers it has already: nothing is read again.
  EXPECT_EQ(scene_with(file, file.numbers).room().cell_map().form(2, 1)->opening, 0.5);
}

TEST(SceneNumbers, AreSweptAgainstTheSceneAsItIs) {
  const SceneFile file =
      parse_scene(scene_of("{sponge: {size: 2, times: $deep}}", "numbers: {deep: 3}\n"), "f.yaml");
  const Sweep result =
      sweep([&](const SceneNumbers& numbers) { return compile(scene_with(file, numbers)); },
            file.numbers, file.camera, Budget{.frame = {64, 40, 1}},
            {parse_vary("scene.deep=1,2,3")}, {.repeats = 1, .warm_up = 0, .progress = {}});
  ASSERT_EQ(result.settings.size(), 3u);
  EXPECT_EQ(result.settings[0].values, std::vector<std::string>{"1"});
  EXPECT_GT(result.settings[0].error.rmse, result.settings[1].error.rmse);
  EXPECT_GT(result.settings[1].error.rmse, result.settings[2].error.rmse);
  EXPECT_THROW(
      sweep([&](const SceneNumbers& numbers) { return compile(scene_with(file, numbers)); },
            file.numbers, file.camera, Budget{.frame = {64, 40, 1}}, {parse_vary("scene.depp=1")},
            {.progress = {}}),
      Error);
}

TEST(Bodies, AreReadAndComeBack) {
  const std::string text = scene_of("{plane: }") +
                           "  bodies:\n    - {at: [0, 0, 1], radius: 0.2, material: leaf}\n"
                           "    - at: [1, 0, 1]\n      spin: [1, 2, 3]\n      balls:\n"
                           "        - {radius: 0.1}\n        - {at: [0.2, 0, 0], radius: 0.05}\n";
  const SceneFile file = parse_scene(text, "f.yaml");
  const auto& bodies = file.scene.room().bodies;
  ASSERT_EQ(bodies.size(), 2u);
  EXPECT_EQ(bodies[0].body.balls.front().radius, 0.2);
  EXPECT_EQ(bodies[0].material, 0);
  EXPECT_EQ(bodies[1].body.balls.size(), 2u);
  EXPECT_EQ(bodies[1].body.spin, Vec3d(1, 2, 3));
  const std::string written = scene_text(file);
  EXPECT_EQ(scene_text(parse_scene(written, "again.yaml")), written);
}

TEST(Walks, RollBodiesWhileNumbersMove) {
  const test::TemporaryFolder folder;
  const std::string path =
      folder.write("s.yaml", scene_of("{plane: {height: $rise}}", "numbers: {rise: 0}\n") +
                                 "  bodies:\n    - {at: [0, 0, 0.6], radius: 0.1, bounce: 0}\n");
  SceneFile file = read_scene(path);
  file.budget.frame = {32, 20, 1};
  const WalkScript script = read_walk_script(
      folder.write("w.yaml",
                   "rate: 10\nmoves:\n  - {over: 1}\n  - {over: 1, numbers: {rise: 0.3}}\n"),
      file);
  EXPECT_EQ(numbers_at(file, script, 1.5).at("rise"), "0.14999999999999999");
  const WalkRecord record = play_walk(file, script, folder.path(), {});
  ASSERT_EQ(record.bodies.size(), record.steps.size());
  // Fallen by half a meter after a second, and lifted by what the floor rises.
  EXPECT_NEAR(record.bodies[10].front().place.z(), 0.1, 2e-3);
  EXPECT_NEAR(record.bodies.back().front().place.z(), 0.4, 0.01);
  EXPECT_THAT(folder.read("bodies.csv"),
              HasSubstr("frame,time,body,x,y,z,speed,spin,energy,touching,still\n0,0,0,"));
  EXPECT_THROW(read_walk_script(
                   folder.write("v.yaml", "moves:\n  - {over: 1, numbers: {raise: 1}}\n"), file),
               Error);
}

TEST(Fractals, AreInventedTheSameEachTime) {
  const test::TemporaryFolder folder;
  std::vector<std::vector<double>> seen;
  for (const FractalKind kind : {FractalKind::tree, FractalKind::folds, FractalKind::box_ball,
                                 FractalKind::bulb, FractalKind::julia}) {
    for (const std::int64_t seed : {1, 2}) {
      const Field made = make_fractal({.seed = seed, .kind = kind});
      if (seed == 1) {
        const Field again = make_fractal({.seed = seed, .kind = kind});
        EXPECT_EQ(made.parts().front().numbers(), again.parts().front().numbers());
      }
      seen.push_back(made.parts().front().numbers());
      const std::string path = folder.path() + "/f.yaml";
      write_fractal(path, made, {.seed = seed, .kind = kind});
      const SceneFile file = read_scene(path);
      Budget budget = file.budget;
      budget.frame = {24, 16, 1};
      const Frame frame = render(compile(file.scene), file.camera, budget);
      EXPECT_GT(frame.tally.hits, frame.tally.lanes / 20) << name_of(kind) << seed;
      EXPECT_LT(frame.tally.hits, frame.tally.lanes * 19 / 20) << name_of(kind) << seed;
      EXPECT_LT(frame.tally.spent, frame.tally.lanes / 100) << name_of(kind) << seed;
    }
  }
  for (std::size_t i = 0; i < seen.size(); i += 2) EXPECT_NE(seen[i], seen[i + 1]);
}

}  // namespace
}  // namespace photonlane::io
