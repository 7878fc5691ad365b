#include "photonlane/io/scene_file.hpp"

#include <gmock/gmock.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "photonlane/frame/render.hpp"
#include "photonlane/io/picture.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"

namespace photonlane::io {
namespace {

using test::TemporaryFolder;
using ::testing::ContainsRegex;
using ::testing::HasSubstr;
using ::testing::StartsWith;

const std::string good = R"(title: A test
camera: {eye: [1.5, 1.5, 1.6], heading: 45, field_of_view: 60}
materials:
  brick: {base: [0.6, 0.3, 0.2]}
  moss: {base: "#446622"}
room:
  fog: {start: 2, end: 30}
  solids:
    - cells:
        cell_size: 0.5
        legend:
          "#": brick
          m: moss
        map: |
          ####
          #..#
          #.m#
          ####
budget:
  frame: {width: 320, height: 200}
  cells: {method: boundary, steps: 500}
)";

/// A scene file with one piece of the good one replaced.
std::string with(const std::string& piece, const std::string& replacement) {
  std::string text = good;
  const auto at = text.find(piece);
  EXPECT_NE(at, std::string::npos) << piece;
  return text.replace(at, piece.size(), replacement);
}

std::string refusal(const std::string& text) {
  TemporaryFolder folder;
  const std::string path = folder.write("s.yaml", text);
  try {
    read_scene(path);
  } catch (const Error& error) {
    std::string what = error.what();
    EXPECT_EQ(what.find('\n'), std::string::npos) << "one line: " << what;
    return what.starts_with(folder.path()) ? what.substr(folder.path().size() + 1) : what;
  }
  return "accepted";
}

TEST(SceneFile, SaysWhatItSays) {
  const SceneFile file = parse_scene(good, "good.yaml");
  EXPECT_EQ(file.scene.title, "A test");
  EXPECT_EQ(file.camera.eye, Vec3d(1.5, 1.5, 1.6));
  EXPECT_DOUBLE_EQ(file.camera.heading, degrees(45));
  ASSERT_EQ(file.scene.materials.size(), 2u);
  EXPECT_FLOAT_EQ(file.scene.materials[0].base[1], 0.3f);
  const CellMap& map = file.scene.room().cell_map();
  EXPECT_EQ(map.cell_size, 0.5);
  EXPECT_EQ(map.at(2, 1), wall_of(1));
  EXPECT_EQ(map.at(1, 1), empty_cell);
  EXPECT_EQ(file.budget.cells.method, CellMethod::boundary);
  EXPECT_EQ(file.budget.cells.steps, 500);
  EXPECT_EQ(file.budget.frame.width, 320);
  EXPECT_TRUE(file.notes.empty());
}

TEST(SceneFile, ComesBackFromItsOwnText) {
  SceneFile file = parse_scene(good, "good.yaml");
  file.camera.heading = degrees(33.25);
  file.scene.room().fog.color = Color(0.125f, 0.3f, 0.7f);
  file.scene.title = "With \"quotes\": and # signs";
  const std::string text = scene_text(file);
  const SceneFile again = parse_scene(text, "again.yaml");
  EXPECT_EQ(scene_text(again), text);
  EXPECT_EQ(again.scene.title, file.scene.title);
  EXPECT_EQ(again.scene.room().cell_map().cells, file.scene.room().cell_map().cells);
  EXPECT_EQ(again.camera.heading, file.camera.heading);
  EXPECT_EQ(again.budget.cells.steps, 500);
  const Frame a = render(compile(file.scene), file.camera, file.budget);
  const Frame b = render(compile(again.scene), again.camera, again.budget);
  EXPECT_EQ(test::hash_of(a, Layer::color), test::hash_of(b, Layer::color));
}

TEST(SceneFile, ErrorsHaveFileLineAndColumn) {
  EXPECT_EQ(refusal(with("heading", "headin")),
            "s.yaml:2:32: no such key 'headin'; did you mean heading?");
  EXPECT_EQ(refusal(with("method: boundary", "methud: boundary")),
            "s.yaml:21:11: no such key 'methud'; did you mean method?");
  EXPECT_EQ(refusal(with("budget:", "budgit:")),
            "s.yaml:19:1: no such key 'budgit'; did you mean budget?");
  EXPECT_EQ(refusal(with("- cells:", "- sells:")),
            "s.yaml:9:7: no such key 'sells'; did you mean cells?");
  EXPECT_EQ(refusal(with("steps: 500", "steps: many")),
            "s.yaml:21:36: found 'many', expected integer, 1 to 1000000000");
  EXPECT_EQ(refusal(with("steps: 500", "steps: [1, 2]")),
            "s.yaml:21:36: found '[1, 2]', expected integer, 1 to 1000000000");
  EXPECT_EQ(refusal(with("steps: 500", "steps: {a: 1}")),
            "s.yaml:21:36: found a map of keys, expected a single value");
  EXPECT_EQ(refusal(with("field_of_view: 60", "field_of_view: 0")),
            "s.yaml:2:60: found '0', expected number, more than 0 and at most 360, in degrees");
  EXPECT_THAT(refusal(with("field_of_view: 60", "field_of_view: 180")),
              StartsWith("s.yaml:2:60: camera.field_of_view: found 180 degrees, expected less"));
  EXPECT_THAT(refusal(with("1.5, 1.6]", ".nan, 1.6]")),
              StartsWith("s.yaml:2:15: found '[1.5, .nan, 1.6]', expected three numbers"));
  EXPECT_THAT(refusal(with("1.5, 1.6]", "1.6]")), HasSubstr("expected three numbers"));
  EXPECT_THAT(refusal(with("width: 320", "width: -320")),
              StartsWith("s.yaml:20:18: found '-320', expected integer, 1 to 1000000"));
  EXPECT_THAT(refusal(with("[0.6, 0.3, 0.2]", "[0.6, 1e400, 0.2]")),
              StartsWith("s.yaml:4:17: found '[0.6, 1e400, 0.2]'"));
  EXPECT_EQ(refusal(with("end: 30", "end: 1")),
            "s.yaml:7:8: fog ends at 1 meters, expected more than its start, 2");
  EXPECT_EQ(refusal(with("\"#\": brick", "\"#\": brik")),
            "s.yaml:12:16: no such material 'brik'; did you mean brick?");
  EXPECT_EQ(refusal(with("\"#\": brick", "\"##\": brick")),
            "s.yaml:12:11: found '##', expected one letter, or a color as \"#rrggbb\"");
  EXPECT_THAT(refusal(with("brick: {base", "empty: {base")), StartsWith("s.yaml:4:3: 'empty' is"));
}

TEST(SceneFile, ACameraMayLookAtAPoint) {
  const SceneFile level = parse_scene(with("heading: 45", "look_at: [2.5, 2.5, 1.6]"), "s.yaml");
  EXPECT_NEAR(level.camera.heading, degrees(45), 1e-12);
  EXPECT_TRUE(level.camera.level());
  const SceneFile down = parse_scene(with("heading: 45", "look_at: [1.5, 2.5, 0.6]"), "s.yaml");
  EXPECT_NEAR(down.camera.heading, degrees(90), 1e-12);
  EXPECT_NEAR(down.camera.pitch, degrees(-45), 1e-12);
  EXPECT_EQ(refusal(with("heading: 45", "look_at: [2, 2, 1], heading: 3")),
            "s.yaml:2:61: heading beside look_at, expected one of them");
  EXPECT_EQ(refusal(with("heading: 45", "look_at: [1.5, 1.5, 1.6]")),
            "s.yaml:2:41: look_at is the eye itself, expected another point");
  EXPECT_THAT(refusal(with("heading: 45", "look_at: [1.5, 1.5]")),
              HasSubstr("s.yaml:2:41: found '[1.5, 1.5]', expected three numbers"));
}

TEST(SceneFile, MapErrorsPointIntoTheDrawing) {
  EXPECT_EQ(refusal(with("#.m#", "#.x#")),
            "s.yaml:17:13: found 'x' in the map, expected a letter of the legend");
  EXPECT_EQ(refusal(with("#.m#", "#.m")),
            "s.yaml:17:14: row of 3 cells, expected 4 like the rows above");
  EXPECT_EQ(refusal(with("map: |\n          ####\n          #..#\n          #.m#\n          ####",
                         "map: \"\"")),
            "s.yaml:14:14: the map is empty, expected at least one cell");
  EXPECT_THAT(refusal(with("map: |\n          ####\n          #..#\n          #.m#\n          ####",
                           "map: \"##\\n#?\"")),
              StartsWith("s.yaml:14:14: found '?' in the map"));
  EXPECT_EQ(refusal(with("        legend", "        map_file: a.txt\n        legend")),
            "s.yaml:10:9: expected one of map and map_file");
}

TEST(SceneFile, RefusesYamlThatIsNotAScene) {
  EXPECT_EQ(refusal(""), "s.yaml:1:1: the file is empty, expected a scene");
  EXPECT_EQ(refusal("# nothing\n"), "s.yaml:1:1: the file is empty, expected a scene");
  EXPECT_THAT(refusal("just text"), StartsWith("s.yaml:1:1: found 'just text', expected a scene"));
  EXPECT_THAT(refusal("- a\n- b\n"), HasSubstr("found a list, expected a scene"));
  EXPECT_THAT(refusal("title: [unclosed\n"), StartsWith("s.yaml:"));
  EXPECT_THAT(refusal("title: a\n\tcamera: b\n"), StartsWith("s.yaml:"));
  EXPECT_THAT(refusal(good + "---\n" + good), HasSubstr("a second document, expected one scene"));
  EXPECT_THAT(refusal("title: x\n"), HasSubstr("no room, expected a key 'room'"));
  EXPECT_THAT(refusal("room: {}\n"), HasSubstr("nothing in the room, expected solids"));
  EXPECT_THAT(refusal("{[a]: b}"), HasSubstr("expected a key"));
}

TEST(SceneFile, RefusesKeysThatStandTwice) {
  EXPECT_EQ(refusal(with("budget:", "title: Again\nbudget:")),
            "s.yaml:19:1: key 'title' stands twice, first in line 1");
  EXPECT_EQ(refusal(with("heading: 45,", "heading: 45, heading: 46,")),
            "s.yaml:2:45: key 'heading' stands twice, first in line 2");
}

TEST(SceneFile, AliasesAndNestingCannotGrowWithoutBound) {
  // Nine levels of nine aliases each stand for 10^9 nodes; the file stays as small as it is.
  std::string bomb = "a0: &a0 [x, x, x, x, x, x, x, x, x]\n";
  for (int i = 1; i < 10; ++i) {
    bomb += "a" + std::to_string(i) + ": &a" + std::to_string(i) + " [";
    for (int j = 0; j < 9; ++j) bomb += (j == 0 ? "*a" : ", *a") + std::to_string(i - 1);
    bomb += "]\n";
  }
  EXPECT_EQ(refusal(bomb), "s.yaml:1:1: no such key 'a0'");
  EXPECT_THAT(refusal(bomb + "title: *a9\n"), HasSubstr("no such key"));
  EXPECT_EQ(refusal("title: " + std::string(10000, '[') + std::string(10000, ']')),
            "s.yaml:1:71: nested deeper than 64 levels");
  EXPECT_THAT(refusal("title: " + std::string(10000, '{')), StartsWith("s.yaml:1:"));
  std::string block;
  for (int i = 0; i < 200; ++i) block += std::string(static_cast<std::size_t>(i), ' ') + "a:\n";
  EXPECT_THAT(refusal(block), HasSubstr("nested deeper than 64 levels"));
  EXPECT_THAT(refusal("title: &a [*a]\n"), HasSubstr("alias inside what it stands for"));
  EXPECT_THAT(refusal("title: *nothing\n"), StartsWith("s.yaml:1:"));
  // A sound alias is as good as what it stands for.
  EXPECT_EQ(refusal(with("moss: {base: \"#446622\"}", "moss: *b")
                        .replace(good.find("brick: {"), 7, "brick: &b ")),
            "accepted");
}

TEST(SceneFile, NotesWhatNoCellUses) {
  const SceneFile file = parse_scene(with("#.m#", "#..#"), "s.yaml");
  ASSERT_EQ(file.notes.size(), 1u);
  EXPECT_EQ(file.notes[0].place.line, 13);
  EXPECT_EQ(file.notes[0].text, "no cell uses 'm' of the legend");
}

const std::string from_file_scene = R"(materials: {brick: {base: [0.6, 0.3, 0.2]}}
room:
  solids:
    - cells:
        legend: {"#": brick, "#804020": brick, "#000000": empty}
        map_file: NAME
)";

