#include <gmock/gmock.h>

#include <algorithm>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane::io {
namespace {

using ::testing::HasSubstr;

TEST(FieldFile, TheFountainComesBackFromItsOwnText) {
  const SceneFile file =
      read_scene(std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-fountain.yaml");
  EXPECT_GT(file.scene.room().fields.size(), 8u);
  const std::string text = scene_text(file);
  const SceneFile again = parse_scene(text, "again.yaml");
  EXPECT_EQ(scene_text(again), text);
  Budget budget = file.budget;
  budget.frame = {96, 60, 1};
  const auto picture = [&](const SceneFile& one) {
    return test::hash_of(render(compile(one.scene), one.camera, budget), Layer::color);
  };
  EXPECT_EQ(picture(again), picture(file));
}

/// A scene of one field.
std::string scene_of(const std::string& field) {
  return "camera: {eye: [0, -4, 1], look_at: [0, 0, 0]}\nmaterials:\n  brass: {}\nroom:\n  "
         "solids:\n"
         "    - field: " +
         field + "\n";
}
std::string refusal(const std::string& field) {
  try {
    parse_scene(scene_of(field), "f.yaml");
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TEST(FieldFile, ReadsKindsParametersAndMaterials) {
  const SceneFile file = parse_scene(
      scene_of(
          "{join: {radius: 0.2, profile: circular, of: [{sphere: {radius: 0.5}, material: brass},"
          " {place: {at: [0, 0, 1], turn: [0, 90, 0], of: {torus: {angle: 180}}}}]}}"),
      "f.yaml");
  const Field& made = file.scene.room().fields.front();
  EXPECT_EQ(made.kind(), FieldKind::join);
  EXPECT_EQ(made.numbers()[1], 1);
  EXPECT_EQ(made.parts()[0].material(), 0);
  EXPECT_NEAR(made.parts()[1].numbers()[4], pi / 2, 1e-12);
  EXPECT_NEAR(made.parts()[1].parts()[0].numbers()[2], pi, 1e-12);
}

TEST(FieldFile, EveryKindComesBackFromItsOwnText) {
  for (const std::string_view name : choice_names<FieldKind>) {
    const auto kind = static_cast<FieldKind>(
        std::find(choice_names<FieldKind>.begin(), choice_names<FieldKind>.end(), name) -
        choice_names<FieldKind>.begin());
    const FieldKindInfo& info = field_kind_info(kind);
    using Extra = FieldKindInfo::Extra;
    if (info.extra == Extra::function || info.extra == Extra::file) continue;
    const std::string parts = info.most_parts > 0 ? "of: {sphere: {radius: 0.3}}"
                              : info.extra == Extra::points
                                  ? "corners: [[-0.5, -0.5], [0.5, -0.25], [0, 0.5]]"
                                  : "";
    const SceneFile file =
        parse_scene(scene_of("{" + std::string(name) + ": {" + parts + "}}"), "f.yaml");
    const Field& made = file.scene.room().fields.front();
    EXPECT_EQ(made.kind(), kind);
    std::size_t numbers = info.extra == Extra::points ? 6 : 0;
    for (const FieldKindInfo::Parameter& parameter : info.parameters) {
      numbers += parameter.numbers();
      EXPECT_FALSE(parameter.info.help.empty()) << name;
    }
    EXPECT_EQ(made.numbers().size(), numbers) << name;
    const SceneFile again = parse_scene(scene_text(file), "again.yaml");
    EXPECT_EQ(again.scene.room().fields.front().numbers(), made.numbers()) << name;
    EXPECT_EQ(scene_text(again), scene_text(file)) << name;
    // And can be drawn.
    Budget budget = file.budget;
    budget.frame = {40, 30, 1};
    const Frame frame = render(compile(file.scene), file.camera, budget, {});
    EXPECT_EQ(frame.tally.spent, 0u) << name;
    EXPECT_GT(frame.tally.hits, 0u) << name;
  }
}

TEST(FieldFile, RefusesWithThePlace) {
  EXPECT_THAT(refusal("{spere: {}}"),
              HasSubstr("f.yaml:6:15: no such kind of field 'spere'; did you "
                        "mean sphere"));
  EXPECT_THAT(refusal("{sphere: {radios: 1}}"),
              HasSubstr("no such key 'radios'; did you mean radius"));
  EXPECT_THAT(refusal("{sphere: {radius: -2}}"),
              HasSubstr("f.yaml:6:32: found '-2', expected number, more than 0"));
  EXPECT_THAT(refusal("{sphere: {of: [{sphere: {}}]}}"), HasSubstr("no such key 'of'"));
  EXPECT_THAT(refusal("{join: {}}"), HasSubstr("join of 0 parts, expected at least one"));
  EXPECT_THAT(refusal("{offset: {of: [{sphere: {}}, {box: {}}]}}"),
              HasSubstr("2 parts, expected one"));
  EXPECT_THAT(refusal("{sphere: {}, box: {}}"), HasSubstr("a second kind 'box'"));
  EXPECT_THAT(refusal("{material: brass}"), HasSubstr("a field of no kind"));
  EXPECT_THAT(refusal("{sphere: {}, material: bras}"),
              HasSubstr("no such material 'bras'; did you mean brass"));
  EXPECT_THAT(refusal("{join: {profile: round, of: {sphere: {}}}}"),
              HasSubstr("found 'round', expected one of polynomial, circular"));
  EXPECT_THAT(refusal("{twist: {of: {plane: {}}}}"), HasSubstr("f.yaml:6:22: twist: a part without "
                                                               "end"));
  EXPECT_THAT(refusal("{polygon: {sides: 2.5}}"), HasSubstr("expected integer, 3 to 1000"));
  EXPECT_THAT(refusal("{outline: {corners: [[0, 0], [1, 0]]}}"),
              HasSubstr("2 corners, expected 3 to 1000"));
  EXPECT_THAT(refusal("{outline: {corners: [[0, 0], [1, 0, 2], [1, 1]]}}"),
              HasSubstr("f.yaml:6:43: a corner of 3 numbers"));
  EXPECT_THAT(refusal("{outline: {corners: [[0, 0], [1, 1], [1, 0], [0, 1]]}}"),
              HasSubstr("the sides after corners 0 and 2 meet"));
  EXPECT_THAT(refusal("{function: {}}"), HasSubstr("exists in C++ alone"));
  EXPECT_THAT(refusal("{volume: {}}"), HasSubstr("a volume without a file"));
  EXPECT_THAT(refusal("{volume: {file: nowhere.volume}}"),
              HasSubstr("f.yaml:6:30: volume nowhere.volume"));
  EXPECT_THAT(refusal("{bend: {rate: 400, of: {box: {size: [4, 1, 0.1]}}}}"),
              HasSubstr("less than half the circle"));
  EXPECT_THAT(refusal("{taper: {of: {plane: {}}}}"), HasSubstr("taper: a part without end"));
}

}  // namespace
}  // namespace photonlane::io
