#include <gmock/gmock.h>

#include <fstream>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"

namespace photonlane::io {
namespace {

using test::TemporaryFolder;
using ::testing::HasSubstr;

std::uint64_t picture(const SceneFile& file) {
  Budget budget = file.budget;
  budget.frame = {test::effort(160), test::effort(100), 1};
  return test::hash_of(render(compile(file.scene), file.camera, budget), Layer::color);
}

TEST(FurnishedFile, TheEveningComesBackFromItsOwnText) {
  const SceneFile file =
      read_scene(std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-evening.yaml");
  EXPECT_GT(file.scene.room().sprites.size(), 80u);
  EXPECT_EQ(file.scene.room().light.lamps.size(), 4u);
  const std::string text = scene_text(file);
  const SceneFile again = parse_scene(text, "again.yaml");
  EXPECT_EQ(scene_text(again), text);
  EXPECT_EQ(picture(again), picture(file));
}

/// A small scene with `room` and `legend` lines put in, and more at its end.
std::string scene_with(const std::string& legend, const std::string& room = "",
                       const std::string& top = "") {
  return "textures:\n  bricks: {pattern: brick, width: 16, height: 16}\n"
         "materials:\n  wall: {texture: bricks}\n  glass: {opacity: 0.5}\n" +
         top + "room:\n" + room +
         "  solids:\n    - cells:\n        legend:\n          \"#\": wall\n" + legend +
         "        map: |\n          #####\n          #..x#\n          #####\n";
}

std::string refusal(const std::string& text) {
  try {
    parse_scene(text, "s.yaml");
    return "accepted";
  } catch (const Error& error) {
    return error.what();
  }
}

TEST(FurnishedFile, CellsSayWhatStandsInThem) {
  const SceneFile file = parse_scene(
      scene_with(
          "          x: {material: glass, shape: sliding, along: y, opening: 0.25, height: 2, "
          "reversed: true, tint: \"#ff8080\"}\n"),
      "s.yaml");
  const CellMap& map = file.scene.room().cell_map();
  const CellForm* form = map.form(3, 1);
  ASSERT_NE(form, nullptr);
  EXPECT_EQ(form->shape, CellShape::sliding);
  EXPECT_EQ(form->along, PanelAxis::y);
  EXPECT_EQ(form->opening, 0.25);
  EXPECT_EQ(form->height, 2);
  EXPECT_TRUE(form->reversed);
  const Material& tinted = file.scene.materials[material_of(map.at(3, 1))];
  EXPECT_EQ(tinted.opacity, 0.5) << "as glass";
  EXPECT_LT(tinted.base[1], file.scene.materials[1].base[1]);
  EXPECT_EQ(map.form(1, 1), nullptr);
  const SceneFile floored =
      parse_scene(scene_with("          x: {material: empty, floor: glass}\n"), "s.yaml");
  EXPECT_EQ(floored.scene.room().cell_map().form(3, 1)->floor, 1);
  EXPECT_EQ(floored.scene.room().cell_map().at(3, 1), empty_cell);
}

TEST(FurnishedFile, WhatIsWrongHasAPlaceAndTheNearestRightWord) {
  const auto cell = [](const std::string& text) {
    return refusal(scene_with("          x: " + text + "\n"));
  };
  EXPECT_EQ(cell("{material: glas}"), "s.yaml:11:25: no such material 'glas'; did you mean glass?");
  EXPECT_THAT(cell("{material: glass, shap: pane}"), HasSubstr("did you mean shape?"));
  EXPECT_THAT(cell("{material: glass, shape: slding}"), HasSubstr("sliding"));
  EXPECT_THAT(cell("{material: glass, opening: 1.2}"), HasSubstr("expected number, 0 to 1"));
  EXPECT_THAT(cell("{material: glass, height: 9}"), HasSubstr("under a ceiling at 3"));
  EXPECT_THAT(cell("{material: empty, shape: pane}"), HasSubstr("of an empty cell"));
  EXPECT_THAT(cell("{material: glass, top: nothing}"), HasSubstr("no such material"));
  const auto room = [](const std::string& text) {
    return refusal(scene_with("          x: wall\n", text));
  };
  EXPECT_THAT(room("  light: {sun: {elevation: 0}}\n"), HasSubstr("s.yaml:7:28: found '0'"));
  EXPECT_THAT(room("  light: {lamps: [{range: 0}]}\n"), HasSubstr("expected number, more than 0"));
  EXPECT_THAT(room("  light: {lamp: []}\n"), HasSubstr("did you mean lamps?"));
  EXPECT_THAT(room("  sprites: [{width: 1}]\n"), HasSubstr("without a material"));
  EXPECT_THAT(room("  sprites: [{material: fern}]\n"), HasSubstr("no such material 'fern'"));
  EXPECT_THAT(room("  sky: {panorama: nowhere}\n"), HasSubstr("no such texture 'nowhere'"));
  EXPECT_THAT(room("  floor: {texture: brick}\n"), HasSubstr("did you mean bricks?"));
  EXPECT_THAT(room("  ceiling: {opacity: 2}\n"), HasSubstr("expected number, 0 to 1"));
  EXPECT_EQ(room("  ceiling: none\n"), "accepted");
  const auto view = [](const std::string& text) {
    return refusal(scene_with("          x: wall\n", "", text));
  };
  EXPECT_THAT(view("views: [{width: 0}]\n"), HasSubstr("more than 0"));
  EXPECT_THAT(view("views: [{camera: {field_of_view: 190}}]\n"), HasSubstr("less than 180"));
}

TEST(FurnishedFile, TexturesThatAreMissingOrWrongAreSaidWhere) {
  const TemporaryFolder folder;
  folder.write("not.png", "this is no picture");
  const auto with_texture = [&](const std::string& texture) -> std::string {
    const std::string path =
        folder.write("s.yaml", "textures:\n  a: " + texture +
                                   "\nroom:\n  solids:\n    - cells: {map: \"...\"}\n");
    try {
      read_scene(path);
      return "accepted";
    } catch (const Error& error) {
      return std::string(error.what()).substr(folder.path().size() + 1);
    }
  };
  EXPECT_THAT(with_texture("{file: none.png}"), HasSubstr("s.yaml:2:13: texture"));
  EXPECT_THAT(with_texture("{file: none.png}"), HasSubstr("none.png"));
  EXPECT_THAT(with_texture("{file: not.png}"), HasSubstr("PNG"));
  EXPECT_THAT(with_texture("{file: not.png, width: 4}"), HasSubstr("beside other keys"));
  EXPECT_THAT(with_texture("{sign: hello, pattern: brick}"), HasSubstr("one of them"));
  EXPECT_THAT(with_texture("{sign: \"\"}"), HasSubstr("1 to 200 bytes"));
  EXPECT_THAT(with_texture("{pattern: bricks}"), HasSubstr("brick"));
  Picture picture({5, 3});
  for (std::size_t i = 0; i < picture.bytes.size(); ++i) {
    picture.bytes[i] = static_cast<std::uint8_t>(17 * i);
  }
  write_png(folder.path() + "/good.png", picture);
  EXPECT_EQ(with_texture("{file: good.png}"), "accepted");
  const Texture texture = read_texture(folder.path() + "/good.png");
  ASSERT_EQ(texture.width, 5);
  for (int y = 0; y < 3; ++y) {
    for (int x = 0; x < 5; ++x) {
      const std::uint8_t* pixel = picture.pixel(x, y);
      EXPECT_EQ(texture.at(x, y), 0xff000000u | pixel[0] | pixel[1] << 8 | pixel[2] << 16);
    }
  }
}

TEST(FurnishedFile, SignsShowTheirTextInTheSecondColor) {
  const SceneFile file = parse_scene(
      "textures:\n  a: {sign: \"II\", width: 64, height: 64, color: [0, 0, 0], second: [1, 1, 1]}\n"
      "room:\n  solids:\n    - cells: {map: \"...\"}\n",
      "s.yaml");
  const Texture& sign = file.scene.textures[0];
  const auto bright = [&](int x, int y) { return (sign.at(x, y) & 255) > 128; };
  EXPECT_FALSE(bright(0, 0));
  // Along the middle: the rim, a letter, another letter, the rim.
  int strokes = 0;
  for (int x = 1; x < 64; ++x) strokes += bright(x, 32) && !bright(x - 1, 32);
  EXPECT_EQ(strokes, 4);
}

TEST(FurnishedFile, ViewsStartFromTheScenesCamera) {
  const SceneFile file = parse_scene(
      scene_with("          x: wall\n", "",
                 "camera: {eye: [1.5, 1.5, 1.2], heading: 20}\nviews:\n  - {width: 0.5}\n"
                 "  - {left: 0.5, width: 0.5, camera: {heading: 200}}\n"),
      "s.yaml");
  ASSERT_EQ(file.views.size(), 2u);
  EXPECT_EQ(file.views[0].camera.heading, degrees(20));
  EXPECT_EQ(file.views[1].camera.heading, degrees(200));
  EXPECT_EQ(file.views[1].camera.eye.z(), 1.2);
  EXPECT_EQ(scene_text(parse_scene(scene_text(file), "t.yaml")), scene_text(file));
}

TEST(FurnishedFile, DoorsAreOpenedByText) {
  SceneFile file =
      parse_scene(scene_with("          x: {material: glass, shape: swinging}\n"), "s.yaml");
  open_door_by_text(file, "3,1=0.75");
  EXPECT_EQ(file.scene.room().cell_map().form(3, 1)->opening, 0.75);
  for (const char* text : {"3,1", "3=1", "a,1=1", "3,1=2", "1,1=1", "3,1=", "99,1=0", "=,"}) {
    EXPECT_THROW(open_door_by_text(file, text), Error) << text;
  }
}

}  // namespace
}  // namespace photonlane::io