std::string naming(const std::string& name) {
  std::string text = from_file_scene;
  return text.replace(text.find("NAME"), 4, name);
}

TEST(SceneFile, ReadsMapsFromTextAndPictures) {
  TemporaryFolder folder;
  folder.write("plan.txt", "###\n#..\n###\n");
  const SceneFile text = read_scene(folder.write("text.yaml", naming("plan.txt")));
  Picture picture(Size{3, 3});
  for (const auto& [x, y] : {std::pair{0, 0}, {1, 0}, {2, 0}, {0, 1}, {0, 2}, {1, 2}, {2, 2}}) {
    const std::uint8_t brick[] = {0x80, 0x40, 0x20};
    std::copy_n(brick, 3, picture.pixel(x, y));
  }
  write_png(folder.path() + "/plan.png", picture);
  const SceneFile drawn = read_scene(folder.write("png.yaml", naming("plan.png")));
  EXPECT_EQ(text.scene.room().cell_map().cells, drawn.scene.room().cell_map().cells);
  EXPECT_EQ(text.scene.room().cell_map().at(2, 1), empty_cell);

  picture.pixel(1, 2)[0] = 0x81;
  write_png(folder.path() + "/plan.png", picture);
  try {
    read_scene(folder.path() + "/png.yaml");
    FAIL();
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), HasSubstr("plan.png: found color #814020 in the pixel at column 1, "
                                        "row 2 from the top, expected a color of the legend"));
  }
}

TEST(SceneFile, MapFilesThatAreNotThereOrBroken) {
  TemporaryFolder folder;
  const auto message = [&](const std::string& name) {
    try {
      read_scene(folder.write("s.yaml", naming(name)));
      return std::string("accepted");
    } catch (const Error& error) {
      return std::string(error.what());
    }
  };
  EXPECT_THAT(message("missing.txt"), HasSubstr("s.yaml:6:19: map_file "));
  EXPECT_THAT(message("missing.txt"), HasSubstr("No such file or directory"));
  write_png(folder.path() + "/whole.png", Picture(Size{64, 64}));
  std::ifstream whole(folder.path() + "/whole.png", std::ios::binary);
  const std::string bytes((std::istreambuf_iterator<char>(whole)), {});
  for (const std::size_t kept :
       {std::size_t{0}, std::size_t{10}, std::size_t{50}, bytes.size() - 30}) {
    folder.write("cut.png", bytes.substr(0, kept));
    EXPECT_THAT(message("cut.png"), ContainsRegex("is (not a|a damaged or incomplete) PNG file"))
        << kept;
  }
  folder.write("ragged.txt", "###\n##\n");
  EXPECT_THAT(message("ragged.txt"), HasSubstr("ragged.txt:2:3: row of 2 cells"));
  EXPECT_THAT(message("."), HasSubstr("is a folder"));
}

TEST(SetByName, TakesBudgetAndCameraKnobs) {
  SceneFile file;
  set_by_name(file, "cells.steps", "77");
  set_by_name(file, "camera.heading", "-30");
  EXPECT_EQ(file.budget.cells.steps, 77);
  EXPECT_DOUBLE_EQ(file.camera.heading, degrees(-30));
  try {
    set_by_name(file, "heading", "3");
    FAIL();
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), HasSubstr("did you mean camera.heading (number"));
  }
  EXPECT_THROW(set_by_name(file, "camera.zoom", "3"), Error);
}

TEST(SceneReference, IsWhatTheDocumentationSays) {
  std::ifstream file(PHOTONLANE_SOURCE "/docs/scene-reference.md");
  const std::string text((std::istreambuf_iterator<char>(file)), {});
  EXPECT_EQ(text, scene_reference())
      << "photonlane describe --as markdown > docs/scene-reference.md";
}

TEST(SceneSchema, KnowsEveryKeyTheReaderTakes) {
  const auto schema = nlohmann::json::parse(scene_schema());
  const auto& budget = schema["$defs"]["budget"]["properties"];
  for (const Knob<Budget>& entry : budget_knobs()) {
    const nlohmann::json* place = &budget;
    std::string_view rest = entry.info.name;
    for (auto dot = rest.find('.'); dot != rest.npos; dot = rest.find('.')) {
      place = &(*place)[std::string(rest.substr(0, dot))]["properties"];
      rest = rest.substr(dot + 1);
    }
    EXPECT_TRUE(place->contains(std::string(rest))) << entry.info.name;
  }
  EXPECT_EQ(schema["$defs"]["cells"]["properties"]["repeat"]["type"], "boolean");
  EXPECT_EQ(schema["$defs"]["scene"]["additionalProperties"], false);
}

}  // namespace
}  // namespace photonlane::io
